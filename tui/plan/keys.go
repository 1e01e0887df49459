package plan

import (
	"fmt"
	"strconv"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/history"
	"lumtra/core/plan"
	"lumtra/service/workroom"
	"lumtra/tui/kit"
)

// about is what the keys of the view are about: a job's plan.
type about struct {
	s  *Screen
	j  *kit.JobState
	sh *shown
	// sure tells that the key before asked whether to give up a run that was begun.
	sure bool
}

// do makes an action of a method that needs no key.
func do(f func(*Screen, *kit.JobState, *shown) tea.Cmd) func(*about, string) tea.Cmd {
	return func(a *about, _ string) tea.Cmd { return f(a.s, a.j, a.sh) }
}

func planned(a *about) bool { return a.j.Plan != nil }

// whilePlanning are the actions while a plan is being made.
var whilePlanning = []kit.Action[*about]{
	{Press: "esc", Does: "stop planning", Do: func(a *about, _ string) tea.Cmd {
		a.sh.stop()
		return kit.Cmd(kit.Say{Text: "Planning is being stopped."})
	}},
}

// onFacts are the actions while time, cost and checks have the whole room.
var onFacts = []kit.Action[*about]{
	{Press: "tab", Also: []string{"esc", "q"}, Does: "back to the tree", Do: func(a *about, _ string) tea.Cmd {
		a.sh.facts = nil
		return nil
	}},
	{Press: "a", Does: "approve: let the plan run", Do: do((*Screen).approve)},
	{Press: "m", Does: "mend: what a check found", Do: do((*Screen).mend)},
}

// besideAnother are the actions while a plan is held beside an earlier one.
var besideAnother = []kit.Action[*about]{
	{Press: "esc", Also: []string{"c", "q"}, Does: "back to the plan", Do: func(a *about, _ string) tea.Cmd {
		a.sh.changes = nil
		return kit.Cmd(kit.Say{Text: "Back to the plan."})
	}},
}

// actions are all others, most useful first.
var actions = []kit.Action[*about]{
	{Press: "a", Does: "approve: let the plan run", Do: do((*Screen).approve)},
	{Press: "p", Does: "plan anew: survey both sides",
		Do: func(a *about, _ string) tea.Cmd {
			if number := halfRun(a.j); number != 0 && !a.sure {
				a.sh.sure = true
				return kit.Cmd(kit.Say{Text: fmt.Sprintf("Plan %d was begun and did not end: a lets it go on. p once "+
					"more makes a new one in its place.", number), Bad: true})
			}
			return a.s.planAnew(a.j.Job.Name)
		}},
	{Press: "enter", Also: []string{"space", "right", "l", "left", "h"}, Does: "open or close: a folder", When: planned,
		Do: func(a *about, key string) tea.Cmd { return a.s.toggle(key, a.j, a.sh) }},
	{Press: "tab", Does: "time, cost, checks: all of them", When: planned, Do: func(a *about, _ string) tea.Cmd {
		a.sh.facts = &kit.Scroll{}
		return nil
	}},
	{Press: "-", Does: "strike out: or take in again", When: planned, Do: do((*Screen).strike)},
	{Press: "d", Does: "decide: this conflict, or all below", When: conflicts, Do: do((*Screen).decide)},
	{Press: "f", Does: "filter: by effect", When: planned,
		Do: func(a *about, _ string) tea.Cmd { return a.s.filter(a.sh) }},
	{Press: "m", Does: "mend: what a check found", When: planned, Do: do((*Screen).mend)},
	{Press: "c", Does: "compare: with an earlier plan", When: planned,
		Do: func(a *about, _ string) tea.Cmd { return a.s.compare(a.j) }},
	{Press: "C", Does: "contents: compare what counts as the same by time alone", When: unsure,
		Do: func(a *about, _ string) tea.Cmd {
			return a.s.planFrom(a.j.Job.Name, workroom.Freshness{Contents: true})
		}},
	{Press: "x", Does: "export: table or drawing", When: planned, Do: do((*Screen).export)},
	{Press: "r", Does: "survey again: below this folder", When: planned, Do: do((*Screen).resurvey)},
	{Press: "/", Does: "find: by name, in what is open", When: planned, Do: func(a *about, _ string) tea.Cmd {
		a.sh.finding, a.sh.find = true, ""
		return nil
	}},
	{Press: "b", Does: "bars: by bytes or count", When: planned, Do: func(a *about, _ string) tea.Cmd {
		a.sh.byCount = !a.sh.byCount
		return nil
	}},
	{Press: "s", Does: "show or hide: the same", When: planned, Do: func(a *about, _ string) tea.Cmd {
		a.sh.all = !a.sh.all
		a.sh.lay()
		return nil
	}},
	{Press: "J", Does: "job: its sentence", Do: func(a *about, _ string) tea.Cmd {
		return kit.Cmd(kit.Open{View: kit.Jobs, Job: a.j.Job.Name})
	}},
	{Press: "esc", Does: "all: what was filtered away or not found", When: narrowed,
		Do: func(a *about, _ string) tea.Cmd {
			a.sh.find, a.sh.only = "", nil
			a.sh.lay()
			return kit.Cmd(kit.Say{Text: "Everything is shown again."})
		}},
}

// halfRun is the number of the job's plan if its run was stopped or cut off; 0 if not.
func halfRun(j *kit.JobState) int {
	last := j.Last()
	if last == nil || j.Plan == nil || last.Plan != j.Plan.Number ||
		last.End != history.Stopped && last.End != history.Interrupted {
		return 0
	}
	return last.Plan
}

func unsure(a *about) bool { return planned(a) && a.j.Plan.Later > 0 }

func conflicts(a *about) bool {
	return planned(a) && (a.j.Plan.Totals[plan.Conflict].Count > 0 || a.s.decided(a.sh))
}

func narrowed(a *about) bool { return planned(a) && (a.sh.find != "" || len(a.sh.only) > 0) }

func (a *about) actions() []kit.Action[*about] {
	switch {
	case a.sh.planning != nil:
		return whilePlanning
	case a.sh.changes != nil:
		return besideAnother
	case a.sh.facts != nil:
		return onFacts
	}
	return actions
}

// Keys of the view.
func (s *Screen) Keys() []kit.Key {
	j := s.Current()
	if j == nil {
		return nil
	}
	a := &about{s: s, j: j, sh: s.shown(j.Job.Name)}
	switch {
	case a.sh.planning != nil:
	case a.sh.form != nil:
		return []kit.Key{{Press: "enter", Does: a.sh.form.Does}, {Press: "esc", Does: "no, not now"}}
	case a.sh.menu != nil:
		return []kit.Key{{Press: "enter", Does: "this one"}, {Press: "esc", Does: "leave it"}}
	case a.sh.changes == nil && a.sh.finding:
		return []kit.Key{{Press: "enter", Does: "keep: these names"}, {Press: "esc", Does: "all names"}}
	}
	return kit.KeysOf(a, a.actions())
}

// Name is the place at the target of what is under the cursor, the job's own where nothing is.
func (s *Screen) Name() string {
	if j := s.Current(); j != nil {
		return kit.NameAt(j, s.shown(j.Job.Name).tree.Rows, s.cursor.At)
	}
	return ""
}

// Command is the one that approves and runs the plan that is shown, or makes one.
func (s *Screen) Command() []string {
	j := s.Current()
	switch {
	case j == nil:
		return nil
	case j.Plan == nil || j.Plan.Idle():
		return []string{"plan", j.Job.Name}
	}
	command := []string{"run", j.Job.Name, "--plan", strconv.Itoa(j.Plan.Number)}
	if len(j.Plan.Held) > 0 && !j.Approved {
		command = append(command, "--approve", strconv.FormatInt(j.Plan.Totals[plan.Remove].Count, 10))
	}
	return command
}

func (s *Screen) key(msg tea.KeyPressMsg, a *about) tea.Cmd {
	key := msg.String()
	switch {
	case a.sh.planning != nil:
	case a.sh.form != nil:
		if key == "esc" {
			a.sh.form = nil
			return kit.Cmd(kit.Say{Text: "Not approved; nothing was done."})
		}
		return a.sh.form.Update(msg)
	case a.sh.menu != nil:
		return s.menuKey(key, a.sh)
	case a.sh.changes == nil && a.sh.finding:
		return s.findKey(msg, a.sh)
	}
	a.sure, a.sh.sure = a.sh.sure, false
	cmd, done := kit.Press(a, a.actions(), key)
	switch {
	case done || a.sh.planning != nil:
	case a.sh.changes != nil:
		s.changesCursor.Key(key, len(a.sh.changes.Lines), s.page)
	case a.sh.facts != nil:
		a.sh.facts.Key(key)
	default:
		s.cursor.Key(key, len(a.sh.tree.Rows), s.page)
	}
	return cmd
}
