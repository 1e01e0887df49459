package jobs

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"lumtra/tui/kit"
)

// about is what the keys of the view are about: a job as it is being written, if there is
// one.
type about struct {
	s *Screen
	d *draft // nil where there is no job
	// giving tells that the key before asked to give up what was changed.
	giving bool
}

func someJob(a *about) bool { return a.d != nil }

// sound refuses what a job with a mistake in it cannot do.
func sound(a *about) string {
	if a.d.wrong != nil {
		return strings.SplitN(kit.Reason(a.d.wrong), "\n", 2)[0]
	}
	return ""
}

func changed(a *about) string {
	if !a.d.changed() {
		return "nothing was changed"
	}
	return sound(a)
}

func plannable(a *about) string {
	if a.d.wrong == nil && a.d.job.Template {
		return "templates are not planned"
	}
	return sound(a)
}

func surveyable(a *about) string {
	if a.d.wrong == nil && a.d.survey != nil {
		return "it is being surveyed"
	}
	return sound(a)
}

// on makes an action of a step of the cursor.
func on(step func(*Screen)) func(*about, string) tea.Cmd {
	return func(a *about, _ string) tea.Cmd {
		step(a.s)
		return nil
	}
}

// actions are all there are, most useful first.
var actions = []kit.Action[*about]{
	{Press: "enter", Also: []string{"space"}, Does: "change: this phrase", When: someJob,
		Do: func(a *about, _ string) tea.Cmd { return a.s.change() }},
	{Press: "right", Also: []string{"l", "tab"}, Does: "next phrase", When: someJob,
		Do: on(func(s *Screen) { s.step(1) })},
	{Press: "left", Also: []string{"h", "shift+tab"}, When: someJob, Do: on(func(s *Screen) { s.step(-1) })},
	{Press: "down", Also: []string{"j"}, When: someJob, Do: on(func(s *Screen) { s.stepLine(1) })},
	{Press: "up", Also: []string{"k"}, When: someJob, Do: on(func(s *Screen) { s.stepLine(-1) })},
	{Press: "p", Does: "plan: survey both sides", When: someJob, Off: plannable,
		Do: func(a *about, _ string) tea.Cmd { return a.s.plan(a.d) }},
	{Press: "w", Does: "write: the file", When: someJob, Off: changed,
		Do: func(a *about, _ string) tea.Cmd { return a.s.save(a.d, nil) }},
	{Press: "s", Does: "survey: both sides now", When: someJob, Off: surveyable, Do: func(a *about, _ string) tea.Cmd {
		return a.d.surveyNow(a.s.ctx, a.s.Service)
	}},
	{Press: "t", Does: "text: the job's TOML", When: someJob, Do: on(func(s *Screen) { s.toml = !s.toml })},
	{Press: "e", Does: "editor: on that text", When: someJob,
		Do: func(a *about, _ string) tea.Cmd { return a.s.openEditor(a.d) }},
	{Press: ">", Does: "next job", When: someJob, Do: func(a *about, _ string) tea.Cmd { return a.s.stepJob(1) }},
	{Press: "<", When: someJob, Do: func(a *about, _ string) tea.Cmd { return a.s.stepJob(-1) }},
	{Press: "n", Does: "new: a job, or from a template",
		Do: func(a *about, _ string) tea.Cmd { return a.s.newForm("") }},
	{Press: "c", Does: "copy: this job", When: someJob,
		Do: func(a *about, _ string) tea.Cmd { return a.s.newForm(a.d.name) }},
	{Press: "R", Does: "rename", When: someJob, Do: func(a *about, _ string) tea.Cmd { return a.s.renameForm(a.d) }},
	{Press: "D", Does: "delete: this job", When: someJob,
		Do: func(a *about, _ string) tea.Cmd { return a.s.deleteForm(a.d) }},
	{Press: "z", Does: "undo: back to the file", When: someJob, Do: undo},
}

// undo gives up what was changed, when it is pressed twice.
func undo(a *about, _ string) tea.Cmd {
	s, d := a.s, a.d
	switch {
	case !d.changed():
		return kit.Cmd(kit.Say{Text: "Nothing was changed."})
	case !a.giving:
		s.giving = true
		return kit.Cmd(kit.Say{Text: "What was changed in " + d.name + " is in no file: z once more discards it.",
			Bad: true})
	case d.fresh:
		return s.giveUp(d)
	}
	d.text = d.saved
	d.read(s.Service)
	s.keepOn()
	return d.want()
}

// Name is the file of the job that is shown.
func (s *Screen) Name() string {
	if d := s.draft(); d != nil && !d.fresh {
		return s.Service.Workspace().Path(d.name)
	}
	return ""
}

// Command shows the job's text.
func (s *Screen) Command() []string {
	if d := s.draft(); d != nil && !d.fresh {
		return []string{"job", "show", d.name}
	}
	return nil
}

// jobsPage is how many jobs a page of them is.
const jobsPage = 10

// Keys of the view.
func (s *Screen) Keys() []kit.Key {
	switch {
	case s.form != nil:
		return []kit.Key{{Press: "enter", Does: s.form.Does}, {Press: "esc", Does: "leave it"}}
	case s.edit != nil:
		return s.edit.keys()
	}
	return kit.KeysOf(&about{s: s, d: s.draft()}, actions)
}

func (s *Screen) key(msg tea.KeyPressMsg) tea.Cmd {
	key := msg.String()
	giving := s.giving
	s.giving = false
	switch {
	case s.form != nil:
		if key == "esc" {
			s.form = nil
			return kit.Cmd(kit.Say{Text: "Left as it was."})
		}
		return s.form.Update(msg)
	case s.edit != nil:
		return s.editKey(msg)
	}
	cmd, done := kit.Press(&about{s, s.draft(), giving}, actions, key)
	if n := len(s.names); !done && n > 0 { // many jobs are paged through
		c := kit.Cursor{At: max(slices.Index(s.names, s.at), 0)}
		switch key {
		case "pgdown", "pgup", "home", "end":
			c.Key(key, n, jobsPage)
			return s.show(s.names[c.At])
		}
	}
	return cmd
}
