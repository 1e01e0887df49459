package settings

import (
	"errors"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/job"
	"lumtra/tui/kit"
	"lumtra/tui/look"
)

func press(s *Screen, keys ...string) tea.Msg {
	var cmd tea.Cmd
	for _, k := range keys {
		msg := tea.KeyPressMsg{Code: []rune(k)[0], Text: k}
		switch k {
		case "down":
			msg = tea.KeyPressMsg{Code: tea.KeyDown}
		case "enter":
			msg = tea.KeyPressMsg{Code: tea.KeyEnter}
		case "esc":
			msg = tea.KeyPressMsg{Code: tea.KeyEscape}
		}
		cmd = s.Update(msg)
	}
	if cmd == nil {
		return nil
	}
	return cmd()
}

// Every setting shows what is set or what is usual, at every size; a change that could not be
// written is told and leaves the view as it was; a file with a mistake says so.
func TestSettingsView(t *testing.T) {
	path := t.TempDir() + "/lumtra.toml"
	s := &Screen{Shared: &kit.Shared{Theme: look.New(look.Dark), Preferences: &job.Preferences{Theme: "safe"},
		PreferencesAt: path}}
	for _, width := range []int{60, 80, 158} {
		text := ansi.Strip(s.Render(width, 46))
		for _, r := range rows {
			assert.Contains(t, text, r.title)
		}
		for _, l := range strings.Split(text, "\n") {
			require.Equal(t, width, ansi.StringWidth(l))
		}
		assert.Contains(t, text, "‹ safe ›")
	}
	assert.Equal(t, writtenMsg{"theme", nil}, press(s, "l"))
	p, err := job.LoadPreferences(path)
	require.NoError(t, err)
	assert.Equal(t, "terminal", p.Theme, "after the last comes the first")

	s.PreferencesAt = "/proc/nowhere/lumtra.toml"
	msg := press(s, "l").(writtenMsg)
	require.Error(t, msg.err)
	say, ok := s.Update(msg)().(kit.Say)
	assert.True(t, ok && say.Bad, "%v", say)
	press(s, "down", "down", "down", "enter")
	require.True(t, s.Asks())
	s.Update(tea.PasteMsg{Content: "Asia/Tokyo"})
	assert.Contains(t, ansi.Strip(s.Render(80, 24)), "Asia/Tokyo")
	s.Update(writtenMsg{"zone", errors.New("no room")})
	assert.Contains(t, ansi.Strip(s.Render(80, 24)), "no room", "the form stays open with what was typed")
	press(s, "esc")
	assert.False(t, s.Asks())

	s.PreferencesErr = errors.New("lumtra.toml:1:1: theme is \"x\x1b[2J\"")
	assert.Contains(t, s.Render(158, 46), `▲ lumtra.toml:1:1: theme is "x\x1b[2J"`)
	s.Preferences.Keys = map[string]map[string]string{"plan": {"A": "a"}}
	assert.Regexp(t, `plan +A does what a did`, ansi.Strip(s.Render(158, 46)))
}
