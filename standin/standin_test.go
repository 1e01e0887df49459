package standin_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/aws/aws-sdk-go-v2/service/s3/types"
	"github.com/aws/smithy-go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"lumtra/standin"
)

// The S3 place's conformance suite exercises most of the stand-in. Here the
// SDK's own client asks for the rest, so that what the stand-in answers is
// what others expect too.

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

var ctx = context.Background()

func client(addr string) (*s3.Client, func()) {
	web := &http.Client{Transport: &http.Transport{}}
	return s3.New(s3.Options{
		BaseEndpoint: &addr, Region: "us-east-1", UsePathStyle: true, HTTPClient: web, Retryer: aws.NopRetryer{},
		Credentials: aws.CredentialsProviderFunc(func(context.Context) (aws.Credentials, error) {
			return aws.Credentials{AccessKeyID: "k", SecretAccessKey: "s"}, nil
		}),
	}), web.CloseIdleConnections
}

func start(t *testing.T, dir string) (*standin.Server, *s3.Client) {
	srv, err := standin.New(standin.Config{Dir: dir, Keys: []standin.Key{{Access: "k", Secret: "s"}}})
	require.NoError(t, err)
	addr, err := srv.Start("127.0.0.1:0")
	require.NoError(t, err)
	c, done := client(addr)
	t.Cleanup(func() { done(); srv.Close() })
	return srv, c
}

func put(t *testing.T, c *s3.Client, key, text string) string {
	out, err := c.PutObject(ctx, &s3.PutObjectInput{Bucket: aws.String("b-1"), Key: &key,
		Body: strings.NewReader(text)})
	require.NoError(t, err)
	return aws.ToString(out.VersionId)
}

func get(t *testing.T, c *s3.Client, in *s3.GetObjectInput) string {
	in.Bucket = aws.String("b-1")
	out, err := c.GetObject(ctx, in)
	require.NoError(t, err)
	defer out.Body.Close()
	raw, err := io.ReadAll(out.Body)
	require.NoError(t, err)
	return string(raw)
}

func code(err error) string {
	var api smithy.APIError
	if errors.As(err, &api) {
		return api.ErrorCode()
	}
	return fmt.Sprint(err)
}

func TestVersionsSurviveRestart(t *testing.T) {
	dir := t.TempDir()
	srv, c := start(t, dir)
	b := aws.String("b-1")
	_, err := c.CreateBucket(ctx, &s3.CreateBucketInput{Bucket: b})
	require.NoError(t, err)
	_, err = c.CreateBucket(ctx, &s3.CreateBucketInput{Bucket: aws.String("Not A Name")})
	assert.Error(t, err)
	put(t, c, "take.wav", "unversioned")
	_, err = c.PutBucketVersioning(ctx,
		&s3.PutBucketVersioningInput{Bucket: b,
			VersioningConfiguration: &types.VersioningConfiguration{Status: types.BucketVersioningStatusEnabled}})
	require.NoError(t, err)
	first, second := put(t, c, "take.wav", "first"), put(t, c, "take.wav", "second")
	big := strings.Repeat("big ", 100_000)
	put(t, c, "big.wav", big)
	_, err = c.DeleteObject(ctx, &s3.DeleteObjectInput{Bucket: b, Key: aws.String("take.wav")})
	require.NoError(t, err)
	_, err = c.PutObjectTagging(ctx, &s3.PutObjectTaggingInput{Bucket: b, Key: aws.String("big.wav"),
		Tagging: &types.Tagging{TagSet: []types.Tag{{Key: aws.String("site"), Value: aws.String("weir")}}}})
	require.NoError(t, err)

	_, err = standin.New(standin.Config{Dir: dir})
	assert.ErrorIs(t, err, standin.ErrInUse)
	addr, err := standin.Address(dir)
	assert.NoError(t, err)
	assert.Contains(t, addr, "127.0.0.1")
	require.NoError(t, srv.Close())
	// A crash may cut the last line short; the rest counts.
	journal, err := os.OpenFile(dir+"/b-1/journal", os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	journal.WriteString(`{"Put":{"Key":"half`)
	journal.Close()
	_, c = start(t, dir)

	v, err := c.GetBucketVersioning(ctx, &s3.GetBucketVersioningInput{Bucket: b})
	require.NoError(t, err)
	assert.Equal(t, types.BucketVersioningStatusEnabled, v.Status)
	_, err = c.GetObject(ctx, &s3.GetObjectInput{Bucket: b, Key: aws.String("take.wav")})
	assert.Equal(t, "NoSuchKey", code(err))
	assert.Equal(t, "first", get(t, c, &s3.GetObjectInput{Key: aws.String("take.wav"), VersionId: &first}))
	assert.Equal(t, "second", get(t, c, &s3.GetObjectInput{Key: aws.String("take.wav"), VersionId: &second}))
	assert.Equal(t, "unversioned",
		get(t, c, &s3.GetObjectInput{Key: aws.String("take.wav"), VersionId: aws.String("null")}))
	assert.Equal(t, big, get(t, c, &s3.GetObjectInput{Key: aws.String("big.wav")}))
	tags, err := c.GetObjectTagging(ctx, &s3.GetObjectTaggingInput{Bucket: b, Key: aws.String("big.wav")})
	require.NoError(t, err)
	assert.Equal(t, "weir", *tags.TagSet[0].Value)

	// Versions come newest first, a page at a time.
	var found []string
	var marker types.DeleteMarkerEntry
	pages := s3.NewListObjectVersionsPaginator(c, &s3.ListObjectVersionsInput{Bucket: b, MaxKeys: aws.Int32(2)})
	for pages.HasMorePages() {
		out, err := pages.NextPage(ctx)
		require.NoError(t, err)
		for _, v := range out.Versions {
			found = append(found, *v.Key+" "+*v.VersionId)
		}
		if len(out.DeleteMarkers) > 0 {
			marker = out.DeleteMarkers[0]
		}
	}
	require.Len(t, found, 4)
	assert.Equal(t, []string{"take.wav " + second, "take.wav " + first, "take.wav null"}, found[1:])
	assert.True(t, *marker.IsLatest)
	_, err = c.DeleteObject(ctx, &s3.DeleteObjectInput{Bucket: b, Key: aws.String("take.wav"),
		VersionId: marker.VersionId})
	require.NoError(t, err)
	assert.Equal(t, "second", get(t, c, &s3.GetObjectInput{Key: aws.String("take.wav")}), "undeleted")
	_, err = c.DeleteBucket(ctx, &s3.DeleteBucketInput{Bucket: b})
	assert.Equal(t, "BucketNotEmpty", code(err))
}

func TestOldListingCopiesAndSignedLinks(t *testing.T) {
	_, c := start(t, t.TempDir())
	b := aws.String("b-1")
	_, err := c.CreateBucket(ctx, &s3.CreateBucketInput{Bucket: b})
	require.NoError(t, err)
	for i := range 7 {
		put(t, c, fmt.Sprintf("a/%d", i), "x")
		put(t, c, fmt.Sprintf("b%d", i), "x")
	}
	var keys, groups []string
	marker := (*string)(nil)
	for {
		out, err := c.ListObjects(ctx, &s3.ListObjectsInput{Bucket: b, Delimiter: aws.String("/"),
			MaxKeys: aws.Int32(3), Marker: marker})
		require.NoError(t, err)
		for _, x := range out.Contents {
			keys = append(keys, *x.Key)
		}
		for _, x := range out.CommonPrefixes {
			groups = append(groups, *x.Prefix)
		}
		if marker = out.NextMarker; !*out.IsTruncated {
			break
		}
	}
	assert.Equal(t, []string{"b0", "b1", "b2", "b3", "b4", "b5", "b6"}, keys)
	assert.Equal(t, []string{"a/"}, groups)

	whole := strings.Repeat("0123456789", 1<<20)
	put(t, c, "whole.wav", whole)
	up, err := c.CreateMultipartUpload(ctx, &s3.CreateMultipartUploadInput{Bucket: b, Key: aws.String("joined.wav")})
	require.NoError(t, err)
	var parts []types.CompletedPart
	for i, span := range []string{"bytes=0-5242879", "bytes=5242880-10485759"} {
		out, err := c.UploadPartCopy(ctx, &s3.UploadPartCopyInput{Bucket: b, Key: aws.String("joined.wav"),
			UploadId:   up.UploadId,
			PartNumber: aws.Int32(int32(i + 1)), CopySource: aws.String("b-1/whole.wav"), CopySourceRange: &span})
		require.NoError(t, err)
		parts = append(parts, types.CompletedPart{PartNumber: aws.Int32(int32(i + 1)), ETag: out.CopyPartResult.ETag})
	}
	_, err = c.CompleteMultipartUpload(ctx, &s3.CompleteMultipartUploadInput{Bucket: b, Key: aws.String("joined.wav"),
		UploadId:        up.UploadId,
		MultipartUpload: &types.CompletedMultipartUpload{Parts: []types.CompletedPart{parts[1], parts[0]}}})
	assert.Equal(t, "InvalidPartOrder", code(err))
	_, err = c.CompleteMultipartUpload(ctx, &s3.CompleteMultipartUploadInput{Bucket: b, Key: aws.String("joined.wav"),
		UploadId:        up.UploadId,
		MultipartUpload: &types.CompletedMultipartUpload{Parts: parts}})
	require.NoError(t, err)
	assert.Equal(t, whole, get(t, c, &s3.GetObjectInput{Key: aws.String("joined.wav")}))

	_, err = c.PutObject(ctx, &s3.PutObjectInput{Bucket: b, Key: aws.String("cold.wav"),
		Body: strings.NewReader("cold"), StorageClass: types.StorageClassGlacier})
	require.NoError(t, err)
	cold, err := c.ListObjectsV2(ctx, &s3.ListObjectsV2Input{Bucket: b, Prefix: aws.String("cold")})
	require.NoError(t, err)
	assert.Equal(t, types.ObjectStorageClassGlacier, cold.Contents[0].StorageClass)

	// A signed link works as it is, and only as it is.
	link, err := s3.NewPresignClient(c).PresignGetObject(ctx, &s3.GetObjectInput{Bucket: b, Key: aws.String("a/1")},
		s3.WithPresignExpires(time.Minute))
	require.NoError(t, err)
	for url, want := range map[string]int{link.URL: 200, strings.Replace(link.URL, "a/1", "a/2", 1): 403,
		strings.Replace(link.URL, "X-Amz-Expires=60", "X-Amz-Expires=0", 1): 403,
		strings.Split(link.URL, "?")[0]:                                     403} {
		req, _ := http.NewRequest(http.MethodGet, url, nil)
		resp, err := (&http.Transport{DisableKeepAlives: true}).RoundTrip(req)
		require.NoError(t, err)
		body, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		assert.Equal(t, want, resp.StatusCode, "%s", body)
		assert.Equal(t, want == 200, bytes.Equal(body, []byte("x")))
	}
}

func TestFaultWords(t *testing.T) {
	for text, want := range map[string]standin.Fault{
		"503@5%":                    {Do: "503", Chance: 0.05},
		"latency=40ms":              {Do: "latency", Wait: 40 * time.Millisecond},
		"PutObject:reset-after@0.1": {Op: "PutObject", Do: "reset-after", Chance: 0.1},
		"List*:stall=2s":            {Op: "List*", Do: "stall", Wait: 2 * time.Second},
	} {
		got, _, err := standin.ParseFault(text)
		assert.NoError(t, err)
		assert.Equal(t, want, got)
	}
	_, speed, err := standin.ParseFault("speed=40MB")
	assert.NoError(t, err)
	assert.EqualValues(t, 40_000_000, speed)
	for _, bad := range []string{"", "moon", "503@200%", "latency", "speed=fast", "503@often"} {
		_, _, err := standin.ParseFault(bad)
		assert.Error(t, err, bad)
	}
}

// A name that a stranger's page has lead to loopback gets nothing, whatever is asked
// and in whichever dialect.
func TestAnswersToItsOwnNamesOnly(t *testing.T) {
	for _, cfg := range []standin.Config{{Public: true}, {Public: true, Domain: "marsh.test"}, {API: standin.BlobAPI}} {
		cfg.Dir = t.TempDir()
		srv, err := standin.New(cfg)
		require.NoError(t, err)
		addr, err := srv.Start("127.0.0.1:0")
		require.NoError(t, err)
		web := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
		for host, own := range map[string]bool{
			"": true, "localhost": true, "LOCALHOST:80": true, "b-1.localhost": true, "[::1]:9": true, "10.0.0.1": true,
			"marsh.test": cfg.Domain != "", "b-1.marsh.test:1": cfg.Domain != "",
			"evil.example": false, "localhost.evil.example": false, "127.0.0.1.evil.example:80": false,
			"xmarsh.test": false,
		} {
			r, err := http.NewRequest(http.MethodGet, addr+"/", nil)
			require.NoError(t, err)
			r.Host = host
			resp, err := web.Do(r)
			require.NoError(t, err)
			resp.Body.Close()
			assert.Equal(t, own, resp.StatusCode != http.StatusMisdirectedRequest, "%q: %d", host, resp.StatusCode)
		}
		require.NoError(t, srv.Close())
	}
}
