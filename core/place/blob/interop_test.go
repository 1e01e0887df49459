package blob_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/place"
	"lumtra/core/place/blob"
	"lumtra/core/place/placetest"
	"lumtra/core/secret"
)

// TestInterop runs the suite against the real servers that `make interop` starts,
// in the ways that a test found them to take.
func TestInterop(t *testing.T) {
	for _, s := range placetest.Servers("BLOB") {
		t.Run(s.Name, func(t *testing.T) {
			known := place.NewKnown(place.Facts{}, nil)
			store := connect(t, blob.Config{Address: s.Address, Account: s.Access, Key: secret.New(s.Secret),
				Known: known})
			facts, err := fresh(t, store).(*blob.Place).Examine(ctx, "probe/")
			require.NoError(t, err)
			t.Logf("%s: %+v", facts.Server, facts.Answers)
			assert.Equal(t, place.Works, facts.Answers[place.MD5Ahead])
			known.Replace(facts)
			conform(t, store, placetest.Options{})
			placetest.Buckets(t, store, "belongs-to-it", nothing)
			t.Run("snapshots", func(t *testing.T) { checkSnapshots(t, fresh(t, store)) })
			t.Run("signed access", func(t *testing.T) { checkAccess(t, s.Address, s.Access, s.Secret) })
		})
	}
}
