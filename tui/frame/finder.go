package frame

import (
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"lumtra/tui/kit"
	"lumtra/tui/look"
)

// finder finds an action by words.
type finder struct {
	input   textinput.Model
	actions []kit.Key
	cursor  kit.Cursor
}

func newFinder(actions []kit.Key) *finder {
	f := &finder{input: textinput.New(), actions: actions}
	f.input.Prompt = "  do what? "
	f.input.Focus()
	return f
}

// matches are the actions that have every word.
func (f *finder) matches() []kit.Key {
	var found []kit.Key
next:
	for _, a := range f.actions {
		for _, word := range strings.Fields(strings.ToLower(f.input.Value())) {
			if !strings.Contains(strings.ToLower(a.Does), word) {
				continue next
			}
		}
		found = append(found, a)
	}
	return found
}

func (m *model) find(msg tea.KeyPressMsg) tea.Cmd {
	f := m.finder
	found := f.matches()
	switch key := msg.String(); key {
	case "esc", "ctrl+p", "ctrl+c":
		m.finder = nil
	case "enter":
		m.finder = nil
		if len(found) > 0 {
			f.cursor.Move(0, len(found))
			return m.key(press(found[f.cursor.At].Press))
		}
	case "up", "down":
		f.cursor.Key(key, len(found), 1)
	default:
		var cmd tea.Cmd
		f.input, cmd = f.input.Update(msg)
		f.cursor.At = 0
		return cmd
	}
	return nil
}

func (f *finder) render(t *look.Theme, width, height int) string {
	lines := []string{"", f.input.View(), ""}
	found := f.matches()
	first, last := f.cursor.Window(len(found), height-4)
	for i := first; i < last; i++ {
		text := t.Lamp.Render(kit.FitLeft(found[i].Press, 10)) + "  " + t.Paper.Render(found[i].Does)
		if found[i].Off != "" {
			text = t.Ash.Render(kit.FitLeft(found[i].Press, 10) + "  " + found[i].Does + " – " + found[i].Off)
		}
		lines = append(lines, kit.Row(t, text, width, i == f.cursor.At))
	}
	if len(found) == 0 {
		lines = append(lines, t.Ash.Render("  no action has these words"))
	}
	return kit.Lines(lines, width, height)
}
