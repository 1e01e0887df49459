package folder_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lumtra/core/place"
	"lumtra/core/place/folder"
)

// watched hands content out in two halves, and looks between them.
type watched struct {
	*strings.Reader
	look func()
}

func (w *watched) Read(b []byte) (int, error) {
	if w.look != nil && w.Len() < int(w.Size()) {
		w.look()
		w.look = nil
	}
	return w.Reader.Read(b[:min(len(b), 2)])
}

// Whatever somebody has laid under the name that a write goes to first, content lands
// in a file of ours alone, which nobody else reads before it is whole.
func TestNothingIsTakenOver(t *testing.T) {
	dir, other := t.TempDir(), t.TempDir()
	end, err := folder.OpenEndpoint("studio", dir, folder.Options{})
	require.NoError(t, err)
	defer end.Close()
	p, err := end.Open("")
	require.NoError(t, err)
	write := func(opts place.WriteOptions, look func()) {
		t.Helper()
		opts.Condition = place.Always
		_, err := p.Write(t.Context(), "masters.wav", &watched{strings.NewReader("the tide"), look}, 8, opts)
		require.NoError(t, err)
	}
	var name string
	write(place.WriteOptions{}, func() {
		all, _ := filepath.Glob(filepath.Join(dir, ".*"))
		require.Len(t, all, 1)
		name = all[0]
		info, err := os.Stat(name)
		require.NoError(t, err)
		assert.EqualValues(t, 0o600, info.Mode().Perm(), "while it comes")
	})
	mine := filepath.Join(other, "precious")
	lay := map[string]func() error{
		"a hard link":       func() error { return os.Link(mine, name) },
		"a symbolic link":   func() error { return os.Symlink(mine, name) },
		"a pipe":            func() error { return unix.Mkfifo(name, 0o666) },
		"a folder":          func() error { return os.Mkdir(name, 0o755) },
		"open to everybody": func() error { return errors(os.WriteFile(name, nil, 0o600), os.Chmod(name, 0o666)) },
	}
	if os.Geteuid() == 0 {
		lay["another's"] = func() error { return errors(os.WriteFile(name, nil, 0o600), os.Chown(name, 65534, 65534)) }
	}
	for what, put := range lay {
		require.NoError(t, os.WriteFile(mine, []byte("precious"), 0o600))
		require.NoError(t, put(), what)
		write(place.WriteOptions{}, nil)
		raw, err := os.ReadFile(mine)
		require.NoError(t, err)
		assert.Equal(t, "precious", string(raw), what)
		var st unix.Stat_t
		require.NoError(t, unix.Lstat(filepath.Join(dir, "masters.wav"), &st))
		assert.Equal(t, [2]uint64{uint64(os.Geteuid()), 1}, [2]uint64{uint64(st.Uid), uint64(st.Nlink)}, what)
		require.NoError(t, os.RemoveAll(name))
	}

	// What a killed run has left is taken over; permissions end as asked, and what a
	// stranger asks for is held to the umask.
	require.NoError(t, os.WriteFile(name, []byte("half"), 0o600))
	write(place.WriteOptions{Mode: 0o666}, nil)
	mode := func() os.FileMode {
		info, err := os.Stat(filepath.Join(dir, "masters.wav"))
		require.NoError(t, err)
		return info.Mode()
	}
	assert.Equal(t, os.FileMode(0o666), mode())
	assert.NoFileExists(t, name)
	write(place.WriteOptions{Mode: 0o7777, Masked: true}, nil)
	plain := filepath.Join(other, "plain")
	file, err := os.OpenFile(plain, os.O_CREATE|os.O_WRONLY, 0o777)
	require.NoError(t, err)
	info, err := file.Stat()
	require.NoError(t, err)
	require.NoError(t, file.Close())
	assert.Equal(t, info.Mode().Perm(), mode(), "the umask holds, and no set-id bits")
}

func errors(all ...error) error {
	for _, err := range all {
		if err != nil {
			return err
		}
	}
	return nil
}
