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

// What a view asks is answered to the view: digits choose a form to export in, and
// each writes a file that can be opened.
func TestExportsAreWritten(t *testing.T) {
	h := opened(t)
	s := h.m.shared.Service
	run, err := s.StartRun(t.Context(), "masters", workroom.RunOptions{})
	require.NoError(t, err)
	_, err = run.Wait()
	require.NoError(t, err)
	h.update(tick{h.m.collect.Collect(h.m.ctx, true)})
	starts := map[string]string{".pdf": "%PDF-", ".svg": "<svg", ".csv": "", ".jsonl": "{"}
	for view, forms := range map[kit.View]int{kit.Plan: 4, kit.Run: 4, kit.Proof: 0} {
		t.Chdir(t.TempDir())
		h.update(kit.Open{View: view, Job: "masters"})
		h.sees("› " + string(view) + " › masters")
		for n := range max(forms, 1) {
			h.goes("x")
			if forms > 0 {
				h.goes(string(rune('1' + n)))
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
	h.update(kit.Open{View: kit.Jobs, Job: "masters"})
	h.sees("› Jobs › masters")
	h.goes("l", "enter")
	h.goes("=zzz")
	h.goes("4")
	assert.Equal(t, kit.Jobs, h.m.view, "the phrase has the keys")
	h.update(kit.Open{View: kit.Jobs, Job: "never"})
	h.sees("› Jobs › never")
	h.silent()
	h.goes("w")
	h.sees("Not here: nothing was changed.")
	h.update(kit.Open{View: kit.Jobs, Job: "masters"})
	h.sees("› Jobs › masters")
	h.silent()
	h.goes("w")
	h.sees("Not here: nothing was changed.")
	assert.Equal(t, [2]string{masters, never}, [2]string{text("masters"), text("never")})

	h.goes("l", "enter")
	h.goes("=/more")
	h.goes("enter", "q")
	h.sees("masters is in no file yet")
	h.goes("z")
	h.sees("z once more discards it")
	h.goes("z", "w")
	h.sees("Not here: nothing was changed.")

	// Edited outside meanwhile: writing asks, shows what differs, and esc leaves it.
	h.goes("enter")
	h.goes("=/mine")
	h.goes("enter")
	outside := masters + "# seen by nobody here\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "jobs/masters.toml"), []byte(outside), 0o600))
	h.goes("w")
	h.sees("was edited outside", "+ # seen by nobody here", "What was changed here")
	h.goes("esc")
	assert.Equal(t, outside, text("masters"))
	h.goes("w", "~was edited outside", "enter")
	h.sees("Written to")
	assert.Contains(t, text("masters"), "/mine")

	// A new job is what the other views are about, though it has no plan.
	h.goes("n")
	h.goes("=never")
	h.goes("enter")
	h.sees("there is a job never already")
	h.goes("esc", "n")
	h.goes("=quite-new")
	h.goes("enter", "esc", "4")
	h.sees("quite-new is in no file yet")
	h.goes(">")
	assert.NotContains(t, h.text(), "quite-new")
}

// Menus that would be empty do not open, and what is not known yet is not drawn.
func TestNothingToCompareOrEstimate(t *testing.T) {
	h := opened(t)
	h.update(kit.Open{View: kit.Plan, Job: "masters"})
	h.sees("› Plan › masters")
	// by another window
	_, err := h.m.shared.Service.Plan(h.m.ctx, "masters", workroom.Freshness{}, &workroom.Activity{})
	require.NoError(t, err)
	h.goes("c")
	h.sees("no earlier plan of this job")
	h.goes("enter")
	h.goes("-", "p") // the side is looked at anew: there is no estimate for a moment
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
	h.do(h.m.guard(tea.Batch(kit.Cmd(nil), bad)))
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
	h.update(kit.Open{View: kit.Jobs, Job: "masters"})
	h.sees("› Jobs › masters")
	for range 30 {
		if strings.Contains(h.m.draw(), "Add a rule about what is taken") {
			break
		}
		h.goes("right")
	}
	h.goes("enter")
	before := h.m.draw()
	h.update(tea.PasteMsg{Content: "a = b; c\n2\nq\n"})
	h.sees("This is chosen from the list")
	assert.NotContains(t, h.m.draw(), "a = b", before)
	h.goes("esc")
	h.sees("masters")
}
