package frame

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"
	"unicode"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/history"
	"lumtra/core/pace"
	"lumtra/core/plan"
	"lumtra/core/transfer"
	"lumtra/service"
	"lumtra/service/runs"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
	"lumtra/testkit"
	"lumtra/tui/kit"
)

// newWorld is a workspace whose job masters has a plan and a proof, with names that would steer a terminal.
func newWorld(t *testing.T) *service.Service {
	dir := t.TempDir()
	put := func(name, text string) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
	put("endpoints.toml",
		"title = \"Salt\\u001b[2Jmarsh\"\n[endpoint.studio]\nkind = \"folder\"\npath = "+
			"\"studio\"\n[endpoint.copy]\nkind = \"folder\"\npath = \"copy\"\n[endpoint.gone]\nkind = "+
			"\"folder\"\npath = \"gone\"\n")
	put("jobs/masters.toml", "source = \"studio\"\ntarget = \"copy/x\"\n")
	put("jobs/broken.toml", "source = 1\n")
	put("jobs/never.toml", "source = \"studio\"\ntarget = \"copy/y\"\n")
	put("copy/x/extra\x1b]0;title\a.wav", "e")
	for i := range 60 {
		put(fmt.Sprintf("studio/wet \x1b[31m%d/\u202egpj.%s.wav", i%4, strings.Repeat("long ", i%45)),
			strings.Repeat("w", i*i))
	}
	put("studio/"+strings.Repeat("潮", 30)+"/"+strings.Repeat("a潮音", 30)+".wav", "wide")
	s, err := service.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state")})
	require.NoError(t, err)
	ctx := testkit.Context(t)
	_, err = s.Plan(ctx, "masters", workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	_, err = s.Prove(ctx, "masters", workroom.ProveOptions{}, &workroom.Activity{})
	require.NoError(t, err)
	return s
}

// opened is a window on that, with its state taken in.
func opened(t *testing.T) *stage {
	x := stageOf(t, newWorld(t))
	x.update(tea.WindowSizeMsg{Width: 150, Height: 44})
	x.do(x.m.Init())
	x.sees("plan 1 waits to be approved")
	return x
}

// styles are colours, and links to files of this machine.
var styles = regexp.MustCompile(`\x1b\[[0-9;:]*m|\x1b\]8;;(file://[ -~]*)?\x07`)

// check holds what is drawn to the size of the window, and to text that no
// name can steer.
func check(t require.TestingT, m *model, what string) {
	lines := strings.Split(m.draw(), "\n")
	require.Len(t, lines, m.height, what)
	for i, l := range lines {
		require.Equal(t, m.width, ansi.StringWidth(l), "%s, line %d: %q", what, i, l)
		plain := styles.ReplaceAllString(l, "")
		require.False(t,
			strings.ContainsFunc(plain, func(r rune) bool { return unicode.IsControl(r) || r == '\u202e' }), "%s: %q",
			what, plain)
	}
}

// Whatever keys are pressed, in whatever window, every view draws exactly the
// window and nothing else.
func TestDrawsTheWindow(t *testing.T) {
	testkit.Heavy(t)
	t.Parallel()
	x := stageOf(t, newWorld(t))
	m := x.m
	check(t, m, "before the first state")
	x.update(tick{m.collect.Collect(m.ctx, true)})
	busy := m.shared.State
	busy.Jobs = append([]kit.JobState(nil), busy.Jobs...)
	for i := range busy.Jobs { // a run under way, with all that can be seen of one
		if busy.Jobs[i].Plan == nil {
			continue
		}
		now := time.Now()
		busy.Jobs[i].Active = &kit.Active{State: runs.State{Planned: busy.Jobs[i].Plan.Totals.Work(),
			Afterwards: plan.Total{Count: 3}, Limit: pace.Limit{Rate: 5e6}, Until: now, Limiter: "north",
			Snapshot: transfer.Snapshot{
				Began: now.Add(-time.Minute), Objects: 3, Bytes: 99999, Failed: 2, Retries: 5,
				Steering: transfer.Steering{Streams: 16, Automatic: true},
				Samples: []transfer.Sample{{}, {At: 9e9, Bytes: 5000}, {At: 20e9, Bytes: 60000},
					{At: 30e9, Bytes: 60000}, {At: 50e9, Bytes: 99000}},
				Flights: []transfer.Flight{{Key: "a\x1b[2J", Size: 5, Sent: 3, Began: now},
					{Key: "b", Size: 1 << 40, Parts: make([]transfer.PartState, 9000), Tries: 3}},
				Problems: []transfer.Problem{{Cause: "north: \x1b[2Jnot allowed", Advice: "ask", Count: 2,
					Keys: []string{"x\ny"}}}}}}
		busy.Jobs[i].Runs = []history.Run{{Job: "masters", Began: now.Add(-time.Minute), End: history.Running},
			{Job: "masters", Began: now.Add(-time.Hour), Ended: now.Add(-50 * time.Minute), End: history.Failures,
				Failed: 3, Note: "\x1b[2J"}}
	}
	quiet := m.shared.State
	for _, v := range views { // load what each view loads
		x.update(kit.Open{View: v.View, Job: "masters"})
		x.sees("› " + string(v.View))
	}
	testkit.Check(t, func(rt *rapid.T) {
		m.shared.State = rapid.SampledFrom([]kit.State{quiet, busy}).Draw(rt, "state")
		m.Update(tea.WindowSizeMsg{Width: rapid.IntRange(1, 220).Draw(rt, "width"),
			Height: rapid.IntRange(1, 70).Draw(rt, "height")})
		for _, key := range rapid.SliceOfN(rapid.SampledFrom([]string{"1", "2", "3", "4", "5", "6", "j", "k", "G",
			"g", "enter", "left", "right", "+", "-", "n", "b", "s", "?", "u", ">", "esc", "m", "ctrl+p",
			"space", "t", "T", "d", "D", "i", "*", "e", "y", "K", "H", "o", "v", "E", "tab", "/", "A", "c", "L", "U",
			"w", "r", "p", "x", "a", "f", "w", "J", "z", "R", "down", "up", "=", "[", "]", "\\", "!"}), 1, 6).Draw(rt,
			"keys") {
			_, cmd := m.Update(press(key))
			if m.view == kit.Places || m.view == kit.Plan || m.view == kit.Jobs {
				if rapid.IntRange(0, 9).Draw(rt, "load") == 0 {
					x.do(cmd)
				}
			}
			x.takes()
			check(rt, m, fmt.Sprintf("%s after %q at %d×%d", m.view, key, m.width, m.height))
		}
	})
	assert.NotEmpty(t, m.View().WindowTitle)
	assert.NotContains(t, m.View().WindowTitle, "\x1b")
}

// Keys lead where they say.
func TestKeysLead(t *testing.T) {
	t.Parallel()
	x := opened(t)
	x.sees("broken.toml:1:10") // a mistake in a file is a need
	x.goes("4", "~Copy studio to copy/x", `~▸ wet \\x1b\[31m0/`, "j", "esc", "~› Now", "6", "~It does not hold", "2",
		"~▸ studio", "G", "~› studio", "enter", "~▾ studio", `~▸ wet \\x1b\[31m3/`, "?", "~Keys everywhere", "j",
		"ctrl+p", "~do what", "=bits", "enter")
	assert.True(t, x.m.shared.Bits)
	_, cmd := x.m.Update(press("q"))
	require.NotNil(t, cmd)
	assert.Equal(t, tea.Quit(), cmd())
}
