package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/cli"
	"lumtra/standin"
)

// A run is paused, throttled, its process killed, and gone on with; what failed
// is looked at down to its attempts and tried again.
func TestScreenSteer(t *testing.T) {
	t.Parallel()
	storeDir := t.TempDir()
	makeBucket(t, storeDir)
	store, address := startStore(t, storeDir)
	dir := workspace(t, address,
		map[string]string{"out": "source = \"src\"\ntarget = \"north/archive\"\n[limits]\nstreams = 4\nbandwidth = " +
			"[\"2 MB/s\"]\npart-size = \"5MiB\"\n"})
	fill(t, filepath.Join(dir, "src"), 20, 31<<20)
	put(t, dir, "src/wet.json", "{}")
	store.SetFaults(standin.Fault{Op: "PutObject", Key: "wet", Do: "403"})
	w := openWindowEnv(t, nil, "--workspace", dir)
	w.see(`Nothing needs you`)
	w.keys("4")
	w.see(`p surveys both sides`)
	w.keys("p")
	w.see(`waits to be approved`)
	w.keys("a", "Enter")
	w.see(`bandwidth .* \(job\)`)
	w.see(`a limit holds it back`)
	w.keys("p")
	w.see(`paused; p goes on`)
	w.keys("p")
	w.see(`Going on`)
	w.keys("+")
	w.see(`streams 5 `)
	w.keys("[")
	w.see(`1\.6 MB/s`)
	w.see(`\(by hand\)`)
	w.see(`dawn 0\.wav`)

	// The process dies, and the next window goes on.
	pid := strings.TrimSpace(w.tmux("list-panes", "-F", "#{pane_pid}"))
	require.NoError(t, exec.Command("kill", "-KILL", "--", "-"+pid).Run())
	store.settled(t)
	w = openWindowEnv(t, nil, "--workspace", dir)
	w.see(`was interrupted; it can go on`)
	w.keys("4")
	w.see(`was begun and stopped; approving it goes on`)
	w.keys("a", "Enter")
	w.see(`running`)
	w.keys("]", "]", "]", "]", "]", "]", "]", "]", "]", "]", "]", "]")
	text := w.see(`▲ done with failures`)
	assert.Contains(t, text, "1 failed")
	w.keys("Tab", "Enter")
	w.see(`wet\.json`)
	w.see(`try 1`)
	store.SetFaults()
	w.keys("Escape")
	w.see(`1 × north/archive: not allowed`)
	w.keys("r")
	w.see(`◗ done`)
	w.leave()
	text, code := lumtra(t, dir, "prove", "out", "--by", "read-back")
	assert.Equal(t, cli.ExitDone, code, text)
	store.mu.Lock()
	defer store.mu.Unlock()
	for what, times := range store.accepted {
		if strings.Contains(what, "partNumber") {
			assert.Equal(t, 1, times, "sent twice: %s", what)
		}
	}
}

// The window is closed while the background service carries a run out, and a
// new one finds it where it is.
func TestScreenService(t *testing.T) {
	t.Parallel()
	storeDir := t.TempDir()
	makeBucket(t, storeDir)
	_, address := startStore(t, storeDir)
	dir := workspace(t, address,
		map[string]string{"out": "source = \"src\"\ntarget = \"north/archive\"\n[limits]\nbandwidth = [\"100 " +
			"kB/s\"]\n"})
	fill(t, filepath.Join(dir, "src"), 100, 2<<20)
	server := command(dir, "service")
	var said bytes.Buffer
	server.Stdout, server.Stderr = &said, &said
	require.NoError(t, server.Start())
	defer server.Process.Kill()
	w := openWindowEnv(t, nil, "--workspace", dir)
	w.see(`runs go on without this window`)
	w.keys("4")
	w.see(`p surveys both sides`)
	w.keys("p")
	w.see(`waits to be approved`)
	w.keys("a", "Enter")
	w.see(`in the background service`)
	w.see(`dawn 0\.wav`)
	w.leave() // nothing is asked

	text, code := lumtra(t, dir, "steer", "out")
	assert.Equal(t, cli.ExitDone, code, text)
	assert.Contains(t, text, "100 kB/s (job)")
	w = openWindowEnv(t, nil, "--workspace", dir)
	w.see(`▸ 1 run`)
	w.keys("5")
	w.see(`in the background service`)
	text, code = lumtra(t, dir, "steer", "out", "--bandwidth", "free")
	assert.Equal(t, cli.ExitDone, code, text)
	w.see(`◗ done`)
	w.leave()
	require.NoError(t, server.Process.Signal(os.Interrupt))
	server.Wait()
	assert.Contains(t, said.String(), fmt.Sprintf("as process %d", server.Process.Pid))
	_, code = lumtra(t, dir, "steer", "out")
	assert.Equal(t, cli.ExitBadInput, code)
	_, err := os.Stat(stateOf(t, dir, "service.sock"))
	assert.ErrorIs(t, err, os.ErrNotExist)
}
