package s3_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lumtra/core/place"
	"lumtra/core/place/placetest"
	"lumtra/core/place/s3"
	"lumtra/core/secret"
)

// TestInterop runs the suite against a real server. `make interop` starts one
// and names it in LUMTRA_INTEROP_S3.
func TestInterop(t *testing.T) {
	addr := os.Getenv("LUMTRA_INTEROP_S3")
	if addr == "" {
		return // the other tests use the stand-in
	}
	store, err := s3.NewStore(s3.Config{Name: "real-store", Address: addr,
		AccessKey: os.Getenv("LUMTRA_INTEROP_ACCESS"), Secret: secret.New(os.Getenv("LUMTRA_INTEROP_SECRET"))})
	require.NoError(t, err)
	defer store.Close()
	placetest.Run(t, func(t *testing.T) place.Place { return fresh(t, store, "masters/2026") }, placetest.Options{Mangles: fileNames,
		Versioned: func(t *testing.T) place.Place { return keeping(t, store) }})
}

// fileNames tells keys that a server which keeps objects as files cannot hold
// as they are: it joins parts as paths, and its listings, being XML without
// the encoding that was asked for, have no way to write most control bytes.
func fileNames(key string) bool {
	if strings.ContainsFunc(key, func(r rune) bool { return r < ' ' && r != '\n' && r != '\t' }) {
		return true
	}
	for _, part := range strings.Split(key, "/") {
		if part == "" || part == "." || part == ".." || len(part) >= 255 {
			return true
		}
	}
	return false
}
