package blob_test

import (
	"context"
	"fmt"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"lumtra/core/place"
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
	store, err := blob.NewStore(blob.Config{Name: "hill-store", Address: addr, Account: os.Getenv("LUMTRA_INTEROP_BLOB_ACCOUNT"), Key: secret.New(os.Getenv("LUMTRA_INTEROP_BLOB_KEY"))})
	require.NoError(t, err)
	defer store.Close()
	serial := 0
	placetest.Run(t, func(t *testing.T) place.Place {
		serial++
		name := fmt.Sprintf("box-%d", serial)
		require.NoError(t, store.MakeBucket(context.Background(), name))
		p, err := store.Open(name + "/masters/2026")
		require.NoError(t, err)
		return p
	}, placetest.Options{ImplicitUploads: true})
}
