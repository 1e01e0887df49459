package frame

import (
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"lumtra/core/object"
	"lumtra/tui/kit"
	"lumtra/tui/look"
)

// finder finds an action by words, or a job by its name, however many there are.
type finder struct {
	input   textinput.Model
	actions []found
	cursor  kit.Cursor
}

// found is an action, or a job to go to.
type found struct {
	kit.Key
	job string
}

func newFinder(actions []kit.Key, jobs []kit.JobState) *finder {
	f := &finder{input: kit.NewInput()}
	for _, a := range actions {
		f.actions = append(f.actions, found{Key: a})
	}
	for i := range jobs {
		name := jobs[i].Job.Name
		f.actions = append(f.actions, found{kit.Key{Press: "job", Does: name}, name})
	}
	f.input.Prompt = "  do what? "
	f.input.Focus()
	return f
}

// matches are the actions that have every word, and then the jobs, once there are words.
func (f *finder) matches() []found {
	var all []found
next:
	for _, a := range f.actions {
		if a.job != "" && strings.TrimSpace(f.input.Value()) == "" {
			continue
		}
		for _, word := range strings.Fields(strings.ToLower(f.input.Value())) {
			if !strings.Contains(strings.ToLower(a.Does), word) {
				continue next
			}
		}
		all = append(all, a)
	}
	return all
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
			if job := found[f.cursor.At].job; job != "" {
				return m.open(m.viewOfJob(), job)
			}
			return m.key(press(found[f.cursor.At].Press))
		}
	case "up", "down", "pgup", "pgdown":
		f.cursor.Key(key, len(found), 10)
	default:
		var cmd tea.Cmd
		f.input, cmd = f.input.Update(msg)
		f.cursor.At = 0
		return cmd
	}
	return nil
}

// viewOfJob is the view that a job is shown in: this one, if it is about one.
func (m *model) viewOfJob() kit.View {
	if m.viewOf().OfJob || m.view == kit.Jobs {
		return m.view
	}
	return kit.Plan
}

// paste takes pasted text as if it were typed.
func (f *finder) paste(msg tea.PasteMsg) tea.Cmd {
	var cmd tea.Cmd
	f.input, cmd = f.input.Update(msg)
	f.cursor.At = 0
	return cmd
}

func (f *finder) render(t *look.Theme, width, height int) string {
	lines := []string{"", kit.SafeView(f.input.View()), ""}
	found := f.matches()
	first, last := f.cursor.Window(len(found), height-4)
	for i := first; i < last; i++ {
		text := t.Lamp.Render(kit.FitLeft(found[i].Press, 10)) + "  " + t.Paper.Render(object.Display(found[i].Does))
		if found[i].Off != "" {
			text = t.Ash.Render(kit.FitLeft(found[i].Press, 10) + "  " + found[i].Does + " – " + found[i].Off)
		}
		lines = append(lines, kit.Row(t, text, width, i == f.cursor.At))
	}
	if len(found) == 0 {
		lines = append(lines, t.Ash.Render("  no action and no job has these words"))
	}
	return kit.Lines(lines, width, height)
}
