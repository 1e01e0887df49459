package kit

import (
	"fmt"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"lumtra/core/object"
	"lumtra/service/workspace"
	"lumtra/tui/look"
)

// Field is one thing a [Form] asks for.
type Field struct {
	Name string
	// Hint says what belongs there, while nothing does.
	Hint  string
	Value string
	// Hidden takes what is typed without showing it.
	Hidden bool
	// HiddenIf hides a value that turns out to hold a secret.
	HiddenIf func(value string) bool
	// Choices, when there are any, are gone through with left and right.
	Choices []string
	// When says whether the field is asked for now; nil means always.
	When func(*Form) bool

	input textinput.Model
}

// Form asks for a few things, above which it says what they are for. It is
// drawn where its owner wants it.
type Form struct {
	Title string
	// Notes are lines above the fields; Warning, above them, what matters most.
	Notes   []string
	Warning []string
	Fields  []*Field
	// Foot, when there is one, says below the fields what follows from what they hold.
	Foot func(*Form) []string
	// Does says what enter does.
	Does string
	// Submit takes the values; the command works, and reports in a message of
	// the owner's.
	Submit func(*Form) tea.Cmd
	// Behind are the words of the command that does the same, nil where none does.
	Behind func(*Form) []string
	// Busy says what is being done since Submit; Err what went wrong.
	Busy string
	Err  error

	at int
}

// Init makes the fields ready for keys.
func (f *Form) Init() *Form {
	f.at = 0
	for i, x := range f.Fields {
		x.input = NewInput()
		x.input.Prompt = ""
		x.input.SetValue(x.Value)
		x.input.CursorEnd()
		if x.Hidden {
			x.input.EchoMode = textinput.EchoNone
		}
		if i == f.at {
			x.input.Focus()
		}
	}
	return f
}

// Get is the value of the field with the name, without blanks around it.
func (f *Form) Get(name string) string {
	for _, x := range f.Fields {
		if x.Name == name {
			return strings.TrimSpace(x.Value)
		}
	}
	return ""
}

// Asked is the value of a field that is asked for now; "" for others.
func (f *Form) Asked(name string) string {
	for _, x := range f.Fields {
		if x.Name == name && f.asks(x) {
			return strings.TrimSpace(x.Value)
		}
	}
	return ""
}

func (f *Form) focus(by int) {
	if len(f.Fields) == 0 {
		return
	}
	f.Fields[f.at].input.Blur()
	for range f.Fields {
		f.at = (f.at + by + len(f.Fields)) % len(f.Fields)
		if f.asks(f.Fields[f.at]) {
			break
		}
	}
	f.Fields[f.at].input.Focus()
}

func (f *Form) asks(x *Field) bool { return x.When == nil || x.When(f) }

// Update takes a key or what was pasted. Escape is the owner's.
func (f *Form) Update(msg tea.Msg) tea.Cmd {
	key, isKey := msg.(tea.KeyPressMsg)
	if isKey {
		switch key.String() {
		case "enter":
			if f.Busy != "" {
				return nil
			}
			f.Err = nil
			return f.Submit(f)
		case "up", "shift+tab":
			f.focus(-1)
			return nil
		case "down", "tab":
			f.focus(1)
			return nil
		}
	}
	if len(f.Fields) == 0 {
		return nil
	}
	x := f.Fields[f.at]
	if len(x.Choices) > 0 {
		if isKey {
			x.step(key.String())
		}
		return nil
	}
	var cmd tea.Cmd
	x.input, cmd = x.input.Update(msg)
	x.Value = x.input.Value()
	return cmd
}

func (x *Field) step(key string) {
	by := map[string]int{"right": 1, "left": -1, "space": 1, "l": 1, "h": -1}[key]
	for i, c := range x.Choices {
		if c == x.Value {
			x.Value = x.Choices[(i+by+len(x.Choices))%len(x.Choices)]
			return
		}
	}
	x.Value = x.Choices[0]
}

// Lines draws the form.
func (f *Form) Lines(t *look.Theme, width int) []string {
	lines := []string{t.Strong.Render(Name(f.Title, width)), ""}
	wrapped := func(style func(...string) string, texts []string) {
		for _, text := range texts {
			for _, part := range Wrap(object.Display(text), width) {
				lines = append(lines, style(part))
			}
		}
		if len(texts) > 0 {
			lines = append(lines, "")
		}
	}
	wrapped(t.Flare.Render, f.Warning)
	wrapped(t.Paper.Render, f.Notes)
	label := 0
	for _, x := range f.Fields {
		label = max(label, ansi.StringWidth(x.Name))
	}
	label = min(label, max(width/3, 8))
	for i, x := range f.Fields {
		if !f.asks(x) {
			continue
		}
		mark, style := "  ", t.Ash
		if i == f.at {
			mark, style = t.Lamp.Render("▌ "), t.Lamp
		}
		lines = append(lines, mark+style.Render(Fit(x.Name, label))+"  "+x.draw(t, width-label-4, i == f.at))
	}
	if len(f.Fields) > 0 {
		lines = append(lines, "")
	}
	if f.Foot != nil {
		wrapped(t.Paper.Render, f.Foot(f))
	}
	switch {
	case f.Busy != "":
		lines = append(lines, t.Lamp.Render(f.Busy+" …"))
	default:
		if f.Err != nil {
			wrapped(t.Flare.Render, []string{Reason(f.Err)})
		}
		lines = append(lines, t.Lamp.Render("enter")+" "+t.Ash.Render(f.Does)+"   "+t.Lamp.Render("esc")+" "+
			t.Ash.Render("leave it"))
	}
	return lines
}

func (x *Field) draw(t *look.Theme, width int, here bool) string {
	switch {
	case len(x.Choices) > 0 && here:
		return t.Lamp.Render("‹ ") + t.Paper.Render(object.Display(x.Value)) + t.Lamp.Render(" "+
			"›") + t.Ash.Render("  ← →")
	case len(x.Choices) > 0:
		return t.Paper.Render(object.Display(x.Value))
	case x.Value != "" && (x.Hidden || x.HiddenIf != nil && x.HiddenIf(x.Value)):
		return t.Tide.Render(fmt.Sprintf("taken, %d characters, not shown", len([]rune(x.Value))))
	case x.Value == "" && !here:
		return t.Ash.Render(Fit(x.Hint, width))
	case x.Value == "":
		return t.Lamp.Render("▏") + t.Ash.Render(Fit(x.Hint, max(width-1, 0)))
	case here:
		x.input.SetWidth(max(width-2, 1))
		return SafeView(x.input.View())
	}
	return t.Paper.Render(Name(x.Value, width))
}

// Reason is an error as a person reads it where it is plain that they have to
// change something.
func Reason(err error) string {
	return strings.TrimPrefix(err.Error(), workspace.ErrBadInput.Error()+": ")
}

// SafeView keeps what was pasted from steering the terminal: the input's own
// styling is all that may come through.
func SafeView(view string) string {
	return strings.Map(func(r rune) rune {
		if r != '\x1b' && (r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0 || r >= 0x202a && r <= 0x202e ||
			r >= 0x2066 && r <= 0x2069) {
			return '·'
		}
		return r
	}, view)
}

// Wrap breaks safe text into lines of at most width cells, at words where it can.
func Wrap(text string, width int) []string {
	width = max(width, 8)
	return strings.Split(ansi.Wrap(text, width, ""), "\n")
}
