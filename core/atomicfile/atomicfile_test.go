package atomicfile_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/atomicfile"
)

// A file is replaced whole, whatever its permissions were; where that fails, the old one
// is there and nothing beside it.
func TestWrite(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.json")
	require.NoError(t, os.WriteFile(path, []byte("old"), 0o400))
	reader, err := os.Open(path)
	require.NoError(t, err)
	defer reader.Close()
	require.NoError(t, atomicfile.Write(path, []byte("new"), 0o640))
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, "new", string(raw))
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode())
	was := make([]byte, 3)
	_, err = reader.Read(was)
	require.NoError(t, err)
	assert.Equal(t, "old", string(was), "who has the old one open reads it on")

	folder := filepath.Join(dir, "folder")
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "full"), 0o700))
	assert.Error(t, atomicfile.Write(folder, []byte("x"), 0o600))
	assert.Error(t, atomicfile.Write(filepath.Join(dir, "none", "a"), []byte("x"), 0o600))
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 2)
}

// JSON makes its folder, and what JSON cannot say leaves the old.
func TestWriteJSON(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep", "down", "a.json")
	require.NoError(t, atomicfile.WriteJSON(path, map[string]int{"a": 1}))
	assert.Error(t, atomicfile.WriteJSON(path, func() {}))
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.JSONEq(t, `{"a": 1}`, string(raw))
}
