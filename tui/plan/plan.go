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
	"lumtra/service"
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
	roots    []*node
	rows     []*node
	loading  bool
	byCount  bool
	all      bool               // also what stays as it is
	only     map[plan.Kind]bool // of the effects, those shown; empty for all that matter
	form     *kit.Form          // approval is asked for
	menu     *menu              // one of a few is being chosen
	changes  *service.Changes   // how it differs from an earlier plan
	choosing bool               // a choice is being worked in
	mending  service.Fix        // a check is being mended
	side     *side              // what is known before the run, of plan side.number
	find     string             // part of names that are shown
	finding  bool
	planning *service.Activity // while a plan is being made
	stop     context.CancelFunc
	err      error
}

// node is a line of the outcome tree.
type node struct {
	plan.Node
	prefix  string // key up to and with the name
	depth   int
	open    bool
	loading bool
	loaded  bool
	struck  bool // by a person, it or something above it
	below   []*node
}

// New makes the view.
func New(ctx context.Context, shared *kit.Shared) *Screen {
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
		under  *node // nil for the top
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

// Keys of the view.
func (s *Screen) Keys() []kit.Key {
	j := s.Current()
	if j == nil {
		return nil
	}
	sh := s.shown(j.Job.Name)
	switch {
	case sh.planning != nil:
		return []kit.Key{{Press: "esc", Does: "stop planning"}}
	case sh.form != nil:
		return []kit.Key{{Press: "enter", Does: sh.form.Does}, {Press: "esc", Does: "no, not now"}}
	case sh.menu != nil:
		return []kit.Key{{Press: "enter", Does: "this one"}, {Press: "esc", Does: "leave it"}}
	case sh.changes != nil:
		return []kit.Key{{Press: "esc", Does: "back to the plan"}}
	case sh.finding:
		return []kit.Key{{Press: "enter", Does: "keep: these names"}, {Press: "esc", Does: "all names"}}
	}
	keys := []kit.Key{{Press: "p", Does: "plan anew: survey both sides"}}
	if j.Plan == nil {
		return keys
	}
	keys = append([]kit.Key{{Press: "a", Does: "approve: let the plan run"}}, append(keys,
		kit.Key{Press: "enter", Does: "open or close: a folder"}, kit.Key{Press: "-", Does: "strike out: or take in again"})...)
	if j.Plan.Totals[plan.Conflict].Count > 0 || s.decided(sh) {
		keys = append(keys, kit.Key{Press: "d", Does: "decide: this conflict, or all below"})
	}
	keys = append(keys, kit.Key{Press: "f", Does: "filter: by effect"}, kit.Key{Press: "m", Does: "mend: what a check found"}, kit.Key{Press: "c", Does: "compare: with an earlier plan"},
		kit.Key{Press: "x", Does: "export: table or drawing"}, kit.Key{Press: "r", Does: "survey again: below this folder"}, kit.Key{Press: "/", Does: "find: by name, in what is open"},
		kit.Key{Press: "b", Does: "bars by bytes or count"}, kit.Key{Press: "s", Does: "show or hide the same"}, kit.Key{Press: "J", Does: "job: its sentence"})
	return keys
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
			sh.roots = msg.nodes
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
		return s.catchUp()
	case tea.KeyPressMsg:
		if j := s.Current(); j != nil {
			return s.key(msg, j, s.shown(j.Job.Name))
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
	prefix := ""
	if under != nil {
		prefix, under.loading = under.prefix, true
	}
	return func() tea.Msg {
		msg := folderMsg{job: job, number: number, under: under}
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
	nodes := make([]*node, len(msg.nodes))
	for i, n := range msg.nodes {
		nodes[i] = &node{Node: n, prefix: n.Name}
		if msg.under != nil {
			nodes[i].prefix, nodes[i].depth = msg.under.prefix+n.Name, msg.under.depth+1
		}
	}
	for _, n := range nodes {
		n.struck = msg.struck != nil && msg.struck(n.prefix)
	}
	sh.err = msg.err
	if msg.under == nil {
		sh.loading, sh.number, sh.roots = false, msg.number, nodes
		if msg.err != nil {
			sh.number = msg.number // or it would be asked for again and again
		}
	} else {
		msg.under.loading, msg.under.loaded, msg.under.below = false, msg.err == nil, nodes
	}
	sh.lay()
}

// lay makes the visible lines anew.
func (sh *shown) lay() {
	sh.rows = sh.rows[:0]
	var walk func([]*node)
	walk = func(nodes []*node) {
		for _, n := range nodes {
			if !sh.shows(n) {
				continue
			}
			sh.rows = append(sh.rows, n)
			if n.open {
				walk(n.below)
			}
		}
	}
	walk(sh.roots)
}

// shows tells whether a line is to be seen.
func (sh *shown) shows(n *node) bool {
	if sh.find != "" && !n.open && !strings.Contains(strings.ToLower(n.Name), strings.ToLower(sh.find)) {
		return false
	}
	if len(sh.only) > 0 {
		for k := range sh.only {
			if n.Totals[k].Count > 0 {
				return true
			}
		}
		return false
	}
	return sh.all || n.Totals.All().Count > n.Totals[plan.Same].Count+n.Totals[plan.LeftOut].Count || n.Totals[plan.LeftOut].Count > 0 && n.struck
}

func (s *Screen) key(msg tea.KeyPressMsg, j *kit.JobState, sh *shown) tea.Cmd {
	key := msg.String()
	switch {
	case sh.planning != nil:
		if key == "esc" {
			sh.stop()
			return kit.Cmd(kit.Say{Text: "Planning is being stopped."})
		}
		return nil
	case sh.form != nil:
		if key == "esc" {
			sh.form = nil
			return kit.Cmd(kit.Say{Text: "Not approved; nothing was done."})
		}
		return sh.form.Update(msg)
	case sh.menu != nil:
		return s.menuKey(key, sh)
	case sh.changes != nil:
		if key == "esc" || key == "c" || key == "q" {
			sh.changes = nil
			return kit.Cmd(kit.Say{Text: "Back to the plan."})
		}
		s.changesCursor.Key(key, len(sh.changes.Lines), s.page)
		return nil
	case sh.finding:
		return s.findKey(msg, sh)
	}
	switch {
	case key == "p":
		return s.planAnew(j.Job.Name)
	case key == "J":
		return kit.Cmd(kit.Open{View: kit.Jobs, Job: j.Job.Name})
	case key == "a":
		return s.approve(j, sh)
	case j.Plan == nil:
		return nil
	}
	switch key {
	case "-":
		return s.strike(j, sh)
	case "d":
		return s.decide(j, sh)
	case "f":
		return s.filter(sh)
	case "m":
		return s.mend(j, sh)
	case "c":
		return s.compare(j)
	case "x":
		return s.export(j, sh)
	case "r":
		return s.resurvey(j, sh)
	case "/":
		sh.finding, sh.find = true, ""
	case "esc":
		if sh.find != "" || len(sh.only) > 0 {
			sh.find, sh.only = "", nil
			sh.lay()
			return kit.Cmd(kit.Say{Text: "Everything is shown again."})
		}
	case "b":
		sh.byCount = !sh.byCount
	case "s":
		sh.all = !sh.all
		sh.lay()
	case "enter", "right", "l", "left", "h", "space":
		return s.toggle(key, j, sh)
	default:
		s.cursor.Key(key, len(sh.rows), s.page)
	}
	return nil
}

func (s *Screen) approve(j *kit.JobState, sh *shown) tea.Cmd {
	switch {
	case j.Plan == nil:
		return kit.Cmd(kit.Say{Text: "There is no plan yet; p makes one.", Bad: true})
	case j.Active != nil:
		return kit.Cmd(kit.Say{Text: "This job is running.", Bad: true})
	case j.Plan.Settled() && j.Plan.Totals[plan.Conflict].Count > 0:
		return kit.Cmd(kit.Say{Text: "There are only conflicts: d decides them.", Bad: true})
	case j.Plan.Settled():
		return kit.Cmd(kit.Say{Text: "There is nothing to do; p looks again."})
	case j.Done:
		return kit.Cmd(kit.Say{Text: "This plan has been run; p makes a new one.", Bad: true})
	}
	s.approveForm(j, sh)
	return nil
}

func (s *Screen) toggle(key string, j *kit.JobState, sh *shown) tea.Cmd {
	if s.cursor.At >= len(sh.rows) {
		return nil
	}
	n := sh.rows[s.cursor.At]
	back := key == "left" || key == "h"
	if back && !n.open || n.Effect != nil {
		if back { // up to the folder it lies in
			for i := s.cursor.At; i >= 0; i-- {
				if sh.rows[i].depth < n.depth {
					s.cursor.At = i
					break
				}
			}
		}
		return nil
	}
	n.open = !back && (!n.open || key != "enter" && key != "space")
	sh.lay()
	if n.open && !n.loaded && !n.loading {
		return s.loadFolder(j.Job.Name, sh.number, n)
	}
	return nil
}

// planAnew surveys and plans outside Update; the job says whether a kept survey
// will do.
func (s *Screen) planAnew(job string) tea.Cmd {
	fresh := service.Freshness{}
	if j := s.State.JobNamed(job); j != nil {
		fresh.MaxAge = j.Job.Reuse()
	}
	return s.planFrom(job, fresh)
}

func (s *Screen) planFrom(job string, fresh service.Freshness) tea.Cmd {
	sh := s.shown(job)
	if sh.planning != nil {
		return nil
	}
	ctx, stop := context.WithCancel(s.ctx)
	act := &service.Activity{}
	sh.planning, sh.stop, sh.err = act, stop, nil
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
