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

// A state is read back as it was written, with what it says of how it came about.
func TestStates(t *testing.T) {
	path := filepath.Join(t.TempDir(), "agreed")
	w, err := agreed.Create(path, agreed.Info{Source: "a", Target: "b"})
	require.NoError(t, err)
	for i, key := range keys {
		source, target := entry(i), entry(i+1)
		require.NoError(t, w.Add(key, &agreed.State{Source: source, Target: target, Later: i%2 == 1}))
	}
	require.NoError(t, w.Finish())
	s, err := agreed.Open(path, "a", "b")
	require.NoError(t, err)
	defer s.Close()
	n := 0
	for c := s.Cursor(""); c.Next(); n++ {
		assert.Equal(t, n%2 == 1, c.Value().Later, c.Key())
		assert.EqualValues(t, n+1, c.Value().Target.Size)
	}
	assert.Len(t, keys, n)
}

var keys = []string{"a", "aa", "b", "c", "d/e", "f", "g"}

func drawDoubt(t *rapid.T, of string) agreed.Doubt {
	d := agreed.Doubt{Kind: rapid.SampledFrom([]agreed.Kind{agreed.Differs, agreed.Unlooked,
		agreed.Unplanned}).Draw(t, of+" kind"), Proof: rapid.IntRange(0, 3).Draw(t, of+" proof"),
		Plan: rapid.IntRange(1, 9).Draw(t, of+" plan"), Method: rapid.SampledFrom([]string{"size",
			"read-back"}).Draw(t, of+" method"), At: time.Unix(int64(rapid.IntRange(0, 99).Draw(t, of+" at")), 0).UTC()}
	d.Source = entry(rapid.IntRange(1, 9).Draw(t, of+" size"))
	if d.Kind == agreed.Differs {
		d.Target = entry(int(d.Source.Size) + 1)
	}
	return d
}

func readDoubts(t require.TestingT, path string) (map[string]agreed.Doubt, agreed.DoubtsInfo) {
	s, err := agreed.OpenDoubts(path, "a", "b")
	require.NoError(t, err)
	defer s.Close()
	all := map[string]agreed.Doubt{}
	for c := s.Cursor(""); c.Next(); {
		require.NotNil(t, c.Value())
		d := *c.Value()
		require.Equal(t, c.Key(), d.Source.Key)
		for _, e := range []*object.Entry{&d.Source, &d.Target} {
			e.Key, e.Latest = "", false
			if !e.Modified.IsZero() {
				e.Modified = e.Modified.Local()
			}
		}
		all[c.Key()] = d
	}
	require.EqualValues(t, len(all), s.Len())
	return all, s.Info
}

// Doubts are kept with all they say. A proof settles those that it looks at as closely, adds
// what it finds, and leaves all others, in whatever order they lie.
func TestDoubts(t *testing.T) {
	dir, n := t.TempDir(), 0
	testkit.Check(t, func(t *rapid.T) {
		n++
		path := filepath.Join(dir, fmt.Sprint(n))
		want := map[string]agreed.Doubt{}
		for _, key := range rapid.SliceOf(rapid.SampledFrom(keys)).Draw(t, "keys") {
			want[key] = drawDoubt(t, key)
		}
		w, err := agreed.CreateDoubts(path, agreed.DoubtsInfo{Job: "j", Source: "a", Target: "b"})
		require.NoError(t, err)
		for _, key := range slices.Sorted(maps.Keys(want)) {
			d := want[key]
			require.NoError(t, w.Add(key, &d))
		}
		require.NoError(t, w.Finish())
		got, _ := readDoubts(t, path)
		require.Equal(t, want, got)

		found, same := map[string]agreed.Doubt{}, map[string]bool{}
		for _, key := range rapid.SliceOf(rapid.SampledFrom(keys)).Draw(t, "looked at") {
			if same[key] = rapid.Bool().Draw(t, "same"); !same[key] {
				d := drawDoubt(t, "found "+key)
				d.Kind, d.Target = agreed.Differs, entry(int(d.Source.Size)+1)
				found[key] = d
			} else {
				delete(found, key)
			}
		}
		close := rapid.SampledFrom([]string{"size", "read-back"}).Draw(t, "method")
		closely := func(was *agreed.Doubt) bool { return close == "read-back" || was.Method == "size" }
		before, err := agreed.OpenDoubts(path, "a", "b")
		require.NoError(t, err)
		require.NoError(t, agreed.Revise(path, before, agreed.DoubtsInfo{Job: "j", Proof: 7, Source: "a", Target: "b"},
			func(about func(string, agreed.Decide) error) error {
				for _, key := range slices.Sorted(maps.Keys(same)) {
					var d *agreed.Doubt
					if x, is := found[key]; is {
						d = &x
					}
					if err := about(key, agreed.Proven(d, same[key], closely)); err != nil {
						return err
					}
				}
				return nil
			}))
		require.NoError(t, before.Close())
		for key := range same {
			was, doubted := want[key]
			now, differs := found[key]
			switch {
			case differs && doubted && was.Kind == agreed.Differs:
				now.Proof, now.At = was.Proof, was.At
				if !closely(&was) {
					now.Method = was.Method
				}
				fallthrough
			case differs:
				want[key] = now
			case doubted && closely(&was):
				delete(want, key)
			}
		}
		got, info := readDoubts(t, path)
		require.Equal(t, want, got)
		require.Equal(t, 7, info.Proof)
	})
}

// What a doubt is about, and how it reads.
func TestWhatIsInDoubt(t *testing.T) {
	there, other, at := entry(3), entry(4), time.Date(2026, 11, 26, 4, 0, 0, 0, time.UTC)
	for want, d := range map[string]*agreed.Doubt{
		"differs since proof 3 (2026-11-26)": {Kind: agreed.Differs, Target: there, Proof: 3, Plan: 2,
			At: at},
		"found different by plan 2 or its run (2026-11-26)": {Kind: agreed.Differs, Target: there, Plan: 2, At: at},
		"a write of plan 2 was interrupted (2026-11-26)":    {Kind: agreed.Unlooked, Plan: 2, At: at},
		"the run of plan 2 met something it had not planned for (2026-11-26)": {Kind: agreed.Unplanned, Plan: 2,
			At: at},
	} {
		assert.Equal(t, want, d.Since())
		assert.Equal(t, d.Kind != agreed.Unplanned, d.About(&there), want)
		assert.Equal(t, d.Kind == agreed.Unlooked, d.About(&other), want)
		assert.False(t, d.About(nil), "what is gone is in nobody's doubt")
	}
	var none *agreed.Doubt
	assert.False(t, none.About(&there))
}

// States of other places are none, and none is no error.
func TestOfOtherPlaces(t *testing.T) {
	dir := t.TempDir()
	m, err := agreed.OpenMemory(dir, "a", "b")
	require.NoError(t, err)
	assert.Nil(t, m.States)
	assert.Nil(t, m.Doubts)
	assert.Zero(t, m.Info())
	assert.NoError(t, m.Close())
	w, err := agreed.Create(filepath.Join(dir, agreed.StatesFile), agreed.Info{Source: "a", Target: "b", Plan: 4})
	require.NoError(t, err)
	require.NoError(t, w.Finish())
	q, err := agreed.CreateDoubts(filepath.Join(dir, agreed.DoubtsFile), agreed.DoubtsInfo{Source: "a", Target: "b"})
	require.NoError(t, err)
	require.NoError(t, q.Finish())
	for target, there := range map[string]bool{"b": true, "elsewhere": false} {
		m, err = agreed.OpenMemory(dir, "a", target)
		require.NoError(t, err)
		assert.Equal(t, there, m.States != nil)
		assert.Equal(t, there, m.Doubts != nil)
		assert.Equal(t, there, m.Info().Plan == 4)
		assert.NoError(t, m.Close())
	}
	assert.NoError(t, (*agreed.Memory)(nil).Close())
}
