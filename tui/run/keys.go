package run

import (
	"slices"
	"strconv"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/report"
	"lumtra/service/runs"
	"lumtra/tui/kit"
)

// about is what the keys of the view are about: a job's run, under way or over.
type about struct {
	s *Screen
	j *kit.JobState
}

func running(a *about) bool { return a.j.Active != nil }
func over(a *about) bool    { return a.j.Active == nil }

func troubled(a *about) bool {
	f := a.s.facts(a.j)
	return f != nil && len(f.problems) > 0
}

func needRun(a *about) string {
	if a.s.facts(a.j) == nil {
		return "this job has not run yet"
	}
	return ""
}

// Name is the place the run writes to.
func (s *Screen) Name() string {
	if j := s.Current(); j != nil {
		return j.Job.Lands()
	}
	return ""
}

// Command tells how far a run is, what failed of one that is over, or begins one.
func (s *Screen) Command() []string {
	j := s.Current()
	switch {
	case j == nil:
		return nil
	case j.Active != nil:
		return []string{"steer", j.Job.Name}
	case j.Last() != nil && j.Last().Failed > 0:
		return []string{"failures", j.Job.Name}
	}
	return []string{"run", j.Job.Name}
}

// actions are all there are, most useful first. The pane of problems takes its own keys
// before them while it has them.
var actions = []kit.Action[*about]{
	{Press: "tab", Does: "problems", When: troubled, Do: problems},
	{Press: "r", Does: "retry: what failed of this cause", When: troubled, Do: problems},
	{Press: "p", Also: []string{"space"}, Does: "pause or resume", When: running, Do: steering(pause)},
	{Press: "e", Does: "end", When: running, Do: steering(end)},
	{Press: "+", Does: "more streams", When: running, Do: steering(streams)},
	{Press: "-", Does: "fewer streams", When: running, Do: steering(streams)},
	{Press: "[", Does: "less bandwidth", When: running, Do: steering(bandwidth)},
	{Press: "]", Does: "more bandwidth", When: running, Do: steering(bandwidth)},
	{Press: "!", Does: "priority: the next one", When: running, Do: steering(priority)},
	{Press: "=", Does: "as many streams as help", When: running, Do: steering(streams)},
	{Press: "\\", Does: "bandwidth as the job says", When: running, Do: steering(bandwidth)},
	{Press: "v", Does: "verify: prove what is there", When: over, Do: func(a *about, _ string) tea.Cmd {
		return tea.Sequence(kit.Cmd(kit.Open{View: kit.Proof, Job: a.j.Job.Name}),
			kit.Cmd(kit.Prove{Job: a.j.Job.Name}))
	}},
	{Press: "p", Does: "plan anew: survey both sides", When: over, Do: func(a *about, _ string) tea.Cmd {
		return tea.Sequence(kit.Cmd(kit.Open{View: kit.Plan, Job: a.j.Job.Name}),
			kit.Cmd(kit.PlanAnew{Job: a.j.Job.Name}))
	}},
	{Press: "x", Does: "export: this run", Off: needRun, Do: func(a *about, _ string) tea.Cmd {
		a.s.choosing = a.j.Job.Name
		return nil
	}},
}

func problems(a *about, key string) tea.Cmd {
	cmd, _ := a.s.problemKey(key, a.j)
	return cmd
}

// Keys of the view.
func (s *Screen) Keys() []kit.Key {
	j := s.Current()
	switch {
	case j == nil:
		return nil
	case s.Asks():
		return []kit.Key{{Press: "1", Does: "the first of these forms, and so on"}, {Press: "esc", Does: "nothing"}}
	}
	return kit.KeysOf(&about{s, j}, actions)
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
	cmd, _ := kit.Press(&about{s, j}, actions, key)
	return cmd
}

// steering makes an action of what a key changes about the run under way, and what is said
// then; an empty change only says.
func steering(change func(a *about, now *runs.State, key string) (x runs.Steer, said string)) func(*about,
	string) tea.Cmd {
	return func(a *about, key string) tea.Cmd {
		r := a.s.Service.Active(a.j.Job.Name)
		if r == nil {
			return nil
		}
		now := r.State() // as it is now, and not as it was drawn: a key can be pressed twice meanwhile
		x, said := change(a, &now, key)
		if x == (runs.Steer{}) {
			return kit.Cmd(kit.Say{Text: said})
		}
		return steer(r, x, said)
	}
}

func pause(_ *about, now *runs.State, _ string) (x runs.Steer, said string) {
	pause := !now.Steering.Paused
	x.Pause = &pause
	if pause {
		return x, "Paused: what is under way comes to its end, and nothing more begins. p goes on."
	}
	return x, "Going on."
}

func streams(_ *about, now *runs.State, key string) (x runs.Steer, said string) {
	if key == "=" {
		x.Streams = new(int)
		return x, "The run finds out how many streams help."
	}
	if now.Steering.Streams == 0 {
		return x, "The run is only beginning."
	}
	n := stepStreams(now.Steering.Streams, key == "+")
	x.Streams = &n
	return x, strconv.Itoa(n) + " streams; = leaves it to the run again."
}

func bandwidth(_ *about, now *runs.State, key string) (x runs.Steer, said string) {
	if key == "\\" {
		x.Bandwidth = "hours"
		return x, "Bandwidth as the job says."
	}
	if x.Bandwidth = stepBandwidth(now, key == "]"); x.Bandwidth == "free" {
		return x, "No limit of its own; \\ is what the job says."
	}
	return x, "At most " + x.Bandwidth + "; \\ is what the job says."
}

func priority(_ *about, now *runs.State, _ string) (x runs.Steer, said string) {
	i := slices.Index(runs.Priorities, now.Priority)
	x.Priority = runs.Priorities[(i+1)%len(runs.Priorities)]
	return x, "Priority " + string(x.Priority) + " where it shares a limit with other runs."
}

func end(a *about, _ *runs.State, _ string) (x runs.Steer, said string) {
	if a.s.ending != a.j.Job.Name {
		a.s.ending, x.End = a.j.Job.Name, "finish"
		return x, "Ending when the parts under way have arrived; e once more ends it now. The plan can be gone on with."
	}
	x.End = "now"
	return x, "Ended; what has arrived stays."
}
