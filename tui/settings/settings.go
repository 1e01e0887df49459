package settings

import (
	"context"
	"maps"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/tui/kit"
)

// View is what the view tells of itself.
var View = kit.ViewKind{View: kit.Settings, Does: "theme, units, zone, terminal, keys", Presses: kit.Presses(actions),
	New: func(_ context.Context, shared *kit.Shared) kit.Screen { return &Screen{Shared: shared} }}

// Screen is the view.
type Screen struct {
	*kit.Shared
	cursor kit.Cursor
	form   *kit.Form // a text is asked for
}

// row is one setting.
type row struct {
	path  []string
	title string
	// choices are gone through; none is for a text that is typed.
	choices []string
	of      func(*job.Preferences) string
	// hint says what belongs there, note what it is for.
	hint, note string
}

var onOff = []string{"on", "off"}

func switched(name, title, note string, of func(*job.Terminal) *bool) row {
	return row{path: []string{"terminal", name}, title: title, choices: onOff, note: note,
		of: func(p *job.Preferences) string {
			if job.May(of(&p.Terminal)) {
				return "on"
			}
			return "off"
		}}
}

// rows are all settings with a value of their own.
var rows = []row{
	{path: []string{"theme"}, title: "theme", choices: job.Themes,
		of:   func(p *job.Preferences) string { return p.Theme },
		note: "terminal: on its own ground. contrast: 7 to 1 and more. safe: for eyes that miss red, green or blue."},
	{path: []string{"units"}, title: "sizes", choices: job.UnitNames,
		of:   func(p *job.Preferences) string { return p.Units },
		note: "binary: KiB, MiB, powers of 1,024. decimal: kB, MB, powers of 1,000."},
	{path: []string{"rates"}, title: "rates", choices: job.RateNames,
		of:   func(p *job.Preferences) string { return p.Rates },
		note: "bytes or bits a second; u changes it for this window alone."},
	{path: []string{"zone"}, title: "time zone", of: func(p *job.Preferences) string { return p.Zone },
		hint: "this machine's", note: "such as Europe/Lisbon; from the next start on."},
	switched("title", "window title", "names the workspace, and how far a run is.",
		func(t *job.Terminal) *bool { return t.Title }),
	switched("progress", "progress bar", "in the tab or the task bar, where the terminal has one.",
		func(t *job.Terminal) *bool { return t.Progress }),
	switched("notify", "notifications", "when a run ends or a person is needed while nobody looks.",
		func(t *job.Terminal) *bool { return t.Notify }),
	switched("links", "links", "paths of what was exported can be opened from the terminal.",
		func(t *job.Terminal) *bool { return t.Links }),
	switched("pictures", "pictures", "previews in full resolution, where the terminal takes pixels.",
		func(t *job.Terminal) *bool { return t.Pictures }),
}

// value is what is set, the usual where nothing is.
func (r *row) value(p *job.Preferences) string {
	v := r.of(p)
	if v == "" && len(r.choices) > 0 {
		return r.choices[0]
	}
	return v
}

// actions are all there are, most useful first.
var actions = []kit.Action[*Screen]{
	{Press: "right", Also: []string{"l", "space"}, Does: "next value", Off: needChoices,
		Do: func(s *Screen, _ string) tea.Cmd { return s.step(1) }},
	{Press: "left", Also: []string{"h"}, Does: "value before", Off: needChoices,
		Do: func(s *Screen, _ string) tea.Cmd { return s.step(-1) }},
	{Press: "enter", Does: "change: this setting", Do: (*Screen).enter},
	{Press: "x", Does: "as usual: take this setting out", Do: (*Screen).unset},
	{Press: "e", Does: "edit: the file, keys too", Do: (*Screen).openEditor},
}

func needChoices(s *Screen) string {
	if len(s.row().choices) == 0 {
		return "this one is typed: enter"
	}
	return ""
}

func (s *Screen) row() *row { return &rows[min(s.cursor.At, len(rows)-1)] }

// Crumbs are none.
func (s *Screen) Crumbs() []string { return nil }

// Asks tells that a text is typed.
func (s *Screen) Asks() bool { return s.form != nil }

// Keys of the view.
func (s *Screen) Keys() []kit.Key {
	if s.form != nil {
		return []kit.Key{{Press: "enter", Does: s.form.Does}, {Press: "esc", Does: "leave it"}}
	}
	return kit.KeysOf(s, actions)
}

// Name is the file they are in.
func (s *Screen) Name() string { return s.PreferencesAt }

// writtenMsg tells how a change went.
type writtenMsg struct {
	setting string
	err     error
}

// Update takes keys and what came of changes.
func (s *Screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case writtenMsg:
		if msg.err != nil {
			if s.form != nil {
				s.form.Err, s.form.Busy = msg.err, ""
				return nil
			}
			return kit.Cmd(kit.Say{Text: kit.Reason(msg.err), Bad: true})
		}
		s.form = nil
		return tea.Batch(kit.Cmd(kit.Prefer{}), kit.Cmd(kit.Say{Text: "Written to " + s.PreferencesAt + "."}))
	case tea.PasteMsg:
		if s.form != nil {
			return s.form.Update(msg)
		}
	case tea.KeyPressMsg:
		if s.form != nil {
			if msg.String() == "esc" {
				s.form = nil
				return kit.Cmd(kit.Say{Text: "Left as it was."})
			}
			return s.form.Update(msg)
		}
		cmd, done := kit.Press(s, actions, msg.String())
		if !done {
			s.cursor.Key(msg.String(), len(rows), 5)
		}
		return cmd
	}
	return nil
}

// write changes a setting outside of Update.
func (s *Screen) write(r *row, value any) tea.Cmd {
	path := s.PreferencesAt
	return func() tea.Msg {
		return writtenMsg{strings.Join(r.path, "."), job.SetPreference(path, value, r.path...)}
	}
}

func (s *Screen) step(by int) tea.Cmd {
	r := s.row()
	n := len(r.choices)
	next := r.choices[(slices.Index(r.choices, r.value(s.Preferences))+by+n)%n]
	if &r.choices[0] == &onOff[0] {
		return s.write(r, next == "on")
	}
	return s.write(r, next)
}

func (s *Screen) enter(string) tea.Cmd {
	r := s.row()
	if len(r.choices) > 0 {
		return s.step(1)
	}
	f := &kit.Form{Title: r.title, Does: "set it", Notes: []string{r.note},
		Fields: []*kit.Field{{Name: r.title, Value: r.of(s.Preferences), Hint: r.hint}}}
	f.Submit = func(f *kit.Form) tea.Cmd { return s.write(r, f.Get(r.title)) }
	s.form = f.Init()
	return nil
}

func (s *Screen) unset(string) tea.Cmd { return s.write(s.row(), nil) }

// openEditor gives the file to the person's editor; what is wrong in it is told afterwards.
func (s *Screen) openEditor(string) tea.Cmd {
	path := s.PreferencesAt
	if err := job.TouchPreferences(path); err != nil {
		return kit.Cmd(kit.Say{Text: kit.Reason(err), Bad: true})
	}
	return kit.Edit(path, func(err error) tea.Msg {
		if err != nil {
			return kit.Say{Text: kit.Reason(err), Bad: true}
		}
		return kit.Prefer{}
	})
}

// Render draws the settings, beside them what the theme looks like, below them the keys.
func (s *Screen) Render(width, height int) string {
	t := s.Theme
	lines := []string{"", "  " + t.Ash.Render("yours alone, in ") + t.Paper.Render(kit.Name(s.PreferencesAt,
		width-24)), ""}
	if s.PreferencesErr != nil {
		for _, l := range kit.Wrap("▲ "+object.Display(s.PreferencesErr.Error())+"; what stands before it holds",
			width-4) {
			lines = append(lines, "  "+t.Flare.Render(l))
		}
		lines = append(lines, "")
	}
	if s.form != nil {
		for _, l := range s.form.Lines(t, min(width-6, 96)) {
			lines = append(lines, "   "+l)
		}
		return kit.Lines(lines, width, height)
	}
	for i := range rows {
		r := &rows[i]
		value := r.value(s.Preferences)
		if value == "" {
			value = r.hint
		}
		text := t.Ash.Render(kit.Fit(r.title, 16))
		if i == s.cursor.At && len(r.choices) > 0 {
			text += t.Lamp.Render("‹ ") + t.Strong.Render(object.Display(value)) + t.Lamp.Render(" ›")
		} else {
			text += "  " + t.Paper.Render(object.Display(value))
		}
		if width >= 100 {
			text = kit.Fit(text, 36) + t.Ash.Render(r.note)
		}
		lines = append(lines, kit.Row(t, text, width, i == s.cursor.At))
	}
	if width < 100 {
		lines = append(lines, "")
		for _, l := range kit.Wrap(s.row().note, width-4) {
			lines = append(lines, "  "+t.Ash.Render(l))
		}
	}
	lines = append(lines, "", "  "+t.Strong.Render("How it looks"))
	lines = append(lines, s.sample(width)...)
	lines = append(lines, "", "  "+t.Strong.Render("Keys of your own"))
	return kit.Lines(append(lines, s.keyLines(width)...), width, height)
}

// sample shows the colours by what they mean, with the marks that carry the same without them.
func (s *Screen) sample(width int) []string {
	t := s.Theme
	var effects []string
	for _, k := range plan.Kinds {
		glyph, style := t.Effect(k)
		effects = append(effects, style.Render(strings.Repeat(glyph, 2)+" "+k.String()))
	}
	parts := []string{t.Lamp.Render("▸ moves now"), t.Tide.Render("◗ done and proven"), t.Dusk.Render("◆ to come"),
		t.Flare.Render("▲ needs a person"), t.Ash.Render("the rest")}
	var lines []string
	for _, group := range [][]string{parts, effects} {
		for _, l := range kit.Flow(group, width-4) {
			lines = append(lines, "  "+l)
		}
	}
	return append(lines, "  "+t.Paper.Render(kit.Size(123456789)+"   "+kit.Rate(12345678, s.Bits)+"   "+
		s.Now().Format("2006-01-02 15:04 MST")))
}

// keyLines tell which keys were given another meaning.
func (s *Screen) keyLines(width int) []string {
	t := s.Theme
	var lines []string
	for _, view := range slices.Sorted(maps.Keys(s.Preferences.Keys)) {
		for _, press := range slices.Sorted(maps.Keys(s.Preferences.Keys[view])) {
			lines = append(lines, "  "+t.Ash.Render(kit.Fit(object.Display(view),
				16))+"  "+t.Lamp.Render(object.Display(press))+
				t.Ash.Render(" does what "+object.Display(s.Preferences.Keys[view][press])+" did"))
		}
	}
	if len(lines) == 0 {
		for _, l := range kit.Wrap("None. In the file, [keys.plan] with A = \"a\" lets A approve in Plan; "+
			"[keys.everywhere] "+
			"is for keys of all views.", width-4) {
			lines = append(lines, "  "+t.Ash.Render(l))
		}
	}
	return lines
}
