package main

import (
	"encoding/csv"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/testkit"
)

// What is not there, what is dead and what waits for a person is told by the exit
// code, each time, and a table that goes to a program has no words in it.
func TestToldByTheCode(t *testing.T) {
	t.Parallel()
	dir := jobWorld(t, map[string]string{"both": "source = \"src\"\ntarget = \"dst/both\"\ndirection = \"two-way\"\n",
		"out": "source = \"src\"\ntarget = \"dst/out\"\n"})
	put(t, dir, "src/a.wav", "reed")
	put(t, dir, "src/b.wav", "rush")
	put(t, dir, "dst/both/a.wav", "another")

	// A conflict that is left undecided ends with 1, whether or not there is more.
	for range 3 {
		out, code := lumtra(t, dir, "run", "both")
		assert.Equal(t, 1, code, out)
		assert.Contains(t, out, "1 conflict waits to be decided")
	}

	out, code := lumtra(t, dir, "list", "src/nowhere")
	assert.Equal(t, [2]any{3, "Nothing lies at src/nowhere.\n"}, [2]any{code, out})

	// One dead address of a list does not hide the others.
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/gone.wav" {
			http.NotFound(w, r)
			return
		}
		io.WriteString(w, r.URL.Path)
	}))
	t.Cleanup(server.Close)
	web := server.URL
	put(t, dir, "cards.csv", web+"/gone.wav\n"+web+"/one.wav\n"+web+"/two.wav\n")
	_, code = lumtra(t, dir, "endpoint", "add", "cards", filepath.Join(dir, "cards.csv"))
	require.Zero(t, code)
	out, code = lumtra(t, dir, "list", "--deep", "cards")
	assert.Equal(t, 1, code, out)
	assert.True(t, strings.Contains(out, "one.wav") && strings.Contains(out, "two.wav") && strings.Contains(out, "▲"),
		out)

	// A wrong form is refused before anything is planned; the right one has no words.
	out, code = lumtra(t, dir, "plan", "out", "--export", "plan.odt")
	assert.Equal(t, 2, code, out)
	left, _ := filepath.Glob(stateOf(t, dir, "jobs/out/plans/*"))
	assert.Empty(t, left)
	cmd := command(dir, "plan", "out", "--export", "-")
	table, err := cmd.Output()
	require.NoError(t, err)
	rows, err := csv.NewReader(strings.NewReader(string(table))).ReadAll()
	require.NoError(t, err, "%s", table)
	assert.Len(t, rows, 1+11)
}

// However a terminal ends, the program ends with 5, without the library's own words.
func TestSignals(t *testing.T) {
	t.Parallel()
	for _, signal := range []os.Signal{os.Interrupt, syscall.SIGHUP, syscall.SIGTERM} {
		dir := jobWorld(t,
			map[string]string{"out": "source = \"src\"\ntarget = \"dst/out\"\n[limits]\nbandwidth = [\"1 kB/s\"]\n"})
		put(t, dir, "src/a.wav", strings.Repeat("reed", 1<<20))
		var said strings.Builder
		cmd := command(dir, "run", "out")
		cmd.Stderr = &said
		require.NoError(t, cmd.Start())
		testkit.Until(t, func() bool {
			left, _ := filepath.Glob(stateOf(t, dir, "jobs/out/plans/*.ledger"))
			return len(left) == 1
		})
		require.NoError(t, cmd.Process.Signal(signal))
		cmd.Wait()
		assert.Equal(t, 5, cmd.ProcessState.ExitCode(), "%v: %s", signal, said.String())
		assert.Contains(t, said.String(), "what was done stays done")
		assert.NotContains(t, said.String(), "context")
	}
}

// A window that is told to end gives the terminal back and ends with 5; suspended, it
// gives it back too, and has it again when it goes on.
func TestSignalsInAWindow(t *testing.T) {
	t.Parallel()
	for _, signal := range []syscall.Signal{syscall.SIGHUP, syscall.SIGTERM} {
		dir := jobWorld(t, map[string]string{"out": "source = \"src\"\ntarget = \"dst/out\"\n"})
		w := openShell(t)
		w.typed(program + " --trust --workspace " + dir)
		w.keys("Enter")
		w.see(`1-7 views`)
		w.keys("C-z")
		w.see(`Stopped`)
		w.typed("echo still $((6*7))")
		w.keys("Enter")
		w.see(`still 42`)
		w.typed("fg")
		w.keys("Enter")
		w.see(`1-7 views`)
		w.keys("3")
		w.see(`What it would do`)
		require.NoError(t, syscall.Kill(w.program(), signal))
		w.see(`(?m)^[^ ]*[#$]\s*$`)
		w.typed("echo ended $?")
		w.keys("Enter")
		w.see(`ended 5`)
		w.typed("stty -a | tr ' ' '\\n' | grep -x -e icanon -e echo | wc -l; echo lines")
		w.keys("Enter")
		w.see(`(?m)^2\s*$`)
	}
}
