package blob_test

import (
	"os"
	"testing"

	"lumtra/core/place/blob"
	"lumtra/core/secret"
)

// TestInterop runs the suite against a real server. `make interop` starts one
// and names it in LUMTRA_INTEROP_BLOB.
func TestInterop(t *testing.T) {
	addr := os.Getenv("LUMTRA_INTEROP_BLOB")
	if addr == "" {
		return
	}
	conform(t, connect(t, blob.Config{Address: addr, Account: os.Getenv("LUMTRA_INTEROP_BLOB_ACCOUNT"), Key: secret.New(os.Getenv("LUMTRA_INTEROP_BLOB_KEY"))}))
}
