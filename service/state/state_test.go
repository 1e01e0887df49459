package state_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lumtra/service/state"
)

func write(t *testing.T, path string) {
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
	require.NoError(t, os.WriteFile(path, []byte(path), 0o600))
}

// prepared is what others can have done to a state folder, each of which is refused.
var prepared = map[string]func(t *testing.T, dir, elsewhere string){
	"a link in place of the log": func(t *testing.T, dir, elsewhere string) { link(t, elsewhere, dir, "lumtra.log") },
	"a link deep below": func(t *testing.T, dir,
		elsewhere string) {
		link(t, elsewhere, dir, "jobs/a/plans/0001.plan")
	},
	"a link that leads nowhere": func(t *testing.T, dir, _ string) { link(t, "/nowhere/at/all", dir, "history.db") },
	"a link in place of a folder": func(t *testing.T, dir, elsewhere string) {
		link(t, filepath.Dir(elsewhere), dir,
			"secrets")
	},
	"a second name": func(t *testing.T, dir, elsewhere string) {
		require.NoError(t, os.Link(elsewhere, filepath.Join(dir, "tray.json")))
	},
	"a pipe": func(t *testing.T, dir, _ string) {
		require.NoError(t, unix.Mkfifo(filepath.Join(dir, "lumtra.log"), 0o600))
	},
	"a file that others write to":   func(t *testing.T, dir, _ string) { open(t, dir, "history.db", 0o666) },
	"a folder that others write to": func(t *testing.T, dir, _ string) { require.NoError(t, os.Chmod(dir, 0o770)) },
	"a file of another user": func(t *testing.T, dir, _ string) {
		if os.Geteuid() != 0 {
			t.Skip("only root can make one")
		}
		open(t, dir, "history.db", 0o600)
		require.NoError(t, os.Chown(filepath.Join(dir, "history.db"), 65534, -1))
	},
}

func link(t *testing.T, to, dir, name string) {
	path := filepath.Join(dir, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o700))
	require.NoError(t, os.Symlink(to, path))
}

func open(t *testing.T, dir, name string, mode os.FileMode) {
	write(t, filepath.Join(dir, name))
	require.NoError(t, os.Chmod(filepath.Join(dir, name), mode))
}

// What others can have prepared is refused, and not moved out of a workspace either.
func TestPrepared(t *testing.T) {
	for name, prepare := range prepared {
		t.Run(name, func(t *testing.T) {
			top := t.TempDir()
			workspace, elsewhere := filepath.Join(top, "w"), filepath.Join(top, "other/precious")
			old := filepath.Join(workspace, state.Inside)
			write(t, elsewhere)
			require.NoError(t, os.MkdirAll(old, 0o700))
			write(t, filepath.Join(old, "lumtra.txt"))
			require.NoError(t, state.Open(old))
			prepare(t, old, elsewhere)
			assert.ErrorIs(t, state.Open(old), state.ErrUnsafe)
			moved, err := state.TakeOver(workspace, filepath.Join(top, "state"))
			assert.False(t, moved)
			assert.ErrorIs(t, err, state.ErrUnsafe)
			assert.NoDirExists(t, filepath.Join(top, "state"))
		})
	}
	top := t.TempDir()
	link(t, top, top, "w/"+state.Inside)
	_, err := state.TakeOver(filepath.Join(top, "w"), filepath.Join(top, "state"))
	assert.ErrorIs(t, err, state.ErrUnsafe, "the folder itself")
}

// State moves once, whole, on the same file system or to another one; not while somebody
// works with it, and never over what is there. What was confirmed does not come along.
func TestTakeOver(t *testing.T) {
	shm, err := os.MkdirTemp("/dev/shm", "lumtra-test-")
	require.NoError(t, err)
	defer os.RemoveAll(shm)
	for name, to := range map[string]string{"here": t.TempDir(), "another file system": shm} {
		t.Run(name, func(t *testing.T) {
			workspace := t.TempDir()
			old, dir := filepath.Join(workspace, state.Inside), filepath.Join(to, "a/b/state")
			moved, err := state.TakeOver(workspace, dir)
			require.NoError(t, err)
			assert.False(t, moved, "there is none")
			day := time.Now().Add(-24 * time.Hour).Truncate(time.Second)
			for _, name := range []string{"jobs/a/plans/0001.plan", "jobs/a/lock", "history.db", state.Trusted} {
				write(t, filepath.Join(old, name))
				require.NoError(t, os.Chtimes(filepath.Join(old, name), day, day))
			}
			lock, err := os.Open(filepath.Join(old, "jobs/a/lock"))
			require.NoError(t, err)
			require.NoError(t, unix.Flock(int(lock.Fd()), unix.LOCK_EX))
			moved, err = state.TakeOver(workspace, dir)
			assert.ErrorContains(t, err, "a process works with it (the job a)")
			assert.False(t, moved)
			require.NoError(t, lock.Close())

			moved, err = state.TakeOver(workspace, dir)
			require.NoError(t, err)
			assert.True(t, moved)
			assert.NoDirExists(t, old)
			assert.NoFileExists(t, filepath.Join(dir, state.Trusted))
			info, err := os.Stat(filepath.Join(dir, "jobs/a/plans/0001.plan"))
			require.NoError(t, err)
			assert.True(t, info.ModTime().Equal(day))
			for name, mode := range map[string]os.FileMode{"": 0o700, "jobs": 0o700, "jobs/a/plans": 0o700,
				"jobs/a/plans/0001.plan": 0o600, "history.db": 0o600} {
				info, err := os.Stat(filepath.Join(dir, name))
				require.NoError(t, err)
				assert.Equal(t, mode, info.Mode().Perm(), name)
			}
			require.NoError(t, state.Open(dir))

			write(t, filepath.Join(old, "history.db"))
			moved, err = state.TakeOver(workspace, dir)
			require.NoError(t, err)
			assert.False(t, moved, "what came later")
			raw, err := os.ReadFile(filepath.Join(dir, "history.db"))
			require.NoError(t, err)
			assert.Equal(t, filepath.Join(old, "history.db"), string(raw))
		})
	}
}

// State that cannot be moved stays where it is, and that is told: what is no folder, what
// cannot be cleared or locked, and what has no room where it is to go.
func TestTakeOverFails(t *testing.T) {
	for name, prepare := range map[string]func(t *testing.T, old, dir string){
		"a file": func(t *testing.T, old, _ string) { write(t, old) },
		"a lock that is a folder": func(t *testing.T, old, _ string) {
			require.NoError(t, os.MkdirAll(filepath.Join(old, "jobs/a/lock"), 0o700))
		},
		"a file where its folder is to be": func(t *testing.T, old, dir string) {
			write(t, filepath.Join(old, "history.db"))
			write(t, filepath.Dir(dir))
		},
	} {
		top := t.TempDir()
		workspace, dir := filepath.Join(top, "w"), filepath.Join(top, "a/b/state")
		old := filepath.Join(workspace, state.Inside)
		prepare(t, old, dir)
		before, err := os.Stat(old)
		require.NoError(t, err)
		moved, err := state.TakeOver(workspace, dir)
		assert.False(t, moved, name)
		assert.ErrorContains(t, err, old, name)
		after, err := os.Stat(old)
		require.NoError(t, err, name)
		assert.True(t, os.SameFile(before, after), name)
	}
}

// What is too old to be in use is swept away, and nothing else; a job's state goes along
// with its name and makes room for another.
func TestDir(t *testing.T) {
	dir := state.Dir(t.TempDir())
	day := time.Now().Add(-25 * time.Hour)
	for _, name := range []string{"survey-1", "level-9", "catalogs/.a-1", "jobs/a/plans/.0001-7", "tests/.a.json-3",
		"survey-2", "history.db", "jobs/a/plans/0001.plan"} {
		write(t, dir.Path(name))
		if name != "survey-2" {
			require.NoError(t, os.Chtimes(dir.Path(name), day, day))
		}
	}
	for _, name := range []string{"pack-index-1", "pack-index-2"} {
		write(t, dir.Path(name, "000000"))
		require.NoError(t, os.Chtimes(dir.Path(name), day, day))
	}
	held, err := os.Open(dir.Path("pack-index-2"))
	require.NoError(t, err)
	defer held.Close()
	require.NoError(t, unix.Flock(int(held.Fd()), unix.LOCK_SH))
	dir.Sweep(time.Now())
	left := map[string]bool{}
	require.NoError(t, filepath.WalkDir(string(dir), func(path string, d os.DirEntry, err error) error {
		if rel, _ := filepath.Rel(string(dir), path); err == nil && !d.IsDir() {
			left[rel] = true
		}
		return err
	}))
	assert.Equal(t, map[string]bool{"survey-2": true, "history.db": true, "jobs/a/plans/0001.plan": true,
		"pack-index-2/000000": true}, left)

	unlock, err := dir.LockRun("a")
	require.NoError(t, err)
	_, err = dir.LockRun("a")
	assert.ErrorIs(t, err, state.ErrBusy)
	planning, err := dir.LockPlanning("a")
	require.NoError(t, err, "they are two")
	_, err = dir.LockPlanning("a")
	assert.ErrorIs(t, err, state.ErrPlanning)
	require.NoError(t, errors.Join(unlock(), planning()))

	write(t, dir.Path("jobs/b/old"))
	require.NoError(t, dir.Rename("a", "b"))
	assert.FileExists(t, dir.Path("jobs/b/plans/0001.plan"))
	assert.FileExists(t, dir.Path("jobs/b.removed-1/old"))
	require.NoError(t, dir.PutAway("b"))
	require.NoError(t, dir.PutAway("b"), "there is none any more")
	assert.FileExists(t, dir.Path("jobs/b.removed-2/plans/0001.plan"))
	require.NoError(t, dir.Rename("never run", "c"))
}

// Every workspace has a folder of its own, whatever path leads to it, and a short one.
func TestFolder(t *testing.T) {
	top := t.TempDir()
	long := filepath.Join(top, strings.Repeat("Größe ", 30))
	require.NoError(t, os.Mkdir(long, 0o700))
	link(t, long, top, "short")
	a, err := state.Folder("/s", long)
	require.NoError(t, err)
	b, err := state.Folder("/s", filepath.Join(top, "x/../short"))
	require.NoError(t, err)
	assert.Equal(t, a, b)
	assert.Less(t, len(a), 50)
	t.Chdir(top)
	c, err := state.Folder("/s", "short")
	require.NoError(t, err)
	assert.Equal(t, a, c)
	d, err := state.Folder("/s", top)
	require.NoError(t, err)
	assert.NotEqual(t, a, d)
}

// The name in front of the hash is the folder's own, as far as it can stand in a path.
func TestNamesOfFolders(t *testing.T) {
	top := t.TempDir()
	for name, want := range map[string]string{"azAZ09-": "azAZ09-", "saltmarsh archive": "saltmarsh-archive",
		"a_b.c/..": "", "`{@[/:": "", "Größe": "Gr--e", strings.Repeat("x", 25): strings.Repeat("x", 20)} {
		if want == "" {
			continue
		}
		dir, err := state.Folder("/s", filepath.Join(top, name))
		require.NoError(t, err)
		plain, _, ok := strings.Cut(strings.TrimPrefix(dir, "/s/workspaces/"), "-"+dir[len(dir)-12:])
		assert.True(t, ok, dir)
		assert.Equal(t, want, plain)
	}
	dir, err := state.Folder("/s", filepath.Join(top, "`{@[:"))
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(dir, "/s/workspaces/------"),
		"the neighbours of letters and digits are none: %s", dir)
}

// State that cannot be taken over is not said to have been, and is still there.
func TestNotTakenOver(t *testing.T) {
	for name, spoil := range map[string]func(t *testing.T, old, dir string){
		"it is a file": func(t *testing.T, old, _ string) { require.NoError(t, os.RemoveAll(old)); write(t, old) },
		"a lock that is no file": func(t *testing.T, old, _ string) {
			require.NoError(t, os.MkdirAll(filepath.Join(old, "service.lock"), 0o700))
		},
		"no folder can be made": func(t *testing.T, _, dir string) { write(t, filepath.Dir(dir)) },
	} {
		t.Run(name, func(t *testing.T) {
			top := t.TempDir()
			old, dir := filepath.Join(top, "w", state.Inside), filepath.Join(top, "to/state")
			write(t, filepath.Join(old, "history.db"))
			spoil(t, old, dir)
			moved, err := state.TakeOver(filepath.Join(top, "w"), dir)
			assert.Error(t, err)
			assert.False(t, moved)
			_, err = os.Lstat(old)
			assert.NoError(t, err)
			assert.NoDirExists(t, dir)
		})
	}
	blocked := filepath.Join(t.TempDir(), "file")
	write(t, blocked)
	assert.Error(t, state.Open(filepath.Join(blocked, "state")), "no folder can be made in a file")
	assert.Error(t, state.Open(blocked))
}

// What lies in the states of other workspaces is their affair: one that is amiss keeps
// nobody else from working.
func TestOtherWorkspaces(t *testing.T) {
	own := t.TempDir()
	require.NoError(t, os.Chmod(own, 0o700))
	link(t, "/etc/hostname", own, "workspaces/theirs-0123/lumtra.log")
	assert.NoError(t, state.Open(own))
	assert.ErrorIs(t, state.Open(filepath.Join(own, "workspaces/theirs-0123")), state.ErrUnsafe)
}
