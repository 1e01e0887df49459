package places

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/handle"
	"lumtra/service"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
	theme "lumtra/tui/look"
)

// What comes late of a sheet that was left neither closes the one that stands by then nor speaks into it: a
// person may be typing a number there.
func TestAnswersAreTheirSheets(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "endpoints.toml"),
		[]byte("[endpoint.studio]\nkind = \"folder\"\npath = \"studio\"\n"), 0o600))
	svc, err := service.Open(workspace.Options{Workspace: dir, State: filepath.Join(dir, "state")})
	require.NoError(t, err)
	t.Cleanup(func() { svc.Close() })
	s := newScreen(t.Context(), &kit.Shared{Service: svc, Theme: theme.New(theme.Dark)})
	form := func(title string) sheet { return &formSheet{s, (&kit.Form{Title: title}).Init()} }
	went := false
	asked := map[string]tea.Msg{
		"done": doneMsg{say: "Made it."}, "failed": failedMsg{errors.New("not allowed")},
		"given up": failedMsg{context.Canceled}, "another sheet": sheetMsg{form("third")},
		"counted": countedMsg{handle.Count{}, func(handle.Count) tea.Cmd { went = true; return nil }},
		"a text":  bodyMsg{func(int) []string { return []string{"other"} }},
	}
	for name, msg := range asked {
		first := form("first")
		s.sheet = first
		cmd := s.addressed(tea.Batch(nil, kit.Cmd(msg)))
		for _, second := range []sheet{form("second"), &countSheet{s: s, stop: func() {}, grown: func() handle.Count {
			return handle.Count{}
		}}, &textSheet{s: s}} {
			s.sheet = second
			for _, late := range all(cmd) {
				said := saying(s.Update(late))
				assert.Equal(t, name == "done" || name == "failed", said, name)
			}
			assert.Same(t, second, s.sheet, name)
			if x, ok := second.(*textSheet); ok {
				assert.True(t, x.err == nil && x.body == nil, name)
			}
		}
		assert.False(t, went, "counted for another sheet")
	}

	s.sheet = form("first")
	for _, msg := range all(s.addressed(kit.Cmd(failedMsg{errors.New("not allowed")}))) {
		s.Update(msg)
	}
	assert.ErrorContains(t, s.sheet.(*formSheet).Err, "not allowed", "its own answers reach it")
	for _, msg := range all(s.addressed(kit.Cmd(doneMsg{}))) {
		s.Update(msg)
	}
	assert.Nil(t, s.sheet)
}

// all is what a command comes to, batches opened.
func all(cmd tea.Cmd) (msgs []tea.Msg) {
	if cmd == nil {
		return nil
	}
	switch msg := cmd().(type) {
	case nil:
	case tea.BatchMsg:
		for _, c := range msg {
			msgs = append(msgs, all(c)...)
		}
	default:
		msgs = append(msgs, msg)
	}
	return msgs
}

// saying tells whether something is said by a command.
func saying(cmd tea.Cmd) bool {
	for _, msg := range all(cmd) {
		if _, ok := msg.(kit.Say); ok {
			return true
		}
	}
	return false
}
