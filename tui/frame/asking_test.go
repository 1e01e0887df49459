package frame

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/report"
	"lumtra/service/workroom"
	"lumtra/tui/kit"
)

func opened(t *testing.T) hands {
	h := hands{t, newWorld(t)}
	h.m.Update(tea.WindowSizeMsg{Width: 150, Height: 44})
	settle(h.m, tick{h.m.collect.Collect(h.m.ctx, true)})
	return h
}

// What a view asks is answered to the view: digits choose a form to export in, and
// each writes a file that can be opened.
func TestExportsAreWritten(t *testing.T) {
	h := opened(t)
	s := h.m.shared.Service
	run, err := s.StartRun(t.Context(), "masters", workroom.RunOptions{})
	require.NoError(t, err)
	_, err = run.Wait()
	require.NoError(t, err)
	settle(h.m, tick{h.m.collect.Collect(h.m.ctx, true)})
	starts := map[string]string{".pdf": "%PDF-", ".svg": "<svg", ".csv": "", ".jsonl": "{"}
	for view, forms := range map[kit.View]int{kit.Plan: 4, kit.Run: 4, kit.Proof: 0} {
		t.Chdir(t.TempDir())
		settle(h.m, kit.Open{View: view, Job: "masters"})
		h.sees("masters")
		for n := range max(forms, 1) {
			h.press("x")
			if forms > 0 {
				h.press(string(rune('1' + n)))
			}
			form := report.PDF
			if forms > 0 {
				form = report.Formats[n]
			}
			// and not what was said before
			h.sees("Written to", "/masters-"+strings.ToLower(string(view)), "."+string(form))
			require.Equal(t, view, h.m.view)
		}
		files, _ := filepath.Glob("*")
		require.Len(t, files, max(forms, 1), "%s: %v", view, files)
		for _, f := range files {
			text, err := os.ReadFile(f)
			require.NoError(t, err)
			assert.Contains(t, string(text[:min(len(text), 80)]), starts[filepath.Ext(f)], f)
		}
	}
}

// A draft belongs to its job: turning to another job by whatever way leaves both
// texts as they were, and leaving asks before a draft goes.
func TestDraftsBelongToTheirJobs(t *testing.T) {
	t.Parallel()
	h := opened(t)
	dir := h.m.shared.Service.Workspace().Dir
	text := func(name string) string {
		raw, err := os.ReadFile(filepath.Join(dir, "jobs", name+".toml"))
		require.NoError(t, err)
		return string(raw)
	}
	masters, never := text("masters"), text("never")
	settle(h.m, kit.Open{View: kit.Jobs, Job: "masters"})
	h.press("l", "enter")
	h.typed("zzz")
	h.press("4")
	assert.Equal(t, kit.Jobs, h.m.view, "the phrase has the keys")
	settle(h.m, kit.Open{View: kit.Jobs, Job: "never"})
	h.press("w")
	h.sees("Not here: nothing was changed.")
	settle(h.m, kit.Open{View: kit.Jobs, Job: "masters"})
	h.press("w")
	h.sees("Not here: nothing was changed.")
	assert.Equal(t, [2]string{masters, never}, [2]string{text("masters"), text("never")})

	h.press("l", "enter")
	h.typed("/more")
	h.press("enter", "q")
	h.sees("masters is in no file yet")
	h.press("z")
	h.sees("z once more discards it")
	h.press("z", "w")
	h.sees("Not here: nothing was changed.")

	// Edited outside meanwhile: writing asks, shows what differs, and esc leaves it.
	h.press("enter")
	h.typed("/mine")
	h.press("enter")
	outside := masters + "# seen by nobody here\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "jobs/masters.toml"), []byte(outside), 0o600))
	h.press("w")
	h.sees("was edited outside", "+ # seen by nobody here", "What was changed here")
	h.press("esc")
	assert.Equal(t, outside, text("masters"))
	h.press("w", "enter")
	h.sees("Written to")
	assert.Contains(t, text("masters"), "/mine")

	// A new job is what the other views are about, though it has no plan.
	h.press("n")
	h.typed("never")
	h.press("enter")
	h.sees("there is a job never already")
	h.press("esc", "n")
	h.typed("quite-new")
	h.press("enter", "esc", "4")
	h.sees("quite-new is in no file yet")
	h.press(">")
	assert.NotContains(t, h.text(), "quite-new")
}

// Menus that would be empty do not open, and what is not known yet is not drawn.
func TestNothingToCompareOrEstimate(t *testing.T) {
	h := opened(t)
	settle(h.m, kit.Open{View: kit.Plan, Job: "masters"})
	// by another window
	_, err := h.m.shared.Service.Plan(h.m.ctx, "masters", workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	_, cmd := h.m.Update(press("c"))
	assert.NotNil(t, cmd)
	carryOut(h.m, cmd, 0)
	h.sees("no earlier plan of this job")
	h.press("enter")
	h.press("-", "p") // the side is looked at anew: there is no estimate for a moment
	h.text()
}

// A fault of Lumtra's own leaves a report without what was in it, and the terminal
// whole; one in a command leaves the window, too.
func TestFaults(t *testing.T) {
	h := opened(t)
	reports := func() (texts []string) {
		files, _ := filepath.Glob(filepath.Join(h.m.shared.Service.State(), "faults", "*"))
		for _, f := range files {
			raw, err := os.ReadFile(f)
			require.NoError(t, err)
			texts = append(texts, string(raw))
		}
		return texts
	}
	bad := func() tea.Msg { panic(errors.New("AKSECRET")) }
	carryOut(h.m, h.m.guard(tea.Batch(kit.Cmd(nil), bad)), 0)
	h.sees("the window goes on")
	require.Len(t, reports(), 1)
	seq := h.m.guard(tea.Sequence(bad))()
	assert.NotNil(t, seq)

	_, cmd := h.m.Update(kit.Open{View: "none"})
	assert.Equal(t, tea.Quit(), cmd())
	require.ErrorContains(t, h.m.fault, "what was done stays done")
	for _, r := range reports() {
		assert.Contains(t, r, "lumtra/tui/frame")
		assert.NotContains(t, r, "AKSECRET")
	}
	h.m.view = "none"
	assert.NotPanics(t, func() { h.m.View() })
}

// What is chosen from a list takes no text, pasted or typed, and says so: a rule to add has no
// setting that a text could go into.
func TestPastedWhereOneChooses(t *testing.T) {
	t.Parallel()
	h := opened(t)
	settle(h.m, kit.Open{View: kit.Jobs, Job: "masters"})
	for range 30 {
		if strings.Contains(h.m.draw(), "Add a rule about what is taken") {
			break
		}
		h.press("right")
	}
	h.press("enter")
	before := h.m.draw()
	_, cmd := h.m.Update(tea.PasteMsg{Content: "a = b; c\n2\nq\n"})
	settle(h.m, cmd())
	h.sees("This is chosen from the list")
	assert.NotContains(t, h.m.draw(), "a = b", before)
	h.press("esc")
	h.sees("masters")
}
