package blob_test

import (
	"os"
	"testing"

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
	t.Run("snapshots", func(t *testing.T) { checkSnapshots(t, fresh(t, store)) })
	t.Run("signed access", func(t *testing.T) { checkAccess(t, addr, account, key) })
}
