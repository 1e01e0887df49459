package folder

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/kind"
)

// With sync = true a file has reached the disk before it counts as written, and so have its name and those of the
// folders that were made for it; each part, too, and what is moved. What cannot be brought there is not written.
func TestSync(t *testing.T) {
	var dir string
	var reached []string
	var fails error
	fsync = func(file *os.File) error {
		name, err := filepath.Rel(dir, file.Name())
		require.NoError(t, err)
		if strings.HasPrefix(filepath.Base(name), ".lumtra-") {
			name = "content"
		}
		reached = append(reached, name)
		return fails
	}
	t.Cleanup(func() { fsync = (*os.File).Sync })
	for _, sync := range []bool{true, false} {
		dir, fails = t.TempDir(), nil
		end, err := Kind.Open(context.Background(), &kind.Settings{Name: "attic", Sync: sync}, kind.Means{Path: dir})
		require.NoError(t, err)
		t.Cleanup(func() { end.Close() })
		p, err := end.Open("")
		require.NoError(t, err)
		holds := func(want ...string) {
			t.Helper()
			if !sync {
				want = nil
			}
			assert.Equal(t, want, reached)
			reached = nil
		}
		write := func(key string) error {
			_, err := p.Write(t.Context(), key, strings.NewReader("tide"), 4, place.WriteOptions{})
			return err
		}
		require.NoError(t, write("a/b/c.wav"))
		holds("a", ".", "content", "a/b")
		require.NoError(t, write("a/b/d.wav"))
		holds("content", "a/b")
		w := p.(place.PartWriter)
		up, err := w.Begin(t.Context(), "a/e.wav", place.WriteOptions{})
		require.NoError(t, err)
		part, err := w.WritePart(t.Context(), up, 1, 0, strings.NewReader("tide"), 4, object.Sum{})
		require.NoError(t, err)
		holds("content")
		_, err = w.Finish(t.Context(), up, []place.Part{part}, place.WriteOptions{})
		require.NoError(t, err)
		holds("content", "a")
		_, err = p.(place.Mover).Move(t.Context(), object.Ref{Key: "a/e.wav"}, "trash/e.wav")
		require.NoError(t, err)
		holds(".", "trash", "a")
		fails = syscall.EIO
		if err := write("a/f.wav"); sync {
			require.ErrorIs(t, err, syscall.EIO)
			assert.NoFileExists(t, filepath.Join(dir, "a/f.wav"))
		}
		reached = nil
	}
}
