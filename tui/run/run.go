// Package run is the view of what moves now: the rate over time, what holds it
// back, what is in flight, and problems by cause; and the place to steer it
// from. Of a run that is over it shows what history kept.
package run

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"slices"
	"strconv"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/history"
	"lumtra/core/object"
	"lumtra/core/pace"
	"lumtra/core/report"
	"lumtra/core/transfer"
	"lumtra/service"
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

// New makes the view.
func New(ctx context.Context, shared *kit.Shared) *Screen {
	return &Screen{Shared: shared, ctx: ctx, starting: map[string]bool{}, err: map[string]error{}, beats: map[string][]beat{}}
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

// Keys of the view.
func (s *Screen) Keys() []kit.Key {
	j := s.Current()
	if j == nil {
		return nil
	}
	if s.Asks() {
		return []kit.Key{{Press: "1", Does: "the first of these forms, and so on"}, {Press: "esc", Does: "nothing"}}
	}
	var keys []kit.Key
	if j.Active != nil {
		keys = append(keys,
			kit.Key{Press: "p", Does: "pause or resume"}, kit.Key{Press: "e", Does: "end"}, kit.Key{Press: "+", Does: "more streams; - fewer"},
			kit.Key{Press: "[", Does: "less bandwidth; ] more"}, kit.Key{Press: "!", Does: "priority"}, kit.Key{Press: "=", Does: "as many streams as help"}, kit.Key{Press: "\\", Does: "bandwidth as the job says"})
	} else {
		keys = append(keys, kit.Key{Press: "v", Does: "verify: prove what is there"}, kit.Key{Press: "p", Does: "plan anew: survey both sides"})
	}
	if f := s.facts(j); f != nil && len(f.problems) > 0 {
		keys = append([]kit.Key{{Press: "tab", Does: "problems"}, {Press: "r", Does: "retry what failed"}}, keys...)
	}
	return append(keys, kit.Key{Press: "x", Does: "export this run"}, kit.Key{Press: "u", Does: "bytes or bits"})
}

// Update takes keys, and runs to start.
func (s *Screen) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case kit.Start:
		return s.start(msg.Job, service.RunOptions{Number: msg.Number, Despite: msg.Despite})
	case startedMsg:
		if msg.err == nil { // until it is seen, the run before would stand here as if it were this one
			return kit.Cmd(kit.Refresh{Then: kit.Cmd(begunMsg{msg.job})})
		}
		delete(s.starting, msg.job)
		if msg.err != nil && !errors.Is(msg.err, service.ErrNothingToDo) {
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

func (s *Screen) start(job string, opts service.RunOptions) tea.Cmd {
	if s.starting[job] {
		return nil
	}
	s.starting[job] = true
	delete(s.err, job)
	return func() tea.Msg {
		// A person has looked at the plan and let it go.
		_, err := s.Service.StartRun(context.Background(), job, opts)
		return startedMsg{job, err}
	}
}

func (s *Screen) key(key string) tea.Cmd {
	j := s.Current()
	if j == nil {
		return nil
	}
	if s.Asks() {
		s.choosing = ""
		if n, err := strconv.Atoi(key); err == nil && n >= 1 && n <= len(report.Formats) {
			return s.export(j, report.Formats[n-1])
		}
		return kit.Cmd(kit.Say{Text: "Nothing was written."})
	}
	if key != "e" {
		s.ending = ""
	}
	if cmd, done := s.problemKey(key, j); done {
		return cmd
	}
	switch key {
	case "x":
		if s.facts(j) != nil {
			s.choosing = j.Job.Name
		}
		return nil
	}
	if j.Active != nil {
		return s.steerKey(key, j)
	}
	switch key {
	case "v":
		return tea.Sequence(kit.Cmd(kit.Open{View: kit.Proof, Job: j.Job.Name}), kit.Cmd(kit.Prove{Job: j.Job.Name}))
	case "p":
		return tea.Sequence(kit.Cmd(kit.Open{View: kit.Plan, Job: j.Job.Name}), kit.Cmd(kit.PlanAnew{Job: j.Job.Name}))
	}
	return nil
}

// steerKey changes the run under way.
func (s *Screen) steerKey(key string, j *kit.JobState) tea.Cmd {
	r := s.Service.Active(j.Job.Name)
	if r == nil {
		return nil
	}
	a := r.State() // as it is now, and not as it was drawn: a key can be pressed twice meanwhile
	var x service.Steer
	said := ""
	switch key {
	case "p", "space":
		pause := !a.Steering.Paused
		x.Pause = &pause
		said = map[bool]string{true: "Paused: what is under way comes to its end, and nothing more begins. p goes on.", false: "Going on."}[pause]
	case "+", "-":
		if a.Steering.Streams == 0 {
			return kit.Cmd(kit.Say{Text: "The run is only beginning."})
		}
		n := stepStreams(a.Steering.Streams, key == "+")
		x.Streams = &n
		said = fmt.Sprintf("%d streams; = leaves it to the run again.", n)
	case "=":
		x.Streams = new(int)
		said = "The run finds out how many streams help."
	case "[", "]":
		x.Bandwidth = stepBandwidth(&a, key == "]")
		said = "At most " + x.Bandwidth + "; \\ is what the job says."
		if x.Bandwidth == "free" {
			said = "No limit of its own; \\ is what the job says."
		}
	case "\\":
		x.Bandwidth = "hours"
		said = "Bandwidth as the job says."
	case "!":
		i := slices.Index(service.Priorities, a.Priority)
		x.Priority = service.Priorities[(i+1)%len(service.Priorities)]
		said = "Priority " + string(x.Priority) + " where it shares a limit with other runs."
	case "e":
		if s.ending != j.Job.Name {
			s.ending, x.End = j.Job.Name, "finish"
			said = "Ending when the parts under way have arrived; e once more ends it now. The plan can be gone on with."
		} else {
			x.End = "now"
			said = "Ended; what has arrived stays."
		}
	default:
		return nil
	}
	return steer(r, x, said)
}

func steer(r *service.ActiveRun, x service.Steer, said string) tea.Cmd {
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
func stepBandwidth(a *service.RunState, up bool) string {
	now := lately(a.Samples)
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
		return kit.Say{Text: "Written to " + object.Display(path)}
	}
}

// runOf is the run shown, as history has it or will.
func (s *Screen) runOf(j *kit.JobState) history.Run {
	a := j.Active
	if a == nil {
		return *j.Last()
	}
	return history.Run{Job: j.Job.Name, Plan: a.Plan, Began: a.Began, Ended: s.Now(), End: history.Running, PlannedObjects: a.Planned.Count, PlannedBytes: a.Planned.Bytes,
		Objects: a.Objects, Bytes: a.Bytes, Before: a.Before, Failed: a.Failed, Retries: a.Retries, Settled: a.Settled, Problems: a.Problems, Samples: a.Samples}
}
