package agreed_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"lumtra/core/agreed"
	"lumtra/core/object"
)

// Whatever lies where agreed states should, it is an error, or states whose keys rise: an
// end that comes early is never taken for the end of what was agreed.
func FuzzStates(f *testing.F) {
	path := filepath.Join(f.TempDir(), "agreed")
	w, err := agreed.Create(path, agreed.Info{Source: "a", Target: "b"})
	require.NoError(f, err)
	for i, key := range []string{"k1", "k2", "k3"} {
		here, there := entry(i), entry(i+1)
		require.NoError(f, w.Add(key, &agreed.State{Source: here, Target: there}))
	}
	require.NoError(f, w.Finish())
	whole, err := os.ReadFile(path)
	require.NoError(f, err)
	f.Add(whole)
	f.Add(whole[:len(whole)/2])
	f.Add(whole[:9])
	f.Add([]byte("LUMTRAG2"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		path := filepath.Join(t.TempDir(), "agreed")
		require.NoError(t, os.WriteFile(path, raw, 0o600))
		s, err := agreed.Open(path, "a", "b")
		if err != nil || s == nil {
			return
		}
		defer s.Close()
		last, n := "", int64(0)
		c := s.Cursor("")
		for c.Next() {
			require.Greater(t, c.Key()+"\x00", last)
			last = c.Key() + "\x00"
			if x := c.Value(); x != nil {
				for _, e := range []object.Entry{x.Source, x.Target} {
					require.NoError(t, e.Sane())
				}
			}
			n++
		}
		if c.Err() == nil {
			require.Equal(t, s.Info.Objects, n, "fewer states than there were, and no error")
		}
	})
}

// The same of doubts: damage never makes them fewer.
func FuzzDoubts(f *testing.F) {
	path := filepath.Join(f.TempDir(), "doubts")
	w, err := agreed.CreateDoubts(path, agreed.DoubtsInfo{Source: "a", Target: "b", Proof: 3})
	require.NoError(f, err)
	for i, kind := range []agreed.Kind{agreed.Differs, agreed.Unlooked, agreed.Unplanned} {
		require.NoError(f, w.Add(string(rune('a'+i)), &agreed.Doubt{Kind: kind, Source: entry(i), Target: entry(i + 1),
			Proof: i, Plan: 4, Method: "read-back"}))
	}
	require.NoError(f, w.Finish())
	whole, err := os.ReadFile(path)
	require.NoError(f, err)
	f.Add(whole)
	f.Add(whole[:len(whole)/2])
	f.Add([]byte("LUMTRAQ1"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		path := filepath.Join(t.TempDir(), "doubts")
		require.NoError(t, os.WriteFile(path, raw, 0o600))
		s, err := agreed.OpenDoubts(path, "a", "b")
		if err != nil || s == nil {
			return
		}
		defer s.Close()
		n := int64(0)
		c := s.Cursor("")
		for c.Next() {
			if x := c.Value(); x != nil {
				require.NoError(t, x.Source.Sane())
				require.NotEmpty(t, x.Since())
			}
			n++
		}
		if c.Err() == nil {
			require.Equal(t, s.Len(), n, "fewer doubts than there were, and no error")
		}
	})
}
