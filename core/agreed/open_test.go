package agreed_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/agreed"
)

// States are of two places: where there are none, or those of others, nothing is agreed;
// where they are damaged that is an error, and never nothing.
func TestWhoseTheyAre(t *testing.T) {
	path := filepath.Join(t.TempDir(), "agreed")
	none, err := agreed.Open(path, "a", "b")
	require.NoError(t, err)
	assert.Nil(t, none)
	assert.NoError(t, none.Close())
	assert.False(t, none.Cursor("").Next())

	w, err := agreed.Create(path, agreed.Info{Source: "a", Target: "b"})
	require.NoError(t, err)
	for i, key := range []string{"k1", "k2", "k3"} {
		here, there := entry(i), entry(i+1)
		require.NoError(t, w.Add(key, &agreed.State{Source: here, Target: there}))
	}
	require.NoError(t, w.Finish())
	for of, agrees := range map[[2]string]bool{{"a", "b"}: true, {"b", "a"}: false, {"a", "c"}: false,
		{"c", "b"}: false, {"", ""}: false} {
		s, err := agreed.Open(path, of[0], of[1])
		require.NoError(t, err)
		assert.Equal(t, agrees, s != nil, "%v", of)
		require.NoError(t, s.Close())
	}

	s, err := agreed.Open(path, "a", "b")
	require.NoError(t, err)
	c := s.Cursor("")
	assert.Nil(t, c.At("k0"))
	require.NotNil(t, c.At("k1"))
	assert.Equal(t, int64(0), c.At("k1").Source.Size, "asked twice it is the same")
	assert.Nil(t, c.At("k2a"), "between two")
	require.NotNil(t, c.At("k3"))
	assert.Nil(t, c.At("k4"))
	assert.NoError(t, c.Err())
	late := s.Cursor("k2")
	require.NotNil(t, late.At("k3"))
	require.NoError(t, s.Close())

	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	damaged := 0
	for at := range raw {
		bad := append([]byte(nil), raw...)
		bad[at] ^= 0x20
		require.NoError(t, os.WriteFile(path, bad, 0o600))
		s, err := agreed.Open(path, "a", "b")
		if err != nil {
			damaged++
			continue
		}
		require.NotNil(t, s, "a flip at %d of %d made the agreement one of others", at, len(raw))
		c := s.Cursor("")
		n := 0
		for c.Next() {
			if x := c.Value(); x != nil {
				n++
			}
		}
		if c.Err() != nil {
			require.ErrorIs(t, c.Err(), agreed.ErrStatesLost)
			damaged++
		} else {
			assert.Equal(t, 3, n, "a flip at %d of %d went unnoticed", at, len(raw))
		}
		require.NoError(t, s.Close())
	}
	assert.Greater(t, damaged, len(raw)/2)
}

// States that are not brought to their end leave nothing behind, and those before them stand.
func TestAbandoned(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "agreed")
	w, err := agreed.Create(path, agreed.Info{Source: "a", Target: "b"})
	require.NoError(t, err)
	here, there := entry(1), entry(2)
	require.NoError(t, w.Add("k1", &agreed.State{Source: here, Target: there}))
	require.NoError(t, w.Finish())
	w, err = agreed.Create(path, agreed.Info{Source: "a", Target: "b"})
	require.NoError(t, err)
	require.NoError(t, w.Add("k2", &agreed.State{Source: here, Target: there}))
	w.Abandon()
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 1)
	s, err := agreed.Open(path, "a", "b")
	require.NoError(t, err)
	defer s.Close()
	assert.NotNil(t, s.Cursor("").At("k1"))
}
