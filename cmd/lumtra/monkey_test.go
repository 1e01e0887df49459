package main

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/testkit"
)

// frozen is how long a window may go without drawing its clock anew.
const frozen = 4 * time.Second

// monkey presses whatever comes to it, in a real terminal.
type monkey struct {
	t    *testing.T
	w    *window
	draw *rand.Rand
	log  []string // the last keys
	open func() *window
}

// anything are keys as tmux names them; q and Ctrl-C leave, Ctrl-Z stops, B starts another
// process: those have tests of their own.
var anything = append(strings.Split("abcdefghijklmnoprstuvwxyzACDEFGHIJKLMNOPQRSTUVWXYZ0123456789", ""),
	"Up", "Down", "Left", "Right", "Enter", "Enter", "Enter", "Escape", "Escape", "Escape", "Tab", "Space", "Space",
	"PageUp", "PageDown", "Home", "End", "BSpace", "C-p", "C-y", "BTab", "F1", "C-a", "C-k", "M-x", "?", "/", "!", "+",
	"-",
	"=", "[", "]", "<", ">", "*", "'", "\"", "`", "\\", "|", "C-u", "C-w", "Delete")

// typings are texts that somebody may type or paste.
var typings = []string{"1", "2", "7", "north/archive/", "**/*.wav", "/tmp", "a = b; c", "🎙 tide", "\u202edoow",
	"x y  z",
	"https://store.example.org/box?sig=abc", "select.include", strings.Repeat("long ", 60), "%s%n$(reboot)"}

// step does one thing.
func (m *monkey) step() {
	switch n := m.draw.IntN(20); {
	case n == 0:
		text := typings[m.draw.IntN(len(typings))]
		m.note("typed " + text)
		m.w.typed(text)
	case n == 1:
		text := typings[m.draw.IntN(len(typings))] + []string{"", "\n", "\n2\nq\n"}[m.draw.IntN(3)]
		m.note("pasted " + text)
		m.w.tmux("set-buffer", text)
		m.w.tmux("paste-buffer", "-p")
	case n == 2:
		size := [][2]int{{158, 46}, {80, 24}, {60, 12}, {40, 8}, {200, 60}, {100, 30}}[m.draw.IntN(6)]
		m.note(fmt.Sprintf("window %d×%d", size[0], size[1]))
		m.w.tmux("resize-window", "-x", strconv.Itoa(size[0]), "-y", strconv.Itoa(size[1]))
	default:
		key := anything[m.draw.IntN(len(anything))]
		m.note(key)
		m.w.keys(key)
	}
}

func (m *monkey) note(what string) {
	if m.log = append(m.log, what); len(m.log) > 60 {
		m.log = m.log[1:]
	}
}

var clock = regexp.MustCompile(`(\d\d):(\d\d):(\d\d) `)

// answers waits until the window draws a clock that goes, and holds what it shows to what a
// window may show.
func (m *monkey) answers() {
	m.t.Helper()
	began := time.Now()
	for {
		text := m.w.text()
		for _, bad := range []string{"code ", "panic:", "goroutine ", "runtime error", "fault"} {
			require.NotContains(m.t, strings.Split(text, "\n")[0], bad, "%s\nafter %q", text, m.log)
		}
		if strings.Contains(text, "\ncode 0\n") && slices.Contains(m.log, "C-p") { // it found how to leave
			m.w = m.open()
			m.w.see(`eeds you`)
			return
		}
		require.NotContains(m.t, text, "\ncode ", "it ended after %q", m.log)
		if strings.Contains(text, "or more; this is") { // no room for a clock
			m.harmless(text)
			return
		}
		if at := clock.FindStringSubmatch(text); at != nil {
			now := time.Now()
			shown, err := time.ParseInLocation("2006-01-02 15:04:05",
				now.Format("2006-01-02 ")+at[1]+":"+at[2]+":"+at[3],
				time.Local)
			if err == nil && now.Sub(shown) < frozen && shown.Sub(now) < frozen {
				m.harmless(text)
				return
			}
		}
		require.Less(m.t, time.Since(began), 2*frozen, "frozen after %q:\n%s", m.log, text)
		time.Sleep(50 * time.Millisecond) // how long it takes is what is tested
	}
}

// harmless holds what the window drew to what may be drawn. While an editor has the terminal, the
// terminal itself echoes whatever is typed: that is no window, and has no clock.
func (m *monkey) harmless(text string) {
	m.t.Helper()
	for _, r := range text {
		require.False(m.t, r < ' ' && r != '\n' || r == '\u202e', "%q is drawn after %q:\n%s", r, m.log, text)
	}
}

// Random keys, typed and pasted text and sizes on the real screen, while files, jobs and the
// store change beside it: it neither ends nor freezes nor draws what it should not.
// LUMTRA_MONKEY is how long each of the three goes on, LUMTRA_SEED draws other keys.
func TestMonkey(t *testing.T) {
	text := os.Getenv("LUMTRA_MONKEY")
	if text == "" {
		t.Skip("left to the hunt: LUMTRA_MONKEY says how long it goes on")
	}
	span, err := time.ParseDuration(text)
	require.NoError(t, err)
	for n := range 3 {
		t.Run(fmt.Sprint(n), func(t *testing.T) {
			t.Parallel()
			_, address := startStore(t, t.TempDir())
			_, p := root(t, address, "archive", true)
			for i := range 30 {
				store(t, p, fmt.Sprintf("takes/%02d \x1b[31m.wav", i), strings.Repeat("tide ", i), place.WriteOptions{})
			}
			store(t, p, "takes/02 \x1b[31m.wav", "again", place.WriteOptions{})
			dir := workspace(t, address, map[string]string{"up": "source = \"src\"\ntarget = \"north/archive/up\"\n" +
				"target-only = \"delete\"\n", "down": "source = \"north/archive/takes\"\ntarget = \"dst\"\n",
				"both": "source = \"src\"\ntarget = \"dst\"\ndirection = \"two-way\"\n"})
			put(t, dir, "src/a.wav", "one")
			open := func() *window {
				return openWindowEnv(t, []string{"EDITOR=true", "VISUAL=true"}, "--workspace", dir, "--state",
					filepath.Join(dir, "state"))
			}
			m := &monkey{t: t, w: open(), open: open, draw: testkit.Dice(t)}
			m.w.see(`eeds you`)
			t.Cleanup(func() {
				reports, _ := filepath.Glob(filepath.Join(dir, "state/faults/*"))
				for _, path := range reports {
					raw, _ := os.ReadFile(path)
					t.Errorf("it broke after %q: %s", m.log, raw)
				}
			})
			steps := 0
			// it goes on for so long, and waits for nothing
			for end := time.Now().Add(span); time.Now().Before(end); steps++ {
				m.step()
				if steps%10 == 0 {
					m.world(dir, p, steps)
				}
				if steps%4 == 0 {
					m.answers()
				}
			}
			t.Logf("%d steps", steps)
			m.w.tmux("resize-window", "-x", "158", "-y", "46")
			for range 12 { // out of whatever was asked
				m.w.keys("Escape")
				m.answers()
				time.Sleep(100 * time.Millisecond) // else the terminal makes one key of two
			}
			m.leave()
		})
	}
}

// leave ends the program. A question may come after all those that were answered, when a plan that
// was asked for is made only then: it is left before each q.
func (m *monkey) leave() {
	for range 5 {
		m.w.keys("Escape")
		time.Sleep(100 * time.Millisecond) // else the terminal makes one key of two
		for range 2 {                      // the second where the first asks whether what was written may go
			m.w.keys("q")
			if testkit.Within(6*time.Second, func() bool { return strings.Contains(m.w.text(), "code 0") }) {
				return
			}
		}
	}
	require.Fail(m.t, "the program does not end", m.w.text())
}

// world changes something that the window shows.
func (m *monkey) world(dir string, p place.Place, n int) {
	name := filepath.Join(dir, "src", fmt.Sprintf("new %d.wav", n))
	assert.NoError(m.t, os.MkdirAll(filepath.Dir(name), 0o755))
	switch m.draw.IntN(6) {
	case 0:
		assert.NoError(m.t, os.WriteFile(name, []byte(strings.Repeat("x", n)), 0o600))
	case 1:
		os.Remove(name)
	case 2:
		store(m.t, p, fmt.Sprintf("takes/new %d.wav", n), "new", place.WriteOptions{})
	case 3:
		p.Remove(ctx, object.Ref{Key: fmt.Sprintf("takes/%02d \x1b[31m.wav", m.draw.IntN(30))})
	case 4:
		put(m.t, dir, "jobs/broken.toml", "source = 1\n")
	case 5:
		os.Remove(filepath.Join(dir, "jobs/broken.toml"))
	}
}
