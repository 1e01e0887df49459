package blob_test

import (
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place/blob"
	"lumtra/core/place/placetest"
	"lumtra/core/secret"
)

// TestInterop runs the suite against a real server. `make interop` starts one
// and names it in LUMTRA_INTEROP_BLOB.
func TestInterop(t *testing.T) {
	addr := os.Getenv("LUMTRA_INTEROP_BLOB")
	if addr == "" {
		return
	}
	account, key := os.Getenv("LUMTRA_INTEROP_BLOB_ACCOUNT"), os.Getenv("LUMTRA_INTEROP_BLOB_KEY")
	store := connect(t, blob.Config{Address: addr, Account: account, Key: secret.New(key)})
	conform(t, store, placetest.Options{})
	t.Run("verifies", func(t *testing.T) {
		kinds, err := fresh(t, store).(*blob.Place).Verifies(ctx, "probe")
		require.NoError(t, err)
		t.Logf("it verifies %v", kinds)
		assert.Contains(t, kinds, object.MD5)
		if slices.Contains(kinds, object.CRC64NVME) { // and it takes the right one
			p := fresh(t, connect(t, blob.Config{Address: addr, Account: account, Key: secret.New(key), CRC64: true}))
			put(t, p, "crc.wav", "verified")
			assert.Equal(t, "verified", get(t, p, "crc.wav", ""))
		}
	})
	t.Run("snapshots", func(t *testing.T) { checkSnapshots(t, fresh(t, store)) })
	t.Run("signed access", func(t *testing.T) { checkAccess(t, addr, account, key) })
}
