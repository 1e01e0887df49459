// Package plan is the view of what a run would do: the job as a sentence, the
// totals by effect, and the outcome as a tree down to one object and its
// reason. Approving it here is what lets it run.
package plan

import (
	"context"
	"errors"
	"strings"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/plan"
	"lumtra/service/workroom"
	"lumtra/tui/kit"
)

// Screen is the view.
type Screen struct {
	*kit.Shared
	ctx           context.Context
	jobs          map[string]*shown
	cursor        kit.Cursor
	page          int
	changesCursor kit.Cursor
}

// shown is what the view knows of one job's plan.
type shown struct {
	number   int // of the plan whose tree this is
	tree     kit.Tree[line]
	loading  bool
	byCount  bool
	all      bool               // also what stays as it is
	only     map[plan.Kind]bool // of the effects, those shown; empty for all that matter
	form     *kit.Form          // approval is asked for
	menu     *menu              // one of a few is being chosen
	changes  *workroom.Changes  // how it differs from an earlier plan
	choosing bool               // a choice is being worked in
	mending  workroom.Fix       // a check is being mended
	side     *side              // what is known before the run, of plan side.number
	facts    *kit.Scroll        // that alone is shown
	find     string             // part of names that are shown
	finding  bool
	sure     bool               // see about
	planning *workroom.Activity // while a plan is being made
	quiet    [2]kit.Quiet       // since when either side of it has told nothing
	stop     context.CancelFunc
	err      error
}

// line is one of the outcome tree.
type line struct {
	plan.Node
	struck bool // by a person, it or something above it
}

type node = kit.Node[line]

// View is what the view tells of itself.
var View = kit.ViewKind{View: kit.Plan, Does: "what a run would do", OfJob: true,
	Presses: kit.Presses(actions, whilePlanning, besideAnother, onFacts),
	New:     func(ctx context.Context, shared *kit.Shared) kit.Screen { return newScreen(ctx, shared) }}

// newScreen makes the view.
func newScreen(ctx context.Context, shared *kit.Shared) *Screen {
	return &Screen{Shared: shared, ctx: ctx, jobs: map[string]*shown{}, page: 10}
}

// Messages of the view's own commands.
type (
	plannedMsg struct {
		job  string
		info plan.Info
		err  error
	}
	folderMsg struct {
		job    string
		number int
		prefix string
		under  *node // of that prefix; nil for the top
		nodes  []plan.Node
		struck func(key string) bool
		err    error
	}
)

// Crumbs name the job and the plan.
func (s *Screen) Crumbs() []string {
	j := s.Current()
	if j == nil {
		return nil
	}
	return []string{j.Job.Name}
}

// Asks tells that all keys are the view's.
func (s *Screen) Asks() bool {
	j := s.Current()
	if j == nil {
		return false
	}
	sh := s.shown(j.Job.Name)
	return sh.form != nil || sh.finding || sh.menu != nil || sh.changes != nil
}

func (s *Screen) shown(job string) *shown {
	sh := s.jobs[job]
	if sh == nil {
		sh = &shown{}
		s.jobs[job] = sh
	}
	return sh
}

// Update takes keys and what came of commands.
func (s *Screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case plannedMsg:
		return s.planned(msg)
	case folderMsg:
		s.folder(msg)
		return nil
	case sideMsg:
		if sh := s.shown(msg.job); sh.side == nil || sh.side.number == msg.side.number {
			sh.side = msg.side
		}
		return nil
	case chosenMsg:
		return s.chosen(msg)
	case treeMsg:
		if sh := s.shown(msg.job); msg.err == nil && sh.number == msg.number {
			sh.tree.Roots = msg.nodes
			sh.lay()
		} else if msg.err != nil {
			sh.err = msg.err
		}
		return nil
	case approved:
		return msg.run
	case tea.PasteMsg:
		if j := s.Current(); j != nil && s.shown(j.Job.Name).form != nil {
			return s.shown(j.Job.Name).form.Update(msg)
		}
	case mendedMsg:
		return s.mended(msg)
	case changesMsg:
		return s.compared(msg)
	case kit.PlanAnew:
		return s.planAnew(msg.Job)
	case kit.Opened:
		s.cursor = kit.Cursor{}
		return s.catchUp()
	case kit.StateMsg:
		for _, sh := range s.jobs {
			if a := sh.planning; a != nil {
				sh.quiet[0].Note(a.Source.Objects.Load(), s.Now())
				sh.quiet[1].Note(a.Target.Objects.Load(), s.Now())
			}
		}
		return s.catchUp()
	case tea.KeyPressMsg:
		if j := s.Current(); j != nil {
			return s.key(msg, &about{s: s, j: j, sh: s.shown(j.Job.Name)})
		}
	}
	return nil
}

// catchUp loads the tree of the current job's newest plan when it is another
// than the one shown.
func (s *Screen) catchUp() tea.Cmd {
	j := s.Current()
	if j == nil || j.Plan == nil {
		return nil
	}
	sh := s.shown(j.Job.Name)
	var look tea.Cmd
	if sh.side == nil || sh.side.number != j.Plan.Number {
		sh.side = &side{number: j.Plan.Number}
		look = s.lookBefore(j)
	}
	if sh.number == j.Plan.Number || sh.loading {
		return look
	}
	sh.loading = true
	return tea.Batch(look, s.loadFolder(j.Job.Name, j.Plan.Number, nil))
}

func (s *Screen) loadFolder(job string, number int, under *node) tea.Cmd {
	prefix := kit.Reading(under)
	return func() tea.Msg {
		msg := folderMsg{job: job, number: number, prefix: prefix, under: under}
		var p *plan.Plan
		if p, msg.err = s.Service.PlanNumber(job, number); msg.err == nil {
			msg.nodes, msg.err = p.Folder(s.ctx, prefix)
			choices := p.Choices.Clone()
			msg.struck = choices.IsStruck
			p.Close()
		}
		return msg
	}
}

func (s *Screen) folder(msg folderMsg) {
	sh := s.shown(msg.job)
	lines := make([]line, len(msg.nodes))
	for i, n := range msg.nodes {
		lines[i] = line{n, msg.struck != nil && msg.struck(msg.prefix+n.Name)}
	}
	sh.tree.Take(msg.under, lines, func(l *line) string { return l.Name }, msg.err)
	if sh.err = msg.err; msg.under == nil { // also where it failed, or it would be asked for again and again
		sh.loading, sh.number = false, msg.number
	}
	sh.lay()
}

// lay makes the visible lines anew.
func (sh *shown) lay() { sh.tree.Lay(sh.shows) }

// shows tells whether a line is to be seen.
func (sh *shown) shows(n *node) bool {
	if sh.find != "" && !n.Open && !strings.Contains(strings.ToLower(n.Is.Name), strings.ToLower(sh.find)) {
		return false
	}
	if len(sh.only) > 0 {
		for k := range sh.only {
			if n.Is.Totals[k].Count > 0 {
				return true
			}
		}
		return false
	}
	return sh.all || n.Is.Totals.All().Count > n.Is.Totals[plan.Same].Count+n.Is.Totals[plan.LeftOut].Count ||
		n.Is.Totals[plan.LeftOut].Count > 0 && n.Is.struck
}

func (s *Screen) approve(j *kit.JobState, sh *shown) tea.Cmd {
	switch {
	case j.Plan == nil:
		return kit.Cmd(kit.Say{Text: "There is no plan yet; p makes one.", Bad: true})
	case j.Active != nil:
		return kit.Cmd(kit.Say{Text: "This job is running.", Bad: true})
	case j.Plan.NothingToDo() && j.Plan.Totals[plan.Conflict].Count > 0:
		return kit.Cmd(kit.Say{Text: "There are only conflicts: d decides them.", Bad: true})
	case j.Plan.NothingToDo():
		return kit.Cmd(kit.Say{Text: "There is nothing to do; p looks again."})
	case j.Done:
		return kit.Cmd(kit.Say{Text: "This plan has been run; p makes a new one.", Bad: true})
	}
	s.approveForm(j, sh)
	return nil
}

func (s *Screen) toggle(key string, j *kit.JobState, sh *shown) tea.Cmd {
	read := sh.tree.Toggle(key, &s.cursor, func(n *node) bool { return n.Is.Effect != nil })
	sh.lay()
	if read == nil {
		return nil
	}
	return s.loadFolder(j.Job.Name, sh.number, read)
}

// planAnew surveys and plans outside Update; the job says whether a kept survey
// will do.
func (s *Screen) planAnew(job string) tea.Cmd {
	fresh := workroom.Freshness{}
	if j := s.State.JobNamed(job); j != nil {
		fresh.MaxAge = j.Job.Reuse()
	}
	return s.planFrom(job, fresh)
}

func (s *Screen) planFrom(job string, fresh workroom.Freshness) tea.Cmd {
	sh := s.shown(job)
	if sh.planning != nil {
		return nil
	}
	ctx, stop := context.WithCancel(s.ctx)
	act := &workroom.Activity{}
	sh.planning, sh.stop, sh.err, sh.quiet = act, stop, nil, [2]kit.Quiet{}
	return func() tea.Msg {
		defer stop()
		info, err := s.Service.Plan(ctx, job, fresh, act)
		return plannedMsg{job, info, err}
	}
}

func (s *Screen) planned(msg plannedMsg) tea.Cmd {
	sh := s.shown(msg.job)
	sh.planning = nil
	switch {
	case errors.Is(msg.err, context.Canceled):
		return kit.Cmd(kit.Say{Text: "Planning was stopped; the plan before stands."})
	case msg.err != nil:
		sh.err = msg.err
		return nil
	}
	if j := s.State.JobNamed(msg.job); j != nil { // at once, not at the next tick
		j.Plan, j.Done, j.Approved = &msg.info, false, false
	}
	s.cursor = kit.Cursor{}
	sh.loading = true
	return s.loadFolder(msg.job, msg.info.Number, nil)
}
