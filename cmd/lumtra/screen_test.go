package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/standin"
	"lumtra/testkit"
)

// window is the program in a real terminal, tmux's.
type window struct {
	t    *testing.T
	name string
}

// windows counts those that were opened: each has a tmux server of its own.
var windows atomic.Int64

// openWindow runs the program with the arguments, 158 cells by 46.
func openWindow(t *testing.T, args ...string) *window { return openWindowEnv(t, nil, args...) }

// openWindowEnv is openWindow with more in the environment.
func openWindowEnv(t *testing.T, env []string, args ...string) *window {
	return openAny(t, env, append([]string{"--trust"}, args...)...)
}

// openPlain opens the window as it is opened by hand.
func openPlain(t *testing.T, args ...string) *window { return openAny(t, nil, args...) }

func openAny(t *testing.T, env []string, args ...string) *window {
	w := &window{t, fmt.Sprintf("lumtra-test-%d-%d", os.Getpid(), windows.Add(1))}
	quoted := program
	for _, a := range args {
		quoted += " '" + a + "'"
	}
	// what is exported goes where the window was opened from
	start := []string{"-f", "/dev/null", "new-session", "-d", "-c", t.TempDir(), "-x", "158", "-y", "46", "-e",
		secretEnv + "=reed-bed-9913", "-e", "XDG_CONFIG_HOME=" + t.TempDir()}
	for _, e := range env {
		start = append(start, "-e", e)
	}
	// a program that was killed leaves the terminal raw: without the returns the code begins wherever the last
	// line ended, and is broken in two at the edge
	w.tmux(append(start, quoted+`; printf '\r\ncode %d\r\n' $?; sleep 60`)...)
	t.Cleanup(func() { exec.Command("tmux", "-L", w.name, "kill-server").Run() })
	return w
}

// openShell opens a terminal with a shell in it.
func openShell(t *testing.T) *window {
	w := &window{t, fmt.Sprintf("lumtra-test-%d-%d", os.Getpid(), windows.Add(1))}
	w.tmux("-f", "/dev/null", "new-session", "-d", "-x", "158", "-y", "46", "-e", secretEnv+"=reed-bed-9913", "-e",
		"XDG_CONFIG_HOME="+t.TempDir(), "-e", "PS1=$ ", "bash --norc --noprofile -i")
	t.Cleanup(func() { exec.Command("tmux", "-L", w.name, "kill-server").Run() })
	return w
}

func (w *window) tmux(args ...string) string {
	out, err := exec.Command("tmux", append([]string{"-L", w.name}, args...)...).CombinedOutput()
	require.NoError(w.t, err, "%s", out)
	return string(out)
}

func (w *window) keys(keys ...string) {
	for _, k := range keys {
		w.tmux("send-keys", k)
	}
}

func (w *window) text() string { return w.tmux("capture-pane", "-p") }

// see waits until the screen shows a match and returns the screen.
func (w *window) see(pattern string) string {
	w.t.Helper()
	re := regexp.MustCompile(pattern)
	var text string
	testkit.Until(w.t, func() bool { text = w.text(); return re.MatchString(text) },
		func() any { return fmt.Sprintf("%q is not on the screen, which shows:\n%s", pattern, text) })
	return text
}

// program is the process of the program in the window.
func (w *window) program() int {
	w.t.Helper()
	shell := strings.TrimSpace(w.tmux("display-message", "-p", "#{pane_pid}"))
	children, err := os.ReadFile(filepath.Join("/proc", shell, "task", shell, "children"))
	require.NoError(w.t, err)
	require.NotEmpty(w.t, strings.Fields(string(children)))
	pid, err := strconv.Atoi(strings.Fields(string(children))[0])
	require.NoError(w.t, err)
	return pid
}

// leave presses q until the program has ended, and well.
func (w *window) leave() {
	w.t.Helper()
	for range 5 {
		w.keys("q")
		if testkit.Within(testkit.Patience/2, func() bool { return strings.Contains(w.text(), "code 0") }) {
			return
		}
	}
	require.Fail(w.t, "the program does not end", w.text())
}

// The whole story by hand: the demo opens, a plan is made, looked into,
// approved, runs to its end, and is proven.
func TestScreenStory(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "world")
	w := openWindow(t, "demo", "--dir", dir)
	text := w.see(`Nothing needs you`)
	assert.Regexp(t, `Lumtra · Saltmarsh › Now`, text)
	assert.Regexp(t, `(?s)field-cards-in.*done .*hill-copy.*made up for the demo.*nightly-masters.*made up `+
		`for the demo.*tiles-out.*1,800 objects`, text)

	w.keys("2", "j", "j", "Enter")
	w.see(`▸ archive/`)
	w.see(`keeps sums\s+crc64nvme`)

	w.keys("1", "j", "j", "p")
	text = w.see(`waits to be approved`)
	assert.Regexp(t, `Copy studio/masters to north-store/archive/masters`, text)
	assert.Regexp(t, `add 108 · 319 MiB`, text)
	w.see(`▸ weir/`)
	w.keys("G", "Enter")
	w.see(`▸ 2026-0`)
	w.keys("j", "Enter")
	w.see(`\.json .*add`)
	w.keys("j")
	w.see(`add because it is not at the target`)
	w.keys("a")
	w.see(`(?s)Let plan 1 run\?.*It sends 108 objects, 319 MiB.*It deletes nothing`)
	w.keys("Escape")
	w.see(`Not approved`)
	w.keys("a", "Enter")
	text = w.see(`(?s)In flight.*of`)
	assert.Contains(t, text, "Run › nightly-masters")
	w.keys("1")
	w.see(`running, \d+ % of bytes`)
	w.tmux("resize-window", "-x", "80", "-y", "24")
	w.keys("5")
	w.see(`▸ running`)
	w.tmux("resize-window", "-x", "158", "-y", "46")
	text = w.see(`Everything the plan named is at the target`)
	assert.Regexp(t, `108 of 108 objects\s+319 MiB of 319 MiB`, text)
	w.keys("v")
	text = w.see(`It holds\.`)
	assert.Regexp(t, `same\s+108\s+319 MiB`, text)

	// Planned once more there is nothing to do.
	w.keys("4", "p")
	w.see(`Plan 2 .* nothing to do`)
	w.keys("?")
	w.see(`Keys everywhere`)
	w.keys("Enter", "C-p")
	w.tmux("send-keys", "-l", "endpoints")
	w.keys("Enter")
	w.see(`Saltmarsh › Places`)
	w.leave()
}

// A terminal that scrolls its upper part alone, as it is left by what was drawn for another size
// or by another program, is whole again after a change of size and after ctrl+l.
func TestScreenScrollsAsAWhole(t *testing.T) {
	t.Parallel()
	dir := workspace(t, "http://127.0.0.1:1", map[string]string{"out": "source = \"src\"\ntarget = \"dst\"\n"})
	w := openWindow(t, "--workspace", dir)
	for _, mend := range [][]string{
		{"resize-window", "-x", "150", "-y", "40"}, {"send-keys", "C-l"}, {"resize-window", "-x", "158", "-y", "46"},
	} {
		w.see(`(?s)Lumtra · .*▌.*out.*nothing running`)
		tty, err := os.OpenFile(strings.TrimSpace(w.tmux("display-message", "-p", "#{pane_tty}")), os.O_WRONLY, 0)
		require.NoError(t, err)
		require.NoError(t, syscall.Kill(w.program(), syscall.SIGSTOP)) // else it may draw before it was looked at
		_, err = tty.WriteString("\x1b[1;9r\x1b[2J")
		require.NoError(t, err)
		require.NoError(t, tty.Close())
		testkit.Becomes(t, "8\n", func() string { return w.tmux("display-message", "-p", "#{scroll_region_lower}") })
		require.NoError(t, syscall.Kill(w.program(), syscall.SIGCONT))
		w.tmux(mend...)
		testkit.Becomes(t, "1\n", func() string { // else the upper part alone scrolls
			return w.tmux("display-message", "-p", "#{e|-:#{pane_height},#{scroll_region_lower}}")
		})
		w.see(`(?s)Lumtra · .*▌.*out.*nothing running`)
	}
	w.leave()
}

// Failures are seen, grouped, and do not look clean; names from strangers
// reach the terminal as escapes only.
func TestScreenFailures(t *testing.T) {
	t.Parallel()
	storeDir := t.TempDir()
	makeBucket(t, storeDir)
	store, address := startStore(t, storeDir)
	dir := workspace(t, address, map[string]string{"out": "source = \"src\"\ntarget = \"north/archive\"\n",
		"broken": "source = 1"})
	for i := range 30 {
		put(t, dir, fmt.Sprintf("src/wet/\x1b[2J%02d\n.wav", i), "w")
	}
	put(t, dir, "src/dry.wav", "d")
	store.SetFaults(standin.Fault{Op: "PutObject", Key: "wet/", Do: "corrupt"})
	w := openWindow(t, "--workspace", dir)
	text := w.see(`Needs you`)
	assert.Contains(t, text, "broken.toml:1:10")
	w.keys("p")
	w.see(`waits to be approved`)
	w.see(`▸ wet/`)
	w.keys("G", "Enter")
	w.see(`\d\d\\n\.wav`)
	w.keys("j")
	w.see(`wet/\\x1b\[2J\d\d\\n\.wav`)
	w.keys("a", "Enter")
	text = w.see(`▲ done with failures`)
	assert.Contains(t, text, "30 failed")
	assert.Regexp(t, `30 × north/archive: checksum does not match`, text)
	assert.Contains(t, strings.ReplaceAll(text, "\n", " "), "sends it again")
	w.keys("1")
	w.see(`▲ out\s+30 objects failed in the last run`)
	w.leave()
}
