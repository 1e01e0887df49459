package folder

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/placetest"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func open(t *testing.T, dir, sub string, opts Options) place.Place {
	end, err := OpenEndpoint("studio", dir, opts)
	require.NoError(t, err)
	t.Cleanup(func() { end.Close() })
	p, err := end.Open(sub)
	require.NoError(t, err)
	return p
}

func TestConformance(t *testing.T) {
	t.Run("root", func(t *testing.T) {
		placetest.Run(t, func(t *testing.T) place.Place { return open(t, t.TempDir(), "", Options{}) },
			placetest.Options{})
	})
	t.Run("subfolder, synced", func(t *testing.T) {
		placetest.Run(t, func(t *testing.T) place.Place {
			dir := t.TempDir()
			require.NoError(t, os.Mkdir(filepath.Join(dir, "masters"), 0o755))
			return open(t, dir, "masters", Options{Sync: true})
		}, placetest.Options{})
	})
}

var ctx = context.Background()

// Nothing outside the root is read, written or listed, whatever links say.
func TestStaysInside(t *testing.T) {
	outside := filepath.Join(t.TempDir(), "outside")
	require.NoError(t, os.MkdirAll(outside, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(outside, "secret"), []byte("s"), 0o644))
	dir := t.TempDir()
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "out")))
	require.NoError(t, os.Symlink(filepath.Join(outside, "secret"), filepath.Join(dir, "link")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "file"), []byte("f"), 0o644))
	p := open(t, dir, "", Options{})
	kinds := map[string]object.Kind{}
	for e, err := range p.List(ctx, "", place.ListOptions{}) {
		require.NoError(t, err)
		kinds[e.Key] = e.Kind
	}
	assert.Equal(t, map[string]object.Kind{"file": object.Object, "link": object.Special, "out": object.Special}, kinds)
	for _, key := range []string{"out/secret", "link", "../outside/secret", "/etc/hostname"} {
		_, _, err := p.Read(ctx, key, place.ReadOptions{})
		assert.Error(t, err, key)
	}
	_, err := p.Write(ctx, "out/new", strings.NewReader("n"), 1, place.WriteOptions{})
	assert.Error(t, err)
	_, err = p.Write(ctx, "file/below", strings.NewReader("n"), 1, place.WriteOptions{})
	assert.Equal(t, place.BadName, place.KindOf(err), "%v", err)
	left, _ := os.ReadDir(outside)
	assert.Len(t, left, 1)
}

// A file written to while it is read is not passed off as good.
func TestChangeWhileReading(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "growing.wav")
	for what, change := range map[string]func() error{
		"grows":   func() error { return os.WriteFile(name, make([]byte, 2<<20), 0o644) },
		"shrinks": func() error { return os.Truncate(name, 10) },
	} {
		require.NoError(t, os.WriteFile(name, make([]byte, 1<<20), 0o644))
		p := open(t, dir, "", Options{})
		r, _, err := p.Read(ctx, "growing.wav", place.ReadOptions{})
		require.NoError(t, err)
		_, err = io.ReadFull(r, make([]byte, 100))
		require.NoError(t, err)
		require.NoError(t, change())
		_, err = io.Copy(io.Discard, r)
		assert.Equal(t, place.Changed, place.KindOf(err), what)
		r.Close()
	}
}

// A folder that cannot be read is an error with its key, and the rest is listed.
func TestUnreadableParts(t *testing.T) {
	dir := t.TempDir()
	var want []string
	for i := range 30 { // more than are read ahead
		sub := fmt.Sprintf("%02d", i)
		want = append(want, sub+"/x")
		require.NoError(t, os.Mkdir(filepath.Join(dir, sub), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, sub, "x"), nil, 0o644))
	}
	p := open(t, dir, "", Options{})
	next := 0
	var keys []string
	var failed []error
	for e, err := range p.List(ctx, "", place.ListOptions{}) {
		if next++; next == 1 { // root may read anything, so the folder goes away and a file comes
			require.NoError(t, os.RemoveAll(filepath.Join(dir, "28")))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "28"), nil, 0o644))
		}
		if err != nil {
			failed = append(failed, err)
			continue
		}
		keys = append(keys, e.Key)
	}
	assert.Equal(t, slices.Delete(want, 28, 29), keys)
	require.Len(t, failed, 1)
	assert.Contains(t, failed[0].Error(), "28/")
}
