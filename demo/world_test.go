package demo

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/csv"
	"image/png"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/job"
)

var small = Size{Masters: 10, Tiles: 12, Cards: 2, Scale: 0.01}

// contents are the files below a folder with what is in them, secrets left out.
func contents(t *testing.T, dir string) map[string]string {
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasSuffix(path, ".secret") {
			return err
		}
		raw, err := os.ReadFile(path)
		info, _ := d.Info()
		if name := strings.TrimPrefix(path, dir); strings.HasPrefix(name, "/studio/") {
			all[name] = info.ModTime().String() + string(raw)
		} else {
			all[name] = string(raw)
		}
		return err
	}))
	return all
}

// The world is the same each time it is made, but for its secrets, and its workspace has
// no mistakes.
func TestTheSameWorld(t *testing.T) {
	a, b := filepath.Join(t.TempDir(), "a"), filepath.Join(t.TempDir(), "b")
	require.NoError(t, Build(context.Background(), a, small))
	require.NoError(t, Build(context.Background(), b, small))
	was, is := contents(t, a), contents(t, b)
	require.Equal(t, len(was), len(is))
	for name := range was {
		assert.Equal(t, was[name], is[name], name)
	}
	secret := func(dir, store string) string {
		raw, err := os.ReadFile(filepath.Join(dir, "stores", store+".secret"))
		require.NoError(t, err)
		return string(raw)
	}
	for _, store := range []string{"north", "tiles", "hill"} {
		assert.NotEqual(t, secret(a, store), secret(b, store), "a secret is its world's own")
	}
	assert.NotEqual(t, secret(a, "north"), secret(a, "hill"))
	w, err := job.LoadWorkspace(a)
	require.NoError(t, err)
	assert.Empty(t, w.Mistakes)
	assert.NotEmpty(t, w.Jobs)
	assert.False(t, Built(a), "without its buckets it is not whole")
	count := func(pattern string) int {
		all, err := filepath.Glob(filepath.Join(a, pattern))
		require.NoError(t, err)
		return len(all)
	}
	assert.Equal(t, small.Masters, count("studio/masters/*/*/*.wav"))
	assert.Equal(t, small.Masters, count("studio/masters/*/*/*.json"))
	assert.Equal(t, small.Tiles, count("studio/tiles/*/*/*.png"))
}

// A folder that holds somebody's files is left alone; a world that was never finished is
// made anew.
func TestBuildLeavesOthersAlone(t *testing.T) {
	dir := t.TempDir()
	own := filepath.Join(dir, "mine.txt")
	require.NoError(t, os.WriteFile(own, []byte("mine"), 0o600))
	assert.Error(t, Build(context.Background(), dir, small))
	raw, err := os.ReadFile(own)
	require.NoError(t, err)
	assert.Equal(t, "mine", string(raw))
	require.NoError(t, os.WriteFile(filepath.Join(dir, unfinished), nil, 0o600))
	assert.Error(t, Build(context.Background(), dir, small), "a file of that name is not enough")
	require.NoError(t, os.WriteFile(filepath.Join(dir, unfinished), []byte(unfinishedText), 0o600))
	assert.Error(t, Build(context.Background(), dir, small), "nor is one of ours, beside what is not")
	assert.FileExists(t, own)
	gone, cancel := context.WithCancel(context.Background())
	cancel()
	half := filepath.Join(t.TempDir(), "w")
	require.ErrorIs(t, Build(gone, half, small), context.Canceled)
	assert.False(t, Built(half))
	require.NoError(t, Build(context.Background(), half, small))
	assert.NoFileExists(t, filepath.Join(half, marker))
}

// What programs open are files that programs can open.
func TestFilesAreWhatTheySay(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "w")
	require.NoError(t, Build(context.Background(), dir, small))
	recordings, err := filepath.Glob(filepath.Join(dir, "studio/masters/*/*/*.wav"))
	require.NoError(t, err)
	for _, name := range recordings {
		raw, err := os.ReadFile(name)
		require.NoError(t, err)
		require.Greater(t, len(raw), 44)
		assert.Equal(t, "RIFF", string(raw[:4]))
		assert.Equal(t, "WAVEfmt ", string(raw[8:16]))
		assert.EqualValues(t, len(raw)-8, binary.LittleEndian.Uint32(raw[4:]), "%s: the length of all", name)
		assert.EqualValues(t, len(raw)-44, binary.LittleEndian.Uint32(raw[40:]), "%s: the length of the sound", name)
		assert.EqualValues(t, rateHz, binary.LittleEndian.Uint32(raw[24:]))
	}
	tiles, err := filepath.Glob(filepath.Join(dir, "studio/tiles/*/*/*.png"))
	require.NoError(t, err)
	for _, name := range tiles {
		raw, err := os.ReadFile(name)
		require.NoError(t, err)
		img, err := png.Decode(bytes.NewReader(raw))
		require.NoError(t, err, name)
		assert.Equal(t, 32, img.Bounds().Dx())
	}
	_, err = png.Decode(bytes.NewReader(dusk()))
	assert.NoError(t, err)
	for n := 1; n <= 3; n++ {
		rows, err := csv.NewReader(bytes.NewReader(catalogue(n))).ReadAll()
		require.NoError(t, err)
		assert.Len(t, rows, 9+9*n, "a revision has more than the one before")
	}
}
