// Package plan is the view of what a run would do: the job as a sentence, the
// totals by effect, and the outcome as a tree down to one object and its
// reason. Approving it here is what lets it run.
package plan

import (
	"context"
	"errors"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/plan"
	"lumtra/service"
	"lumtra/tui/kit"
)

// Screen is the view.
type Screen struct {
	*kit.Shared
	ctx    context.Context
	jobs   map[string]*shown
	cursor kit.Cursor
	page   int
}

// shown is what the view knows of one job's plan.
type shown struct {
	number   int // of the plan whose tree this is
	roots    []*node
	rows     []*node
	loading  bool
	byCount  bool
	all      bool              // also what stays as it is
	asking   bool              // approval was asked for
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

// Typing is never so here.
func (s *Screen) Typing() bool { return false }

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
	case sh.asking:
		return []kit.Key{{Press: "enter", Does: "yes, run it"}, {Press: "esc", Does: "no, not now"}}
	}
	keys := []kit.Key{{Press: "p", Does: "plan anew: survey both sides"}}
	if j.Plan != nil {
		keys = append([]kit.Key{{Press: "a", Does: "approve: let the plan run"}}, append(keys,
			kit.Key{Press: "enter", Does: "open or close: a folder"}, kit.Key{Press: "b", Does: "bars by bytes or count"}, kit.Key{Press: "s", Does: "show or hide the same"})...)
	}
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
	case kit.PlanAnew:
		return s.planAnew(msg.Job)
	case kit.Opened:
		s.cursor = kit.Cursor{}
		return s.catchUp()
	case kit.StateMsg:
		return s.catchUp()
	case tea.KeyPressMsg:
		if j := s.Current(); j != nil {
			return s.key(msg.String(), j, s.shown(j.Job.Name))
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
	if sh.number == j.Plan.Number || sh.loading {
		return nil
	}
	sh.loading = true
	return s.loadFolder(j.Job.Name, j.Plan.Number, nil)
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
			if all := n.Totals.All().Count; !sh.all && all == n.Totals[plan.Same].Count {
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

func (s *Screen) key(key string, j *kit.JobState, sh *shown) tea.Cmd {
	switch {
	case sh.planning != nil:
		if key == "esc" {
			sh.stop()
			return kit.Cmd(kit.Say{Text: "Planning is being stopped."})
		}
		return nil
	case sh.asking:
		sh.asking = false
		if key == "enter" || key == "y" || key == "a" {
			return tea.Sequence(kit.Cmd(kit.Open{View: kit.Run, Job: j.Job.Name}), kit.Cmd(kit.Start{Job: j.Job.Name, Number: j.Plan.Number}))
		}
		return kit.Cmd(kit.Say{Text: "Not approved; nothing was done."})
	}
	switch key {
	case "p":
		return s.planAnew(j.Job.Name)
	case "a":
		return s.approve(j, sh)
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
	case j.Plan.Totals.Work().Count == 0:
		return kit.Cmd(kit.Say{Text: "There is nothing to do; p looks again."})
	case j.Done:
		return kit.Cmd(kit.Say{Text: "This plan has been run; p makes a new one.", Bad: true})
	}
	sh.asking = true
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

// planAnew surveys and plans outside Update.
func (s *Screen) planAnew(job string) tea.Cmd {
	sh := s.shown(job)
	if sh.planning != nil {
		return nil
	}
	ctx, stop := context.WithCancel(s.ctx)
	act := &service.Activity{}
	sh.planning, sh.stop, sh.err = act, stop, nil
	return func() tea.Msg {
		defer stop()
		info, err := s.Service.Plan(ctx, job, service.Freshness{}, act)
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
		j.Plan, j.Done = &msg.info, false
	}
	s.cursor = kit.Cursor{}
	sh.loading = true
	return s.loadFolder(msg.job, msg.info.Number, nil)
}
