package catalog_test

import (
	"context"
	"fmt"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/catalog"
	"lumtra/core/object"
	"lumtra/core/place"
)

// listed is a place that is nothing but its listing.
type listed struct {
	place.Place
	keys []string
	gap  error // behind the keys
}

func (l *listed) Name() string               { return "listed" }
func (l *listed) Abilities() place.Abilities { return place.Abilities{} }

func (l *listed) List(_ context.Context, prefix string, _ place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		for _, k := range l.keys {
			if strings.HasPrefix(k, prefix) &&
				!yield(object.Entry{Key: k, Size: int64(len(k)), Modified: time.Unix(1, 0)}, nil) {
				return
			}
		}
		if l.gap != nil {
			yield(object.Entry{}, l.gap)
		}
	}
}

// A survey of a part takes the rest from the older one: its objects, its gaps, and its
// age. What is gone in the part is gone, what is new is there, and nothing else moves.
func TestPartOfASurvey(t *testing.T) {
	dir := t.TempDir()
	p := &listed{keys: []string{"a", "b/1", "b/2", "b0", "c"},
		gap: place.NewError("listed", "list", "d/", place.Denied, nil)}
	old, err := catalog.Survey(t.Context(), p, filepath.Join(dir, "old"), catalog.Options{})
	require.NoError(t, err)
	defer old.Close()
	require.EqualValues(t, 1, old.Info.Missed)
	for prefix, c := range map[string]struct{ now, want []string }{
		"b/": {[]string{"a2", "b/2", "b/3", "c2"}, []string{"a", "b/2", "b/3", "b0", "c"}},
		"a":  {nil, []string{"b/1", "b/2", "b0", "c"}},
		"c":  {[]string{"c", "c/1", "d"}, []string{"a", "b/1", "b/2", "b0", "c", "c/1"}},
		"x/": {[]string{"x/1", "y"}, []string{"a", "b/1", "b/2", "b0", "c", "x/1"}},
		"b":  {[]string{"b", "ba"}, []string{"a", "b", "ba", "c"}},
	} {
		p.keys, p.gap = c.now, nil
		part, err := catalog.Survey(t.Context(), p, filepath.Join(dir, "part"),
			catalog.Options{Old: old, Prefix: prefix})
		require.NoError(t, err, prefix)
		var keys []string
		for cur := part.Cursor(""); cur.Next(); {
			keys = append(keys, cur.Entry().Key)
		}
		assert.Equal(t, c.want, keys, prefix)
		assert.EqualValues(t, len(c.want), part.Info.Objects)
		assert.False(t, part.Info.Complete(), "the older gap is still one")
		assert.Equal(t, old.Info.Problems, part.Info.Problems)
		assert.True(t, part.Info.Began.Equal(old.Info.Began), "as old as its older part")
		require.NoError(t, part.Close())
	}
	p.keys, p.gap = []string{"b/1"}, place.NewError("listed", "list", "b/x/", place.Denied, nil)
	part, err := catalog.Survey(t.Context(), p, filepath.Join(dir, "part"), catalog.Options{Old: old, Prefix: "b/"})
	require.NoError(t, err)
	defer part.Close()
	assert.EqualValues(t, 2, part.Info.Missed, "and a new one comes beside it")
	assert.True(t, slices.Contains(part.Info.Problems, p.gap.Error()))
}

// disorderly is a place whose first listing turns out not to be in order.
type disorderly struct {
	listed
	times int
}

func (d *disorderly) List(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	d.times++
	first := d.times == 1
	return func(yield func(object.Entry, error) bool) {
		for e, err := range d.listed.List(ctx, prefix, opts) {
			if !yield(e, err) {
				return
			}
		}
		if first {
			yield(object.Entry{}, place.NewError("listed", "list", "", place.ServerFault, place.ErrDisorder))
		}
	}
}

// What is told of a survey on its way is what is in it at the end, also where it had to
// begin anew; an entry that no object can have ends it.
func TestProgressIsWhatIsThere(t *testing.T) {
	dir := t.TempDir()
	var progress catalog.Progress
	p := &disorderly{listed: listed{keys: []string{"a", "bb", "ccc"}}}
	c, err := catalog.Survey(t.Context(), p, filepath.Join(dir, "c"), catalog.Options{Progress: &progress})
	require.NoError(t, err)
	defer c.Close()
	assert.Equal(t, 2, p.times)
	assert.Equal(t, []int64{3, 6, 3}, []int64{progress.Objects.Load(), progress.Bytes.Load(), c.Info.Objects})
	assert.True(t, c.Info.Complete())

	insane := &sized{listed{keys: []string{"a"}}, -1}
	_, err = catalog.Survey(t.Context(), insane, filepath.Join(dir, "d"), catalog.Options{})
	assert.Equal(t, place.ServerFault, place.KindOf(err), "%v", err)
	assert.NoFileExists(t, filepath.Join(dir, "d"))
	backwards := &listed{keys: []string{"b", "a"}}
	_, err = catalog.Survey(t.Context(), backwards, filepath.Join(dir, "e"), catalog.Options{})
	assert.ErrorContains(t, err, "not in byte order")
}

// sized lists objects of one size.
type sized struct {
	listed
	size int64
}

func (s *sized) List(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		for e, err := range s.listed.List(ctx, prefix, opts) {
			e.Size = s.size
			if !yield(e, err) {
				return
			}
		}
	}
}

// What is damaged in the older survey is an error of the one that takes its rest from it, never a survey of less.
func TestPartOfADamagedSurvey(t *testing.T) {
	dir := t.TempDir()
	var list []object.Entry
	for i := range 50_000 {
		list = append(list, object.Entry{Key: fmt.Sprintf("tiles/%06d", i), Size: int64(i * i), Latest: true})
	}
	path := filepath.Join(dir, "old")
	build(t, path, list).Close()
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	refused := 0
	for at := 0; at < len(whole); at += len(whole)/13 + 1 {
		require.NoError(t, os.WriteFile(path, flip(whole, at), 0o600))
		old, err := catalog.Open(path)
		if err != nil {
			continue
		}
		p := &listed{keys: []string{"tiles/002500"}}
		part, err := catalog.Survey(t.Context(), p, filepath.Join(dir, "part"),
			catalog.Options{Old: old, Prefix: "tiles/0025"})
		if err == nil {
			assert.EqualValues(t, 49_901, part.Info.Objects, "flipped at %d", at)
			require.NoError(t, part.Close())
		} else {
			refused++
		}
		require.NoError(t, old.Close())
	}
	assert.Positive(t, refused)
}
