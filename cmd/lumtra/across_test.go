package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/cli"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/testkit"
)

// Two places side by side on the real screen: what is there and other is told, and what is
// marked is moved across by a plan, gone at its source once it is proven.
func TestScreenMoveAcross(t *testing.T) {
	t.Parallel()
	_, address := startStore(t, t.TempDir())
	_, p := root(t, address, "archive", false)
	store(t, p, "in/a.wav", "tide", place.WriteOptions{})
	store(t, p, "in/b.wav", "neap", place.WriteOptions{})
	dir := workspace(t, address, nil)
	w := openWindow(t, "--workspace", dir)
	w.see(`No jobs yet`)
	w.keys("2")
	w.see(`▸ north`)
	w.keys("j", "Enter")
	w.see(`▸ archive/`)
	w.keys("j", "Enter")
	w.see(`▸ in/`)
	w.keys("j", "Enter")
	w.see(`a\.wav`)
	w.keys("j", "|")
	w.see(`one tree`)
	w.see(`▸ src`)
	w.keys("=")
	w.see(`2 only at the left`)
	w.escape()
	w.keys("Tab")
	w.see(`› in › a\.wav`)
	w.keys("M")
	w.see(`once proven`)
	w.see(`add 1`)
	w.keys("a")
	w.see(`Let plan 1 run`)
	w.keys("Enter")
	w.see(`1 of 1 object`)
	w.see(`done|Done`)
	w.leave()
	raw, err := os.ReadFile(filepath.Join(dir, "dst", "a.wav"))
	require.NoError(t, err)
	assert.Equal(t, "tide", string(raw))
	_, err = p.Stat(ctx, object.Ref{Key: "in/a.wav"})
	assert.Equal(t, place.NotFound, place.KindOf(err), "it was moved")
	_, err = p.Stat(ctx, object.Ref{Key: "in/b.wav"})
	assert.NoError(t, err)
}

// A bucket's tags are changed and read back, and a file of any path is brought to it.
func TestScreenBucketAndAnyPath(t *testing.T) {
	t.Parallel()
	_, address := startStore(t, t.TempDir())
	s, p := root(t, address, "archive", false)
	dir := workspace(t, address, nil)
	elsewhere := filepath.Join(t.TempDir(), "tide table.txt")
	require.NoError(t, os.WriteFile(elsewhere, []byte("high at nine"), 0o600))
	w := openWindow(t, "--workspace", dir)
	w.see(`No jobs yet`)
	w.keys("2")
	w.see(`▸ north`)
	w.keys("j", "Enter")
	w.see(`▸ archive/`)
	w.keys("j", "b")
	w.see(`Who may reach it: only who`)
	w.typed("owner = archive")
	w.keys("Enter")
	w.see(`Read back from the store: north/archive has 1 tag`)
	tags, err := s.BucketTags(ctx, "archive")
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"owner": "archive"}, tags)
	w.keys("a")
	w.see(`Bring files of this machine to north/archive`)
	w.typed(elsewhere)
	w.keys("C-y")
	w.see(`Copied: lumtra put '`)
	w.keys("Enter")
	w.see(`Plan 1`)
	w.see(`tide table\.txt`)
	w.keys("a")
	w.see(`Let plan 1 run`)
	w.keys("Enter")
	w.see(`1 of 1 object`)
	w.leave()
	assert.Equal(t, "high at nine", fetch(t, p, "tide table.txt"))
}

// One-off work in a shell: it says what would go, and takes the number from who has read it.
func TestShellByHand(t *testing.T) {
	t.Parallel()
	_, address := startStore(t, t.TempDir())
	_, p := root(t, address, "archive", true)
	dir := workspace(t, address, nil)
	put(t, dir, "field/a.wav", "one")
	put(t, dir, "field/b.wav", "two")
	w := openShell(t)
	run := func(words string) { w.typed(program + " --trust --workspace " + dir + " " + words); w.keys("Enter") }
	run("put " + filepath.Join(dir, "field") + " north/archive/")
	w.see(`once-1 plan 1: done — 2 objects`)
	w.see(`lumtra prove once-1 --workspace`)
	run("delete north/archive/field/")
	w.see(`This deletes 2 objects.*\n?.*Its number is 2`)
	w.see(`Type that number to do it:`)
	w.typed("3")
	w.keys("Enter")
	w.see(`not done: nobody agreed to it`)
	assert.Equal(t, "one", fetch(t, p, "field/a.wav"))
	w.keys("C-l")
	run("delete north/archive/field/")
	w.see(`Type that number to do it:`)
	w.typed("2")
	w.keys("Enter")
	w.see(`Deleted: 2 objects`)
	run("undelete north/archive/field/")
	w.see(`Brought back: 2`)
	assert.Equal(t, "two", fetch(t, p, "field/b.wav"))
	text, code := lumtra(t, dir, "bucket", "access", "north/archive")
	assert.Zero(t, code)
	assert.True(t, strings.Contains(text, "only who is granted access"), text)
}

// One background service serves a workspace: another says so, and it can be asked after and
// ended by a command; without a terminal there is no window.
func TestServiceByCommand(t *testing.T) {
	t.Parallel()
	_, address := startStore(t, t.TempDir())
	dir := workspace(t, address, nil)
	server := command(dir, "service")
	require.NoError(t, server.Start())
	ended := make(chan error, 1)
	go func() { ended <- server.Wait() }()
	t.Cleanup(func() { server.Process.Kill() })
	pid := fmt.Sprint(server.Process.Pid)
	var text string
	var code int
	testkit.Until(t, func() bool {
		text, code = lumtra(t, dir, "service", "status")
		return code == 0 && strings.Contains(text, "Process "+pid)
	}, func() any { return text })
	text, code = lumtra(t, dir, "service")
	assert.Equal(t, cli.ExitBusy, code, text)
	assert.Contains(t, text, "process "+pid+" is the background service")
	text, code = lumtra(t, dir, "service", "stop")
	assert.Zero(t, code, text)
	testkit.Come(t, ended)
	text, code = lumtra(t, dir, "service", "status")
	assert.Equal(t, cli.ExitNothing, code, text)
	window := command(dir)
	window.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	out, err := window.CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(out), "the window needs a terminal")
}
