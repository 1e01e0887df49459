package jobs

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/tui/kit"
)

// editing is a phrase being changed. The draft follows while that goes on;
// leaving it gives the draft its text back.
type editing struct {
	p      *phrase
	before string
	cursor kit.Cursor
	input  textinput.Model
	// kids are what lies at the place typed so far; of tells which place.
	kids    []string
	of      string
	kidsErr error
	chosen  bool // the cursor was moved to one of them
}

// kidsMsg brings what lies at a place.
type kidsMsg struct {
	of   string
	kids []string
	err  error
}

func (e *editing) keys() []kit.Key {
	keys := []kit.Key{{Press: "enter", Does: "keep it"}, {Press: "esc", Does: "leave it as it was"}}
	switch e.p.how {
	case byChoice, byRule:
		keys = append(keys, kit.Key{Press: "down", Does: "next choice"})
	case byText:
		if len(e.p.presets) > 0 {
			keys = append(keys, kit.Key{Press: "down", Does: "next of the usual ones"})
		}
	case byPlace:
		keys = append(keys, kit.Key{Press: "down", Does: "choose below"}, kit.Key{Press: "tab", Does: "go into it"})
	}
	return keys
}

// change begins to change the phrase under the cursor.
func (s *Screen) change() tea.Cmd {
	d := s.draft()
	return s.changePhrase(d, s.on, s.on.value(d.job))
}

func (s *Screen) changePhrase(d *draft, p *phrase, value string) tea.Cmd {
	e := &editing{p: p, before: d.text, input: kit.NewInput()}
	e.input.Prompt = ""
	e.input.SetValue(value)
	e.input.CursorEnd()
	e.input.Focus()
	s.edit, s.toml = e, false
	for i, c := range p.choices {
		if c.value == value {
			e.cursor.At = i
		}
	}
	if p.how == byPlace {
		return s.look()
	}
	return nil
}

// addable are the rules that are not in the selection yet.
func (s *Screen) addable() []*phrase {
	var all []*phrase
	for _, r := range rules {
		if r.value(s.draft().job) == "" {
			all = append(all, r)
		}
	}
	return all
}

func (s *Screen) editKey(msg tea.KeyPressMsg) tea.Cmd {
	e, d, key := s.edit, s.draft(), msg.String()
	switch key {
	case "esc":
		s.edit = nil
		if d.text != e.before {
			d.text = e.before
			d.read(s.Service)
			s.keepOn()
			return d.want()
		}
		return kit.Cmd(kit.Say{Text: "Left as it was."})
	case "enter":
		return s.keepEdit()
	case "up", "down":
		n := len(e.p.choices)
		switch e.p.how {
		case byRule:
			n = len(s.addable())
		case byText:
			if len(e.p.presets) > 0 {
				return s.preset(map[string]int{"up": -1, "down": 1}[key])
			}
			return nil
		case byPlace:
			n = len(e.kids)
			if !e.chosen {
				e.chosen = n > 0
				return nil
			}
		}
		e.cursor.Key(key, n, 5)
		if e.p.how == byChoice {
			return s.try(e.p.choices[e.cursor.At].value)
		}
		return nil
	case "tab", "right":
		if e.p.how == byPlace && (key == "tab" || e.chosen) && len(e.kids) > 0 {
			return s.goInto()
		}
	}
	if e.p.how == byChoice || e.p.how == byRule {
		if key == "k" || key == "j" {
			return s.editKey(tea.KeyPressMsg{Code: map[string]rune{"k": tea.KeyUp, "j": tea.KeyDown}[key]})
		}
		return nil
	}
	return s.editType(msg)
}

// preset puts the next or the last of the usual texts into the field.
func (s *Screen) preset(step int) tea.Cmd {
	e := s.edit
	at := slices.Index(e.p.presets, e.input.Value()) + step
	if at < 0 {
		at = len(e.p.presets) - 1
	}
	e.input.SetValue(e.p.presets[at%len(e.p.presets)])
	e.input.CursorEnd()
	return s.try(e.input.Value())
}

// editType takes what is typed or pasted.
func (s *Screen) editType(msg tea.Msg) tea.Cmd {
	e := s.edit
	if e.p.how == byChoice || e.p.how == byRule {
		return kit.Cmd(kit.Say{Text: "This is chosen from the list: ↑ and ↓, then enter."})
	}
	was := e.input.Value()
	var cmd tea.Cmd
	e.input, cmd = e.input.Update(msg)
	if e.input.Value() == was {
		return cmd
	}
	e.chosen, e.cursor = false, kit.Cursor{}
	cmds := []tea.Cmd{cmd, s.try(e.input.Value())}
	if e.p.how == byPlace {
		cmds = append(cmds, s.look())
	}
	return tea.Batch(cmds...)
}

// try lets the draft say what is typed or chosen just now.
func (s *Screen) try(text string) tea.Cmd {
	d := s.draft()
	was := d.text
	d.text = s.edit.before
	value := s.edit.p.typed(text)
	if into := s.edit.p.into; into != nil {
		value = into(d.job, text)
	}
	d.set(s.Service, s.edit.p, value)
	if d.text == was {
		return nil
	}
	return d.want()
}

// keepEdit ends the change with what was typed or chosen.
func (s *Screen) keepEdit() tea.Cmd {
	e, d := s.edit, s.draft()
	switch {
	case e.p.how == byRule:
		all := s.addable()
		s.edit = nil
		if len(all) == 0 {
			return nil
		}
		e.cursor.Move(0, len(all))
		return s.changePhrase(d, all[e.cursor.At], "")
	case e.p.how == byPlace && e.chosen && len(e.kids) > 0:
		e.input.SetValue(e.parent() + e.kids[e.cursor.At])
	case e.p.how == byChoice:
		e.input.SetValue(e.p.choices[e.cursor.At].value)
	}
	cmd := s.try(e.input.Value())
	s.edit = nil
	// A selection's rule is a phrase of its own only while it says something.
	if strings.HasPrefix(e.p.setting(), "select.") {
		s.on = e.p
	}
	s.keepOn()
	return cmd
}

// parent is the place typed so far, up to the last "/".
func (e *editing) parent() string {
	v := e.input.Value()
	return v[:strings.LastIndexByte(v, '/')+1]
}

// look asks what lies at the place typed so far.
func (s *Screen) look() tea.Cmd {
	e := s.edit
	parent := e.parent()
	if e.of == parent && e.kids != nil {
		e.narrow()
		return nil
	}
	e.of, e.kids, e.kidsErr = parent, nil, nil
	return func() tea.Msg {
		ctx, stop := context.WithTimeout(s.ctx, kidsWait)
		defer stop()
		kids, err := s.Service.Folders(ctx, parent, mostKids)
		return kidsMsg{parent, kids, err}
	}
}

const (
	mostKids = 200
	kidsWait = 20e9 // nanoseconds
)

// took takes in what lies at a place.
func (e *editing) took(msg kidsMsg) {
	if msg.of == e.of {
		e.kids, e.kidsErr = msg.kids, msg.err
		if e.kids == nil {
			e.kids = []string{}
		}
		e.narrow()
	}
}

// narrow brings those to the front that begin with what is typed.
func (e *editing) narrow() {
	last := strings.TrimPrefix(e.input.Value(), e.of)
	slices.SortStableFunc(e.kids, func(a, b string) int {
		x, y := strings.HasPrefix(a, last), strings.HasPrefix(b, last)
		switch {
		case x == y:
			return strings.Compare(a, b)
		case x:
			return -1
		}
		return 1
	})
}

// goInto goes on below the one under the cursor.
func (s *Screen) goInto() tea.Cmd {
	e := s.edit
	e.input.SetValue(e.parent() + e.kids[min(e.cursor.At, len(e.kids)-1)] + "/")
	e.input.CursorEnd()
	e.chosen, e.cursor = false, kit.Cursor{}
	return tea.Batch(s.try(e.input.Value()), s.look())
}

// newForm asks for the name of a new job, and what it begins with.
func (s *Screen) newForm(from string) tea.Cmd {
	const nothing = "an empty sentence"
	choices := []string{nothing}
	for _, t := range s.Service.Workspace().Templates {
		choices = append(choices, t.Name)
	}
	for _, j := range s.Service.Workspace().Jobs {
		choices = append(choices, j.Name)
	}
	if from != "" && !slices.Contains(choices, from) {
		choices = append(choices, from)
	}
	title, value := "A new job", nothing
	if from != "" {
		title, value = "A copy of "+from, from
	}
	f := &kit.Form{Title: title, Does: "go on",
		Notes: []string{"Lower-case letters, digits, - and _. It is written to a file when you say so."},
		Fields: []*kit.Field{{Name: "name", Hint: "nightly-proofs"},
			{Name: "begins with", Value: value, Choices: choices}}}
	f.Submit = func(f *kit.Form) tea.Cmd {
		name := f.Get("name")
		if s.drafts[name] != nil {
			f.Err = fmt.Errorf("there is a job %s already", name)
			return nil
		}
		if err := s.Service.CheckJobName(name); err != nil {
			f.Err = err
			if m := (*job.Mistake)(nil); errors.As(err, &m) { // of a file that is not there yet
				f.Err = errors.New(m.What)
			}
			return nil
		}
		d := &draft{name: name, fresh: true}
		if base := s.drafts[f.Get("begins with")]; base != nil {
			d.text = strings.TrimLeft(base.text, "\n")
			if d.parse(s.Service, d.text).Template {
				d.read(s.Service)
				d.set(s.Service, template, nil)
			}
		}
		d.read(s.Service)
		s.drafts[name] = d
		s.names = append(s.names, name)
		slices.Sort(s.names)
		s.form, s.on = nil, source
		if d.text != "" {
			return s.show(name)
		}
		return tea.Batch(s.show(name), s.change())
	}
	s.form = f.Init()
	return nil
}

func (s *Screen) renameForm(d *draft) tea.Cmd {
	f := &kit.Form{Title: "Rename " + d.name, Does: "rename it",
		Notes: []string{"Its plans, proofs and history go along."}, Fields: []*kit.Field{{Name: "name", Value: d.name}}}
	f.Submit = func(f *kit.Form) tea.Cmd {
		name, was, text := f.Get("name"), d.name, d.text
		if d.wrong != nil {
			f.Err = d.wrong
			return nil
		}
		if name == was {
			s.form = nil
			return nil
		}
		if s.drafts[name] != nil {
			f.Err = fmt.Errorf("there is a job %s already", name)
			return nil
		}
		if d.fresh {
			was = ""
		}
		f.Busy = "renaming"
		return func() tea.Msg { return savedMsg{was, name, text, f, nil, s.Service.SaveJob(was, name, text)} }
	}
	s.form = f.Init()
	return nil
}

func (s *Screen) deleteForm(d *draft) tea.Cmd {
	f := &kit.Form{Title: "Delete the job " + d.name, Does: "delete it",
		Warning: []string{"The file goes. Nothing at its places is touched; its plans and proofs stay in the state " +
			"folder."},
		Notes: []string{"Type the job's name."}, Fields: []*kit.Field{{Name: "name"}}}
	f.Submit = func(f *kit.Form) tea.Cmd {
		if f.Get("name") != d.name {
			f.Err = errOtherName
			return nil
		}
		f.Busy = "deleting"
		name, fresh := d.name, d.fresh
		return func() tea.Msg {
			if fresh {
				return removedMsg{name: name, form: f}
			}
			return removedMsg{name, f, s.Service.RemoveJob(name)}
		}
	}
	s.form = f.Init()
	return nil
}

func (s *Screen) removed(msg removedMsg) tea.Cmd {
	asked := msg.form != nil && s.form == msg.form
	switch {
	case msg.err != nil && asked:
		s.form.Busy, s.form.Err = "", msg.err
		return nil
	case msg.err != nil:
		return kit.Cmd(kit.Say{Text: "Not deleted: " + object.Display(kit.Reason(msg.err)), Bad: true})
	case asked:
		s.form = nil
	}
	delete(s.drafts, msg.name)
	s.names = slices.DeleteFunc(s.names, func(n string) bool { return n == msg.name })
	if s.at == msg.name {
		s.turnTo("")
	}
	if s.Job == msg.name {
		s.Choose("", false)
	}
	return tea.Batch(s.load(), kit.Cmd(kit.Refresh{}),
		kit.Cmd(kit.Say{Text: "The job " + object.Display(msg.name) + " is gone; nothing at its places was touched."}))
}

type otherName string

func (e otherName) Error() string { return string(e) }

const errOtherName = otherName("that is another name: nothing was deleted")
