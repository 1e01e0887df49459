package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/cli"
	"lumtra/testkit"
)

// A file nobody may read is told, with its name; the others are copied.
func TestUnreadableFile(t *testing.T) {
	t.Parallel()
	dir := workspace(t, "http://127.0.0.1:1", map[string]string{"out": "source = \"src\"\ntarget = \"dst/copy\"\n"})
	put(t, dir, "src/open.wav", "open")
	put(t, dir, "src/shut.wav", "shut")
	put(t, dir, "src/locked/inside.wav", "inside")
	require.NoError(t, os.Chmod(filepath.Join(dir, "src/shut.wav"), 0))
	require.NoError(t, os.Chmod(filepath.Join(dir, "src/locked"), 0))
	t.Cleanup(func() { os.Chmod(filepath.Join(dir, "src/locked"), 0o755) })
	text, code := humbly(t, dir, "run", "out")
	assert.Equal(t, cli.ExitFailures, code, text)
	assert.Contains(t, text, "not listed: src: list locked/: not allowed (permission denied)")
	assert.Contains(t, text, "1 × src: not allowed")
	assert.Contains(t, text, "shut.wav")
	assert.Contains(t, text, "could not be listed, so the plan did not cover them")
	assert.Equal(t, map[string]string{"open.wav": "open"}, files(t, filepath.Join(dir, "dst/copy")))
}

// humbly runs a command as somebody who may not read everything.
func humbly(t *testing.T, dir string, args ...string) (text string, code int) {
	cmd := command(dir, append([]string{"--state", filepath.Join(dir, "state")}, args...)...)
	if os.Geteuid() == 0 {
		for d := dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
			require.NoError(t, os.Chmod(d, 0o755))
		}
		require.NoError(t, os.Chmod(filepath.Dir(program), 0o755))
		require.NoError(t, exec.Command("chown", "-R", "65534", dir).Run())
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	}
	out, _ := cmd.CombinedOutput()
	return string(out), cmd.ProcessState.ExitCode()
}

// A plan that could not see all of either side does not end well, though there is nothing to do.
func TestPlansOfWhatCannotBeListed(t *testing.T) {
	t.Parallel()
	for _, shut := range []string{"src/a", "dst/a"} {
		dir := workspace(t, "http://127.0.0.1:1", map[string]string{"out": "source = \"src\"\ntarget = \"dst\"\n"})
		put(t, dir, "src/a/one.wav", "one")
		for i := range 9 { // so that a limit does not hold it back for what went
			put(t, dir, fmt.Sprintf("src/b/%d.wav", i), "two")
		}
		text, code := humbly(t, dir, "run", "out")
		require.Equal(t, cli.ExitDone, code, text)
		text, code = humbly(t, dir, "plan", "out")
		require.Equal(t, cli.ExitNothing, code, text)
		require.NoError(t, os.Chmod(filepath.Join(dir, shut), 0))
		t.Cleanup(func() { os.Chmod(filepath.Join(dir, shut), 0o755) })
		text, code = humbly(t, dir, "plan", "out")
		assert.Equal(t, cli.ExitFailures, code, text)
		text, code = humbly(t, dir, "plan", "out", "--number", "3")
		assert.Equal(t, cli.ExitFailures, code, text)
	}
}

// A disk that fills up leaves whole files or none, and says so.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	dir := workspace(t, "http://127.0.0.1:1",
		map[string]string{"out": "source = \"src\"\ntarget = \"dst\"\n[limits]\nstreams = 1\npart-size = \"5MiB\"\n"})
	disk := filepath.Join(dir, "dst")
	if !smallDisk(t, disk) {
		return // the transfer package's test stands for it
	}
	put(t, dir, "src/a.wav", strings.Repeat("a", 1<<20))
	put(t, dir, "src/b.wav", strings.Repeat("b", 2<<20))
	put(t, dir, "src/c.wav", strings.Repeat("c", 12<<20))
	put(t, dir, "src/d.wav", "small enough")
	text, code := lumtra(t, dir, "run", "out")
	assert.Equal(t, cli.ExitBlocked, code, text)
	assert.Contains(t, text, "To run it all the same: --despite room")
	assert.Empty(t, files(t, disk), "nothing began")
	text, code = lumtra(t, dir, "run", "out", "--plan", "1", "--despite", "room")
	assert.Equal(t, cli.ExitFailures, code, text)
	assert.Contains(t, text, "2 × dst: no room left; free space at the target")
	found := files(t, disk)
	assert.Len(t, found["a.wav"], 1<<20)
	assert.Equal(t, "small enough", found["d.wav"])
	assert.Len(t, found, 2, "nothing half is left to fill the disk")
	// With room, the same job goes on and comes to its end.
	require.NoError(t, syscall.Mount("tmpfs", disk, "tmpfs", syscall.MS_REMOUNT, "size=40m"))
	text, code = lumtra(t, dir, "run", "out")
	assert.Equal(t, cli.ExitDone, code, text)
	text, code = lumtra(t, dir, "prove", "out", "--by", "read-back")
	assert.Equal(t, cli.ExitDone, code, text)
	assert.Len(t, files(t, disk), 4)
}

// smallDisk puts a disk of 2 MiB where a folder is, for a test's time. It is false without the right to. The processes
// that other tests start hold what is open there for a moment, so it may take more than once to be rid of it.
func smallDisk(t *testing.T, folder string) bool {
	if err := syscall.Mount("tmpfs", folder, "tmpfs", 0, "size=2m"); err != nil {
		t.Logf("no small disk without the right to mount one (%v)", err)
		return false
	}
	t.Cleanup(func() { testkit.Until(t, func() bool { return syscall.Unmount(folder, 0) == nil }) })
	return true
}

// Room is that of the disk on which the target lies, not of the endpoint's above it.
func TestRoomBelow(t *testing.T) {
	t.Parallel()
	dir := workspace(t, "http://127.0.0.1:1",
		map[string]string{"out": "source = \"src\"\ntarget = \"dst/disk/copy\"\n"})
	disk := filepath.Join(dir, "dst", "disk")
	require.NoError(t, os.MkdirAll(disk, 0o755))
	if !smallDisk(t, disk) {
		return
	}
	put(t, dir, "src/c.wav", strings.Repeat("c", 12<<20))
	text, code := lumtra(t, dir, "plan", "out", "--checks")
	assert.Equal(t, cli.ExitDone, code, text)
	assert.Regexp(t, `room .*2\.0 MiB free`, text)
}
