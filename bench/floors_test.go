package main

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/place"
)

// A ratio is only as true as its floor: each does as much as it says, and not less.

func TestCannedListing(t *testing.T) {
	address, stop, err := serve(newCanned(3))
	require.NoError(t, err)
	defer stop()
	store, p, err := openAt(address)
	require.NoError(t, err)
	defer store.Close()
	n := 0
	for e, err := range p.List(ctx, "", place.ListOptions{}) {
		require.NoError(t, err)
		assert.NotEmpty(t, e.Key)
		n++
	}
	assert.Equal(t, 3*pageKeys, n)
	took, err := bareListing(2)
	require.NoError(t, err)
	assert.Positive(t, took)
}

func TestManyObjects(t *testing.T) {
	address, stop, err := serve(manyObjects(2500))
	require.NoError(t, err)
	defer stop()
	store, p, err := openAt(address)
	require.NoError(t, err)
	defer store.Close()
	n, last := 0, ""
	for e, err := range p.List(ctx, "", place.ListOptions{}) {
		require.NoError(t, err)
		require.Greater(t, e.Key, last)
		last = e.Key
		if n++; n%1000 == 1 {
			r, _, err := p.Read(ctx, e.Key, place.ReadOptions{})
			require.NoError(t, err)
			raw, err := io.ReadAll(r)
			require.NoError(t, err, "the checksum is that of the content")
			require.NoError(t, r.Close())
			assert.Equal(t, "tile "+e.Key, string(raw))
			assert.EqualValues(t, e.Size, len(raw))
		}
	}
	assert.Equal(t, 2500, n)
}

func TestBareWalk(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"a/b/c", "a/d", "a-b", "e"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o600))
	}
	assert.Equal(t, 4, bareWalk(dir))
	assert.Zero(t, bareWalk(filepath.Join(dir, "none")))
}

func TestAtOnce(t *testing.T) {
	var done, under, most atomic.Int64
	failed := errors.New("the seventh")
	err := atOnce(4, 50, func(i int) error {
		if n := under.Add(1); n > most.Load() {
			most.Store(n)
		}
		defer under.Add(-1)
		done.Add(1)
		if i == 7 {
			return failed
		}
		return nil
	})
	assert.ErrorIs(t, err, failed)
	assert.EqualValues(t, 50, done.Load(), "all are done, whatever fails")
	assert.LessOrEqual(t, most.Load(), int64(4))
	assert.Equal(t, 3*time.Second, median([]time.Duration{5 * time.Second, time.Second, 3 * time.Second}))
}

func TestPutBody(t *testing.T) {
	var got bytes.Buffer
	var signed string
	address, stop, err := serve(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		signed = r.Header.Get("Authorization")
		if io.Copy(&got, r.Body); r.URL.Path == "/full" {
			w.WriteHeader(http.StatusInsufficientStorage)
		}
	}))
	require.NoError(t, err)
	defer stop()
	client := &http.Client{}
	defer client.CloseIdleConnections()
	require.NoError(t, putBody(client, address+"/b/k", bytes.NewReader([]byte("content")), 7, newSigner()))
	assert.Equal(t, "content", got.String())
	assert.Contains(t, signed, "AWS4-HMAC-SHA256")
	require.NoError(t, putBody(client, address+"/b/k", bytes.NewReader(nil), 0, nil))
	assert.Empty(t, signed)
	assert.ErrorContains(t, putBody(client, address+"/full", bytes.NewReader(nil), 0, nil), "507",
		"a floor that was refused is none")
}
