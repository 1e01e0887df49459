package agreed_test

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/agreed"
	"lumtra/core/object"
	"lumtra/testkit"
)

func entry(size int) object.Entry {
	return object.Entry{Size: int64(size), Modified: time.Unix(int64(size), 0), ETag: fmt.Sprint("tag ", size)}
}

// state is one key's as a test sees it.
type state struct {
	size  int
	doubt string // "", "other" or "unlooked"
}

func read(t require.TestingT, path string) map[string]state {
	s, err := agreed.Open(path, "a", "b")
	require.NoError(t, err)
	defer s.Close()
	all := map[string]state{}
	doubts := int64(0)
	for c := s.Cursor(""); c.Next(); {
		x := c.State()
		require.NotNil(t, x)
		found := state{size: int(x.Source.Size)}
		there, other := entry(found.size+1), entry(found.size+2)
		switch {
		case !x.Doubt:
			require.False(t, x.Doubts(&there))
		case x.Doubts(&other): // whatever is there
			found.doubt = "unlooked"
		default:
			found.doubt = "other"
			require.True(t, x.Doubts(&there))
		}
		require.False(t, x.Doubts(nil), "what is gone is in nobody's doubt")
		if x.Doubt {
			doubts++
		}
		all[c.Key()] = found
	}
	require.Equal(t, doubts, s.Info.Doubts)
	require.EqualValues(t, len(all), s.Info.Objects)
	return all
}

// Doubts are kept with their kind; what a comparison finds different comes in among
// the rest, and one of everything takes those away that it did not find.
func TestDoubts(t *testing.T) {
	dir, n := t.TempDir(), 0
	testkit.Check(t, func(t *rapid.T) {
		n++
		path := filepath.Join(dir, fmt.Sprint(n))
		want := map[string]state{}
		for _, key := range rapid.SliceOf(rapid.SampledFrom([]string{"a", "b", "c", "d/e", "f"})).Draw(t, "keys") {
			want[key] = state{rapid.IntRange(1, 9).Draw(t, "size"),
				rapid.SampledFrom([]string{"", "other", "unlooked"}).Draw(t, "doubt")}
		}
		w, err := agreed.Create(path, agreed.Info{Job: "j", Plan: 3, Source: "a", Target: "b"})
		require.NoError(t, err)
		for _, key := range slices.Sorted(maps.Keys(want)) {
			s := want[key]
			src, dst := entry(s.size), entry(s.size+1)
			switch s.doubt {
			case "":
				require.NoError(t, w.Add(key, &src, &dst))
			case "other":
				require.NoError(t, w.Doubt(key, &src, &dst))
			default:
				require.NoError(t, w.Doubt(key, &src, nil))
			}
		}
		require.NoError(t, w.Finish())
		require.Equal(t, want, read(t, path))

		found := map[string]state{}
		for _, key := range rapid.SliceOf(rapid.SampledFrom([]string{"a", "aa", "c", "g"})).Draw(t, "found") {
			found[key] = state{rapid.IntRange(1, 9).Draw(t, "size"), "other"}
		}
		whole := rapid.Bool().Draw(t, "whole")
		before, err := agreed.Open(path, "a", "b")
		require.NoError(t, err)
		keys := slices.Sorted(maps.Keys(found))
		require.NoError(t, agreed.Mark(path, before, agreed.Info{Job: "j", Source: "a", Target: "b"}, whole,
			func() (*agreed.Found, error) {
				if len(keys) == 0 {
					return nil, nil
				}
				key := keys[0]
				keys = keys[1:]
				return &agreed.Found{Key: key, Source: entry(found[key].size), Target: entry(found[key].size + 1)}, nil
			}))
		before.Close()
		for key, s := range want {
			if whole && s.doubt != "" {
				delete(want, key)
			}
		}
		maps.Copy(want, found)
		require.Equal(t, want, read(t, path))
	})
}

// States of other places are none, and none is no error.
func TestOfOtherPlaces(t *testing.T) {
	path := filepath.Join(t.TempDir(), "agreed")
	s, err := agreed.Open(path, "a", "b")
	assert.Nil(t, s)
	assert.NoError(t, err)
	w, err := agreed.Create(path, agreed.Info{Source: "a", Target: "b"})
	require.NoError(t, err)
	require.NoError(t, w.Finish())
	s, err = agreed.Open(path, "a", "elsewhere")
	assert.Nil(t, s)
	assert.NoError(t, err)
	assert.NoError(t, s.Close())
}
