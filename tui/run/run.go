// Package run is the view of what moves now: the rate over time, what holds it
// back, what is in flight, and problems by cause; and the place to steer it
// from. Of a run that is over it shows what history kept.
package run

import (
	"context"
	"errors"
	"math"
	"os"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/history"
	"lumtra/core/object"
	"lumtra/core/pace"
	"lumtra/core/report"
	"lumtra/core/transfer"
	"lumtra/service/cycle"
	"lumtra/service/runs"
	"lumtra/service/workroom"
	"lumtra/tui/kit"
)

// Screen is the view.
type Screen struct {
	*kit.Shared
	ctx      context.Context
	starting map[string]bool
	err      map[string]error
	// ending is the job whose end was asked about.
	ending string
	// beats are the last measures of each job's run, for what holds it now.
	beats map[string][]beat
	// side is the pane of problems: of which job, whether it has the keys, and
	// what of it is open.
	side     problemPane
	choosing string // the job of which a form to export in is asked for
}

// View is what the view tells of itself.
var View = kit.ViewKind{View: kit.Run, Does: "what moves now", OfJob: true,
	Presses: kit.Presses(actions),
	New:     func(ctx context.Context, shared *kit.Shared) kit.Screen { return newScreen(ctx, shared) }}

// newScreen makes the view.
func newScreen(ctx context.Context, shared *kit.Shared) *Screen {
	return &Screen{Shared: shared, ctx: ctx, starting: map[string]bool{}, err: map[string]error{},
		beats: map[string][]beat{}}
}

type startedMsg struct {
	job string
	err error
}

// begunMsg tells that a run which was started is in the state by now.
type begunMsg struct{ job string }

// Crumbs name the job.
func (s *Screen) Crumbs() []string {
	if j := s.Current(); j != nil {
		return []string{j.Job.Name}
	}
	return nil
}

// Asks tells that a form to export in is asked for.
func (s *Screen) Asks() bool {
	j := s.Current()
	return j != nil && s.choosing == j.Job.Name
}

// Update takes keys, and runs to start.
func (s *Screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case kit.Start:
		return s.start(msg.Job, cycle.Policy{Number: msg.Number, Despite: msg.Despite})
	case startedMsg:
		if msg.err == nil { // until it is seen, the run before would stand here as if it were this one
			return kit.Cmd(kit.Refresh{Then: kit.Cmd(begunMsg{msg.job})})
		}
		delete(s.starting, msg.job)
		if msg.err != nil && !errors.Is(msg.err, workroom.ErrNothingToDo) {
			s.err[msg.job] = msg.err
		}
	case kit.Opened:
		s.choosing = ""
	case begunMsg:
		delete(s.starting, msg.job)
	case kit.StateMsg:
		s.beat(&msg.State)
	case failuresMsg:
		if s.side.take(msg); msg.err != nil {
			return kit.Cmd(kit.Say{Text: kit.Reason(msg.err), Bad: true})
		}
	case tea.KeyPressMsg:
		return s.key(msg.String())
	}
	return nil
}

func (s *Screen) start(job string, p cycle.Policy) tea.Cmd {
	if s.starting[job] {
		return nil
	}
	s.starting[job] = true
	delete(s.err, job)
	return func() tea.Msg {
		// A person has looked at the plan and let it go.
		_, err := s.Service.Cycle().Begin(context.Background(), job, p, nil)
		return startedMsg{job, err}
	}
}

func steer(r runs.Run, x runs.Steer, said string) tea.Cmd {
	return func() tea.Msg {
		if err := r.Steer(x); err != nil {
			return kit.Say{Text: kit.Reason(err), Bad: true}
		}
		return kit.Say{Text: said}
	}
}

// stepStreams goes up or down by about a quarter.
func stepStreams(n int, up bool) int {
	step := max(n/4, 1)
	if !up {
		step = -step
	}
	return min(max(n+step, 1), transfer.MaxStreams)
}

// stepBandwidth is a limit about a quarter above or below the one in force, or
// below the present rate when there is none; round, so that it can be read.
func stepBandwidth(a *runs.State, up bool) string {
	now := a.Lately()
	from := a.Limit.Rate
	if from == 0 {
		if up || now < 1000 {
			return "free"
		}
		from = now
	}
	if up {
		if from *= 1.25; from > 4*math.Max(now, 1e6) && now > 0 && from > 1e9 {
			return "free"
		}
	} else {
		from *= 0.8
	}
	unit := math.Pow(10, math.Floor(math.Log10(math.Max(from, 1000)))-1)
	return pace.Rate(math.Max(math.Round(from/unit)*unit, 1000))
}

// export writes the run's report beside where Lumtra was started.
func (s *Screen) export(j *kit.JobState, f report.Format) tea.Cmd {
	r := s.runOf(j)
	return func() tea.Msg {
		dir, err := os.Getwd()
		path := ""
		if err == nil {
			path, err = s.Service.ExportRunTo(dir, r, f)
		}
		if err != nil {
			return kit.Say{Text: kit.Reason(err), Bad: true}
		}
		return kit.Say{Text: "Written to " + object.Display(path), Link: object.Display(path)}
	}
}

// runOf is the run shown, as history has it or will.
func (s *Screen) runOf(j *kit.JobState) history.Run {
	a := j.Active
	if a == nil {
		return *j.Last()
	}
	return history.Run{Job: j.Job.Name, Plan: a.Plan, Began: a.Began, Ended: s.Now(), End: history.Running,
		PlannedObjects: a.Planned.Count, PlannedBytes: a.Planned.Bytes,
		Objects: a.Objects, Bytes: a.Bytes, Before: a.Before, Failed: a.Failed, Retries: a.Retries,
		SeenTo: a.SeenTo, Problems: a.Problems, Samples: a.Samples}
}
