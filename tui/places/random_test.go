package places

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/service"
	"lumtra/service/workspace"
	"lumtra/testkit"
	"lumtra/tui/kit"
	theme "lumtra/tui/look"
)

// drive is a view whose commands run beside it, as in a window: what they bring
// comes in whatever order.
type drive struct {
	s     *Screen
	inbox chan tea.Msg
}

func (d *drive) send(msg tea.Msg) { d.start(d.s.Update(msg)) }

func (d *drive) start(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	go func() {
		switch msg := cmd().(type) {
		case nil, kit.Say, kit.Refresh, kit.Open:
		default:
			d.inbox <- msg
		}
	}()
}

// take takes in what comes for a while.
func (d *drive) take(wait time.Duration) {
	for end := time.After(wait); ; { // what comes later comes with the next, as in a window
		select {
		case msg := <-d.inbox:
			d.came(msg)
		case <-end:
			return
		}
	}
}

// next takes in the next that comes.
func (d *drive) next() { d.came(<-d.inbox) }

func (d *drive) came(msg tea.Msg) {
	if batch, ok := msg.(tea.BatchMsg); ok {
		for _, cmd := range batch {
			d.start(cmd)
		}
	} else {
		d.send(msg)
	}
}

// key presses a key by its name.
func (d *drive) key(name string) {
	switch name {
	case "enter":
		d.send(tea.KeyPressMsg{Code: tea.KeyEnter})
	case "esc":
		d.send(tea.KeyPressMsg{Code: tea.KeyEscape})
	default:
		d.send(tea.KeyPressMsg{Code: []rune(name)[0], Text: name})
	}
}

var goes = regexp.MustCompile(`that go, ([0-9,]+)`)

// confirm types the number that a sheet asks for, and goes ahead.
func (d *drive) confirm() {
	for range 12 {
		d.take(10 * time.Millisecond)
		if d.s.sheet == nil {
			return
		}
		text := strings.Join(d.s.sheet.lines(70, 40), " ")
		if m := goes.FindStringSubmatch(text); m != nil {
			for _, r := range strings.ReplaceAll(m[1], ",", "") {
				d.key(string(r))
			}
			break
		}
	}
	d.key("enter")
	for range 12 {
		d.take(10 * time.Millisecond)
		if d.s.sheet == nil || strings.Contains(strings.Join(d.s.sheet.lines(70, 40), " "), "Done.") {
			break
		}
	}
	d.key("esc")
}

// Whatever is opened, closed, removed, made, emptied and read again, by hand or from
// outside, the tree stays one: each line is found where it is drawn.
func TestActionsOverOpenTrees(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "endpoints.toml"),
		[]byte("[endpoint.north]\nkind = \"s3\"\nstand-in = \"north\"\n[endpoint.attic]\nkind = \"folder\"\npath = "+
			"\"attic\"\n[endpoint.studio]\nkind = \"folder\"\npath = \"studio\"\n"), 0o600))
	service, err := service.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state")})
	require.NoError(t, err)
	t.Cleanup(func() { service.Close() })
	shared := &kit.Shared{Service: service, Theme: theme.New(theme.Dark)}
	made := 0
	fill := func() {
		for _, at := range []string{"attic/a", "attic/b/c", "studio/c/a", "studio/c", "stand-ins/x"} {
			made++
			require.NoError(t, os.MkdirAll(filepath.Join(dir, at), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(dir, at, fmt.Sprint(made%9)), nil, 0o600))
		}
		for _, name := range []string{"reed", "rush"} {
			service.MakeBucket(t.Context(), "north", name)
		}
	}
	keys := []string{"enter", "enter", "enter", "j", "j", "k", "G", "g", "r", "r", "V", "s", "space", "c", "A", "l",
		"h", "esc", "/"}
	testkit.Check(t, func(rt *rapid.T) {
		fill()
		d := &drive{s: newScreen(t.Context(), shared), inbox: make(chan tea.Msg, 1000)}
		d.send(kit.Opened{})
		for range rapid.IntRange(0, 3).Draw(rt, "endpoints open") { // from the lowest up
			d.key("enter")
			d.take(20 * time.Millisecond)
			d.key("G")
			for d.s.here.in != d.s.root || d.s.here.in.child(d.s.here.row) != nil {
				if d.key("k"); d.s.cursor.At == 0 {
					break
				}
			}
		}
		for range rapid.IntRange(3, 12).Draw(rt, "steps") {
			switch rapid.IntRange(0, 9).Draw(rt, "what") {
			case 0:
				d.key("esc")
				d.key(rapid.SampledFrom([]string{"D", "E", "U"}).Draw(rt, "act"))
				d.confirm()
			case 1:
				fill()
				d.key("r")
			default:
				d.key(rapid.SampledFrom(keys).Draw(rt, "key"))
			}
			d.take(time.Duration(rapid.IntRange(0, 12).Draw(rt, "ms")) * time.Millisecond)
			d.s.Render(100, 30)
			for n := range d.s.root.lines() {
				assert.Equal(rt, n, d.s.root.number(d.s.root.line(n)))
			}
		}
		d.s.root.close()
	})
}
