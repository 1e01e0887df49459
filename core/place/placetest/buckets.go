package placetest

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/place"
)

// Buckets holds what an endpoint does with what belongs to a bucket and not to its objects:
// its tags come back as they were set, and who may reach it is told as it was changed.
// lacks says what a server is known not to do, in whose place it is skipped.
func Buckets(t *testing.T, e place.Endpoint, bucket string, lacks func(what string) bool) {
	ctx := context.Background()
	can := place.EndpointCan(e)
	require.NotNil(t, can.Buckets)
	require.NoError(t, can.Buckets.MakeBucket(ctx, bucket))
	defer func() { assert.NoError(t, can.Buckets.RemoveBucket(ctx, bucket)) }()
	t.Run("bucket tags", func(t *testing.T) {
		if lacks("tags") {
			t.Skip("this server is known not to keep tags of buckets")
		}
		tags, err := can.Tags.BucketTags(ctx, bucket)
		require.NoError(t, err)
		assert.Empty(t, tags)
		for _, want := range []map[string]string{{"owner": "archive", "season": "spring tide"}, {"owner": "marsh"},
			{}} {
			require.NoError(t, can.Tags.SetBucketTags(ctx, bucket, want))
			tags, err = can.Tags.BucketTags(ctx, bucket)
			require.NoError(t, err)
			assert.Equal(t, want, tags)
		}
		_, err = can.Tags.BucketTags(ctx, bucket+"-missing")
		assert.Error(t, err)
	})
	t.Run("bucket access", func(t *testing.T) {
		if lacks("access") {
			t.Skip("this server is known not to tell who may reach a bucket")
		}
		for _, public := range []place.Public{place.PublicNo, place.PublicRead, place.PublicList, place.PublicRead,
			place.PublicNo} {
			require.NoError(t, can.Access.SetPublic(ctx, bucket, public))
			is, err := can.Access.Access(ctx, bucket)
			require.NoError(t, err)
			assert.Equal(t, public, is.Public, "%v", is.Words)
		}
		_, err := can.Access.Access(ctx, bucket+"-missing")
		assert.Error(t, err)
	})
}
