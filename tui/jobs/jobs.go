// Package jobs is the view in which a job is a sentence: its phrases are the
// choices, changed in place, and beside them stands what the job would do, by
// the last surveys, while it is being changed.
package jobs

import (
	"context"
	"errors"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/tui/kit"
)

// Screen is the view.
type Screen struct {
	*kit.Shared
	ctx    context.Context
	drafts map[string]*draft
	names  []string
	at     string  // name of the draft that is shown
	on     *phrase // the phrase under the cursor
	edit   *editing
	form   *kit.Form
	toml   bool // the text is shown in place of the choices
	giving bool // asked once whether to give up what was changed
	seen   *job.Workspace
}

// View is what the view tells of itself.
var View = kit.ViewKind{View: kit.Jobs, Does: "what is to be done, as sentences",
	Presses: kit.Presses(actions),
	New:     func(ctx context.Context, shared *kit.Shared) kit.Screen { return newScreen(ctx, shared) }}

// newScreen makes the view.
func newScreen(ctx context.Context, shared *kit.Shared) *Screen {
	return &Screen{Shared: shared, ctx: ctx, drafts: map[string]*draft{}, on: direction}
}

// Messages of the view's own commands.
type (
	loadedMsg struct{ texts map[string]string }
	savedMsg  struct {
		was, name, text string
		form            *kit.Form // that asked for it; nil for none
		then            tea.Cmd
		err             error
	}
	removedMsg struct {
		name string
		form *kit.Form
		err  error
	}
	editedMsg struct {
		name, text string
		err        error
	}
)

// Crumbs name the job.
func (s *Screen) Crumbs() []string {
	if d := s.draft(); d != nil {
		return []string{d.title()}
	}
	return nil
}

// Asks tells that all keys are the view's.
func (s *Screen) Asks() bool { return s.form != nil || s.edit != nil }

func (s *Screen) draft() *draft { return s.drafts[s.at] }

// Update takes keys and what came of commands.
func (s *Screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case kit.Opened:
		if msg.Job != "" {
			s.turnTo(msg.Job)
		}
		return s.load()
	case kit.StateMsg:
		if s.seen != s.Service.Workspace() && s.seen != nil {
			return s.load()
		}
	case loadedMsg:
		return s.loaded(msg)
	case savedMsg:
		return s.saved(msg)
	case outsideMsg:
		return s.outside(msg)
	case removedMsg:
		return s.removed(msg)
	case editedMsg:
		return s.edited(msg)
	case kidsMsg:
		if s.edit != nil {
			s.edit.took(msg)
		}
	case startEffect:
		if d := s.drafts[msg.job]; d != nil && d.turn == msg.turn && d.wrong == nil {
			return d.begin(s.ctx, s.Service)
		}
	case stillWorking:
		if d := s.drafts[msg.job]; d != nil && d.turn == msg.turn && d.working {
			return after(partialStep, msg)
		}
	case effectMsg:
		if d := s.drafts[msg.job]; d != nil && d.turn == msg.turn {
			d.working, d.effectErr = false, msg.err
			if msg.err == nil {
				d.effect = msg.effect
			}
		}
	case surveyedMsg:
		if d := s.drafts[msg.job]; d != nil {
			d.survey, d.surveyErr = nil, msg.err
			return d.want()
		}
	case tea.PasteMsg:
		return s.typing(msg)
	case tea.KeyPressMsg:
		return s.key(msg)
	}
	return nil
}

// load reads the jobs' files.
func (s *Screen) load() tea.Cmd {
	w := s.Service.Workspace()
	s.seen = w
	return func() tea.Msg {
		texts := map[string]string{}
		files, _ := os.ReadDir(filepath.Dir(w.Path("any")))
		for _, f := range files {
			name, ok := strings.CutSuffix(f.Name(), ".toml")
			if !ok {
				continue
			}
			if text, err := w.Text(name); err == nil {
				texts[name] = text
			}
		}
		return loadedMsg{texts}
	}
}

func (s *Screen) loaded(msg loadedMsg) tea.Cmd {
	for name, d := range s.drafts {
		if _, there := msg.texts[name]; !there && !d.fresh {
			delete(s.drafts, name)
		}
	}
	for name, text := range msg.texts {
		d := s.drafts[name]
		switch {
		case d == nil:
			d = &draft{name: name, saved: text, text: text}
			s.drafts[name] = d
		case d.changed() && !d.fresh:
			continue // what is being written stays as it is; writing it tells
		case d.fresh && text != d.text: // written outside meanwhile, under the same name
			d.fresh, d.saved = false, ""
			continue
		default:
			d.saved, d.text, d.fresh = text, text, false
		}
		d.read(s.Service)
	}
	s.names = slices.Sorted(maps.Keys(s.drafts))
	at := s.at
	if s.drafts[at] == nil {
		at = ""
		if c := s.Current(); c != nil && s.drafts[c.Job.Name] != nil {
			at = c.Job.Name
		} else if len(s.names) > 0 {
			at = s.names[0]
		}
	}
	return s.show(at)
}

// turnTo has another job shown. What was asked for about the one before, and a
// phrase of it that was being changed, are given up: they belong to that job.
func (s *Screen) turnTo(name string) {
	if s.at == name {
		return
	}
	if d := s.draft(); d != nil && s.edit != nil && d.text != s.edit.before {
		d.text = s.edit.before
		d.read(s.Service)
	}
	s.form, s.edit, s.giving = nil, nil, false
	s.at = name
}

// show turns to another job.
func (s *Screen) show(name string) tea.Cmd {
	s.turnTo(name)
	d := s.draft()
	if d == nil {
		return nil
	}
	s.Choose(name, d.fresh) // what the other views are about
	s.keepOn()
	if d.of != d.text || d.effect == nil {
		return d.want()
	}
	return nil
}

// phrases are those of the sentence, in order.
func (s *Screen) phrases() (all []*phrase) {
	if d := s.draft(); d != nil {
		for _, line := range sentence(d.job) {
			for _, x := range line {
				if x.phrase != nil {
					all = append(all, x.phrase)
				}
			}
		}
	}
	return all
}

// keepOn keeps the cursor on a phrase there is.
func (s *Screen) keepOn() {
	if all := s.phrases(); !slices.Contains(all, s.on) && len(all) > 0 {
		s.on = all[0]
	}
}

func (s *Screen) step(by int) {
	all := s.phrases()
	if i := slices.Index(all, s.on); i >= 0 {
		s.on = all[(i+by+len(all))%len(all)]
	}
}

// stepLine goes to the line above or below, to the phrase about as far along.
func (s *Screen) stepLine(by int) {
	lines := sentence(s.draft().job)
	for i, line := range lines {
		at := slices.IndexFunc(line, func(x segment) bool { return x.phrase == s.on })
		if at < 0 {
			continue
		}
		to := lines[(i+by+len(lines))%len(lines)]
		best := -1
		for n, x := range to {
			if x.phrase != nil && (best < 0 || n <= at) {
				best = n
			}
		}
		s.on = to[best].phrase
		return
	}
}

func (s *Screen) stepJob(by int) tea.Cmd {
	if i := slices.Index(s.names, s.at); i >= 0 {
		return s.show(s.names[(i+by+len(s.names))%len(s.names)])
	}
	return nil
}

func (s *Screen) typing(msg tea.Msg) tea.Cmd {
	switch {
	case s.form != nil:
		return s.form.Update(msg)
	case s.edit != nil:
		return s.editType(msg)
	}
	return nil
}

// save writes the draft into its file, and goes on with then.
func (s *Screen) save(d *draft, then tea.Cmd) tea.Cmd {
	switch {
	case d.wrong != nil:
		return kit.Cmd(kit.Say{Text: "Not written: " + object.Display(d.wrong.What), Bad: true})
	case !d.changed():
		if then != nil {
			return then
		}
		return kit.Cmd(kit.Say{Text: "Nothing was changed."})
	}
	was, name, text, saved := d.name, d.name, d.text, d.saved
	if d.fresh {
		was = ""
	}
	return func() tea.Msg {
		if now, err := s.Service.Workspace().Text(name); err == nil && now != saved && was != "" {
			return outsideMsg{name, now, then}
		}
		return savedMsg{was, name, text, nil, then, s.Service.SaveJob(was, name, text)}
	}
}

func (s *Screen) saved(msg savedMsg) tea.Cmd {
	asked := msg.form != nil && s.form == msg.form
	if msg.err != nil {
		if asked {
			s.form.Busy, s.form.Err = "", msg.err
			return nil
		}
		return kit.Cmd(kit.Say{Text: "Not written: " + object.Display(kit.Reason(msg.err)), Bad: true})
	}
	if asked {
		s.form = nil
	}
	d := s.drafts[msg.was]
	if d == nil {
		d = s.drafts[msg.name]
	}
	if d != nil {
		delete(s.drafts, msg.was)
		d.name, d.saved, d.fresh = msg.name, msg.text, false
		s.drafts[msg.name] = d
	}
	s.names = slices.Sorted(maps.Keys(s.drafts))
	if s.at == msg.was || s.at == msg.name || s.draft() == nil { // else another is being looked at by now
		s.at = msg.name
		s.Choose(msg.name, false)
	}
	cmds := []tea.Cmd{s.load(), kit.Cmd(kit.Say{Text: "Written to " + s.Service.Workspace().Path(msg.name) + "."})}
	if msg.then != nil {
		cmds = append(cmds, kit.Cmd(kit.Refresh{Then: msg.then}))
	}
	return tea.Batch(cmds...)
}

// plan saves what was changed and makes a plan.
func (s *Screen) plan(d *draft) tea.Cmd {
	if d.wrong != nil {
		return kit.Cmd(kit.Say{Text: "Not planned: " + object.Display(d.wrong.What), Bad: true})
	}
	if d.job.Template {
		return kit.Cmd(kit.Say{Text: "A template is not planned; c makes a job of it.", Bad: true})
	}
	return s.save(d, tea.Sequence(kit.Cmd(kit.Open{View: kit.Plan, Job: d.name}), kit.Cmd(kit.PlanAnew{Job: d.name})))
}

// openEditor gives the text to the person's editor.
func (s *Screen) openEditor(d *draft) tea.Cmd {
	file, err := os.CreateTemp("", d.name+"-*.toml")
	if err == nil {
		_, err = file.WriteString(d.text)
		err = errors.Join(err, file.Close())
	}
	if err != nil {
		return kit.Cmd(kit.Say{Text: "The text could not be handed to an editor: " + err.Error(), Bad: true})
	}
	path, name := file.Name(), d.name
	return kit.Edit(path, func(err error) tea.Msg {
		defer os.Remove(path)
		if err != nil {
			return editedMsg{name: name, err: err}
		}
		raw, err := os.ReadFile(path)
		return editedMsg{name, string(raw), err}
	})
}

// edited takes the text from the editor. Without mistakes it is written at once,
// as if the file itself had been edited; with any it stays here to be mended.
func (s *Screen) edited(msg editedMsg) tea.Cmd {
	d := s.drafts[msg.name]
	switch {
	case msg.err != nil:
		return kit.Cmd(kit.Say{Text: "The editor: " + object.Display(kit.Reason(msg.err)), Bad: true})
	case d == nil || d.text == msg.text:
		return nil
	}
	d.text = msg.text
	d.read(s.Service)
	s.keepOn()
	if d.wrong != nil {
		return kit.Cmd(kit.Say{Text: "Kept here, not in the file: " + object.Display(d.wrong.Error()), Bad: true})
	}
	return tea.Batch(d.want(), s.save(d, nil))
}
