package pack_test

import (
	"archive/tar"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/testkit"
)

// whenRead does something whenever an object is read.
type whenRead struct {
	place.Place
	do func()
}

func (w *whenRead) Read(ctx context.Context, key string, o place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	body, e, err := w.Place.Read(ctx, key, o)
	w.do()
	return body, e, err
}

// A folder of this machine that is not there, or goes while it is used, is no pack that is not there, no member that
// is gone, and no archive that is damaged: each would have things be left out, or counted as deleted.
func TestOwnFilesAreNoObjects(t *testing.T) {
	testkit.Heavy(t)
	dir, state := t.TempDir(), t.TempDir()
	p := outside(t, dir)
	own := func(err error, what string) {
		t.Helper()
		var told *place.Error
		require.ErrorAs(t, err, &told, what)
		assert.True(t, told.Own() && told.Kind == place.Other, "%s: %v", what, err)
	}
	twoPacks(t, p)
	before := inside(t, p, "two.tar")
	require.NoError(t, os.WriteFile(filepath.Join(state, "file"), nil, 0o600))
	missing := pack.Keeping{Dir: filepath.Join(state, "file", "none"), Index: func(key string) string {
		return filepath.Join(state, "kept", key)
	}}
	in := pack.In(p, "two.tar", "")
	in.Keep(missing)
	own(in.Remove(t.Context(), object.Ref{Key: "takes/c"})[0], "remove")
	_, err := in.Rewrite(t.Context(), pack.Options{})
	own(err, "rewrite")
	set := pack.NewSet(p, ".tar", p, "", missing)
	own(set.Remove(t.Context(), object.Ref{Key: "takes/c"})[0], "remove from one of several")
	assert.Equal(t, before, inside(t, p, "two.tar"))

	f, err := os.Create(filepath.Join(dir, "foreign.tar"))
	require.NoError(t, err)
	w := tar.NewWriter(f)
	for i := range 100 {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: strings.Repeat("a", 240) + fmt.Sprint(i), Mode: 0o600}))
	}
	require.NoError(t, w.Close())
	require.NoError(t, f.Close())
	index := func(string) string { return filepath.Join(state, "kept", "foreign") }
	list := func(p place.Place, where pack.Keeping) (n int, err error) {
		in := pack.In(p, "foreign.tar", "")
		in.Keep(where)
		for _, failed := range in.List(t.Context(), "", place.ListOptions{}) {
			n, err = n+1, failed
		}
		return n, err
	}
	_, err = list(p, missing)
	own(err, "no folder")
	_, err = list(&whenRead{p, func() {
		left, _ := filepath.Glob(filepath.Join(state, pack.ScratchFolders))
		for _, path := range left {
			require.NoError(t, os.RemoveAll(path))
		}
	}}, pack.Keeping{Dir: state, Index: index})
	own(err, "the folder goes")
	_, err = list(p, pack.Keeping{Dir: state, Index: func(string) string { return filepath.Join(state, "file", "x") }})
	own(err, "no place for the index")
	n, err := list(p, pack.Keeping{Dir: state, Index: index})
	require.NoError(t, err)
	assert.Equal(t, 100, n)
}
