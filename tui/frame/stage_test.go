package frame

import (
	"context"
	"fmt"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/require"

	"lumtra/core/job"
	"lumtra/service"
	"lumtra/service/workspace"
	"lumtra/testkit"
	"lumtra/tui/kit"
)

// stage is a window without a terminal: what its commands come to is fed back to it as it
// comes, clocks included, and what would leave the window is noted.
type stage struct {
	t    *testing.T
	m    *model
	msgs chan tea.Msg
	left string // what went to the terminal's side: "quit", "exec", …
	busy sync.WaitGroup
}

// openStage opens a window on a workspace.
func openStage(t *testing.T, dir string) *stage {
	s, err := service.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state"), Trust: true})
	require.NoError(t, err)
	x := stageOf(t, s)
	x.m.shared.PreferencesAt = filepath.Join(dir, "mine", job.PreferencesFile)
	x.do(x.m.Init())
	return x
}

// stageOf is a window on a service, which it closes in the end; nothing has been taken in yet.
func stageOf(t *testing.T, s *service.Service) *stage {
	ctx, cancel := context.WithCancel(context.Background())
	x := &stage{t: t, m: newModel(ctx, s), msgs: make(chan tea.Msg, 1024)}
	t.Cleanup(func() { cancel(); s.Close(); x.busy.Wait() })
	x.update(tea.WindowSizeMsg{Width: 170, Height: 56})
	return x
}

func (x *stage) update(msg tea.Msg) {
	_, cmd := x.m.Update(msg)
	x.do(cmd)
}

// do carries a command out, on the side.
func (x *stage) do(cmd tea.Cmd) {
	if cmd != nil {
		x.busy.Go(func() { x.take(cmd()) })
	}
}

// take sorts what a command came to.
func (x *stage) take(msg tea.Msg) {
	switch msg := msg.(type) {
	case nil:
	case tea.BatchMsg:
		for _, c := range msg {
			x.do(c)
		}
	default:
		// a sequence
		if v := reflect.ValueOf(msg); v.Kind() == reflect.Slice && v.Type().Elem() == reflect.TypeFor[tea.Cmd]() {
			for i := range v.Len() {
				if c, _ := v.Index(i).Interface().(tea.Cmd); c != nil {
					x.take(c())
				}
			}
			return
		}
		x.msgs <- msg
	}
}

// look is the window's text, with what left it.
func (x *stage) look() string { return x.left + "\n" + x.text() }

// text is what the window shows.
func (x *stage) text() string { return ansi.Strip(x.m.draw()) }

// came takes in one message.
func (x *stage) came(msg tea.Msg) {
	switch kind := fmt.Sprintf("%T", msg); kind {
	case "tea.QuitMsg", "tea.execMsg", "tea.setClipboardMsg", "tea.printLineMessage":
		x.left += kind + " "
	default:
		x.update(msg)
	}
}

// takes takes in what has come, and waits for nothing.
func (x *stage) takes() {
	for {
		select {
		case msg := <-x.msgs:
			x.came(msg)
		default:
			return
		}
	}
}

// await takes in what comes until it is so, and tells whether it is in time.
func (x *stage) await(so func() bool) bool {
	deadline := time.After(testkit.Patience)
	for !so() {
		select {
		case msg := <-x.msgs:
			x.came(msg)
		case <-deadline:
			return false
		}
	}
	return true
}

// sees waits until the window shows all the texts together.
func (x *stage) sees(texts ...string) {
	x.t.Helper()
	missing := ""
	if !x.await(func() bool {
		for _, missing = range texts {
			if !strings.Contains(x.text(), missing) {
				return false
			}
		}
		return true
	}) {
		require.Fail(x.t, "never seen", "%q in\n%s", missing, x.text())
	}
	check(x.t, x.m, "")
}

// silent takes back what the window said last, so that it is heard when it says it again.
func (x *stage) silent() { x.m.said = kit.Say{} }

// goes presses keys one after the other: "=text" types, "~match" waits for what is seen.
func (x *stage) goes(steps ...string) {
	x.t.Helper()
	for _, step := range steps {
		switch {
		case len(step) > 1 && step[0] == '~':
			match := regexp.MustCompile(step[1:])
			if !x.await(func() bool { return match.MatchString(x.look()) }) {
				require.Fail(x.t, "never seen", "%s in\n%s", step[1:], x.look())
			}
		case len(step) > 1 && step[0] == '=':
			for _, r := range step[1:] {
				if r == ' ' {
					x.update(press("space"))
				} else {
					x.update(press(string(r)))
				}
			}
		default:
			x.update(press(step))
		}
	}
}

// copied is a copy of a folder, times and all, for one window to change.
func copied(t *testing.T, from string) string {
	dir := filepath.Join(t.TempDir(), "w")
	out, err := exec.Command("cp", "-a", from, dir).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return dir
}
