package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/cli"
)

// untrusting is a command with nobody having said that its workspace may be trusted.
func untrusting(dir string, args ...string) *exec.Cmd {
	cmd := exec.Command(program, append([]string{"--workspace", dir}, args...)...)
	cmd.Env = append(os.Environ(), secretEnv+"=reed-bed-9913")
	return cmd
}

// A workspace that somebody sent gets no secret until a person has said so, and then for
// good: by command, or by answering at the terminal.
func TestSentWorkspace(t *testing.T) {
	t.Parallel()
	storeDir := t.TempDir()
	makeBucket(t, storeDir)
	store, address := startStore(t, storeDir)
	dir := workspace(t, address, map[string]string{"out": "source = \"src\"\ntarget = \"north/archive\"\n"})
	put(t, dir, "src/a.wav", "a")
	cmd := untrusting(dir, "run", "out")
	out, _ := cmd.CombinedOutput()
	assert.Equal(t, cli.ExitBadInput, cmd.ProcessState.ExitCode(), "%s", out)
	assert.Contains(t, string(out), "the settings of north use env:"+secretEnv+" for "+address)
	assert.Contains(t, string(out), "lumtra endpoint confirm north")
	assert.Empty(t, store.accepted)

	cmd = untrusting(dir, "endpoint", "confirm", "north")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "Confirmed: env:"+secretEnv+" for "+address)
	cmd = untrusting(dir, "run", "out")
	out, err = cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)

	// At a terminal: what is answered with n is asked again next time, y never.
	other := workspace(t, address, map[string]string{"out": "source = \"src\"\ntarget = \"north/archive\"\n"})
	for _, answer := range []string{"n", "y", ""} {
		w := openPlain(t, "--workspace", other)
		if answer != "" {
			w.see(`north: env:` + secretEnv + ` for http://127\.0\.0\.1`)
			w.keys(answer, "Enter")
		}
		w.see(`1-7 views`)
		w.keys("2")
		w.see(`▸ north|north`)
		w.keys("q")
		w.see(`code 0`)
	}
}

// A question is ended by Ctrl-C like anything else: with 5, and the terminal as it was.
func TestQuestionsEndToo(t *testing.T) {
	t.Parallel()
	dir := workspace(t, "http://127.0.0.1:1", nil)
	for _, c := range []struct{ args, question string }{ // in this order, since --trust is remembered
		{"list north", `y/N`}, {"--trust credential keep marsh --kind key-pair --name AK", "not shown"},
		{"--trust credential lock", "New passphrase"},
	} {
		w := openShell(t)
		w.typed("cd /; " + program + " --workspace " + dir + " " + c.args + "; echo ended $?")
		w.keys("Enter")
		w.see(c.question)
		w.keys("C-c")
		w.see(`ended \d`)
		w.typed("stty -a | tr ' ' '\\n' | grep -x -e icanon -e echo | wc -l")
		w.keys("Enter")
		w.see(`(?m)^2\s*$`)
		assert.Contains(t, w.text(), "ended 5")
	}
}

// State that lay in the workspace moves to the user's own folder; what a stranger has
// prepared there is not followed, and nothing outside is written.
func TestStateLeavesTheWorkspace(t *testing.T) {
	t.Parallel()
	dir := workspace(t, "http://127.0.0.1:1", map[string]string{"out": "source = \"src\"\ntarget = \"dst\"\n"})
	put(t, dir, "src/a.wav", "a")
	old := filepath.Join(dir, ".lumtra")
	out, code := lumtra(t, dir, "--state", old, "run", "out")
	require.Zero(t, code, out)
	out, code = lumtra(t, dir, "history", "out")
	require.Zero(t, code, out)
	assert.Contains(t, out, "The state of this workspace lies in "+stateOf(t, dir)+" now")
	assert.NoDirExists(t, old)
	assert.FileExists(t, stateOf(t, dir, "jobs/out/plans/0001.plan"))
	out, code = lumtra(t, dir, "history", "out")
	require.Zero(t, code, out)
	assert.NotContains(t, out, "The state")

	precious := filepath.Join(t.TempDir(), "profile")
	put(t, filepath.Dir(precious), "profile", "mine\n")
	for _, name := range []string{"lumtra.log", "history.db", "service.lock", "tray.json"} {
		sent := workspace(t, "http://127.0.0.1:1", map[string]string{"out": "source = \"src\"\ntarget = \"dst\"\n"})
		put(t, sent, "src/a.wav", "a")
		require.NoError(t, os.Mkdir(filepath.Join(sent, ".lumtra"), 0o700))
		require.NoError(t, os.Symlink(precious, filepath.Join(sent, ".lumtra", name)))
		out, code := lumtra(t, sent, "run", "out")
		assert.Equal(t, cli.ExitBadInput, code, out)
		assert.Contains(t, out, name+" is a link")
		out, code = lumtra(t, sent, "--state", filepath.Join(sent, ".lumtra"), "run", "out")
		assert.Equal(t, cli.ExitBadInput, code, out)
		require.NoError(t, os.RemoveAll(filepath.Join(sent, ".lumtra")))
		out, code = lumtra(t, sent, "run", "out")
		assert.Zero(t, code, out)
	}
	raw, err := os.ReadFile(precious)
	require.NoError(t, err)
	assert.Equal(t, "mine\n", string(raw))
}
