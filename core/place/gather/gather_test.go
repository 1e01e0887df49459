package gather_test

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/core/place/gather"
)

var ctx = context.Background()

func open(t *testing.T, files ...string) place.Place {
	dir := t.TempDir()
	for _, f := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, f)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, f), []byte(f), 0o600))
	}
	end, err := folder.OpenEndpoint("studio", dir, folder.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { end.Close() })
	p, err := end.Open("")
	require.NoError(t, err)
	return p
}

func list(t *testing.T, p place.Place, prefix string, opts place.ListOptions) (keys []string) {
	for e, err := range p.List(ctx, prefix, opts) {
		require.NoError(t, err)
		keys = append(keys, e.Key)
	}
	return keys
}

func TestGather(t *testing.T) {
	a := open(t, "cards/1/x.wav", "cards/1/y/z.wav", "cards/2/x.wav", "cards-b.txt")
	b := open(t, "deep/cards/q.wav", "deep/cards-b.txt", "other")
	keys := []string{"cards/", "cards-b.txt", "deep/cards/", "deep/cards-b.txt"}
	names := gather.Names(keys)
	assert.Equal(t, []string{"cards/", "cards-b.txt", "cards (2)/", "cards-b (2).txt"}, names)
	from := []place.Place{a, a, b, b}
	var items []gather.Item
	for i := range keys {
		items = append(items, gather.Item{From: from[i], Key: keys[i], As: names[i]})
	}
	p := gather.New("tray", items)
	all := []string{"cards (2)/q.wav", "cards-b (2).txt", "cards-b.txt", "cards/1/x.wav", "cards/1/y/z.wav",
		"cards/2/x.wav"}
	assert.Equal(t, all, list(t, p, "", place.ListOptions{}))
	for i := range all {
		assert.Equal(t, append([]string(nil), all[i+1:]...), list(t, p, "", place.ListOptions{After: all[i]}), all[i])
	}
	assert.Equal(t, []string{"cards (2)/", "cards-b (2).txt", "cards-b.txt", "cards/"},
		list(t, p, "", place.ListOptions{Shallow: true}))
	assert.Equal(t, []string{"cards/1/x.wav", "cards/1/y/"}, list(t, p, "cards/1/", place.ListOptions{Shallow: true}))
	r, e, err := p.Read(ctx, "cards (2)/q.wav", place.ReadOptions{})
	require.NoError(t, err)
	raw, _ := io.ReadAll(r)
	r.Close()
	assert.Equal(t, "deep/cards/q.wav", string(raw))
	assert.Equal(t, "cards (2)/q.wav", e.Key)
	_, err = p.Stat(ctx, object.Ref{Key: "cards (2)/gone"})
	assert.ErrorContains(t, err, "tray: stat cards (2)/gone")
	_, err = p.Stat(ctx, object.Ref{Key: "nothing"})
	assert.Equal(t, place.NotFound, place.KindOf(err))
	assert.Error(t, p.Remove(ctx, object.Ref{Key: "cards/1/x.wav", IfMark: "other"})[0])
	assert.Error(t, p.Remove(ctx, object.Ref{Key: "nothing"})[0])

	there := open(t, "cards/1/x.wav", "cards (2)/old", "unrelated/a", "zz")
	assert.Equal(t, []string{"cards (2)/old", "cards/1/x.wav"}, list(t, p.Landing(there), "", place.ListOptions{}))
}
