// Package now is the first view: jobs as lanes over time, past and running,
// with the present as a fixed upright line, and below what needs a person.
package now

import (
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/history"
	"lumtra/core/plan"
	"lumtra/tui/kit"
)

// Screen is the view.
type Screen struct {
	*kit.Shared
	cursor kit.Cursor
	zoom   int
	zoomed bool          // a person or the first state has chosen the span
	pan    time.Duration // how far back from the present the line stands
}

// New makes the view.
func New(shared *kit.Shared) *Screen { return &Screen{Shared: shared, zoom: 1} }

// zooms are the spans the whole width can show.
var zooms = []time.Duration{6 * time.Minute, 30 * time.Minute, 2 * time.Hour, 12 * time.Hour, 48 * time.Hour, 8 * 24 * time.Hour, 31 * 24 * time.Hour}

var spanNames = []string{"6 minutes", "30 minutes", "2 hours", "12 hours", "2 days", "8 days", "a month"}

// Crumbs tells the span shown.
func (s *Screen) Crumbs() []string { return []string{spanNames[s.zoom] + " across"} }

// Asks is never so here.
func (s *Screen) Asks() bool { return false }

// Keys of the view.
func (s *Screen) Keys() []kit.Key {
	return []kit.Key{
		{Press: "enter", Does: "open: go to the plan, or to where a need is mended"},
		{Press: "p", Does: "plan anew: survey both sides of this job"},
		{Press: "+", Does: "nearer: a shorter span of time"}, {Press: "-", Does: "farther: a longer span of time"},
		{Press: "left", Does: "back in time"}, {Press: "right", Does: "forward in time"}, {Press: "n", Does: "to the present"},
	}
}

// Update takes keys; everything else comes with the shared state.
func (s *Screen) Update(msg tea.Msg) tea.Cmd {
	if _, ok := msg.(kit.StateMsg); ok && !s.zoomed && !s.State.At.IsZero() {
		s.zoomed = true
		s.fitSpan()
	}
	key, ok := msg.(tea.KeyPressMsg)
	if !ok {
		return nil
	}
	lines := len(s.State.Jobs) + len(s.State.Needs)
	switch k := key.String(); k {
	case "+", "=":
		s.zoom = max(s.zoom-1, 0)
	case "-":
		s.zoom = min(s.zoom+1, len(zooms)-1)
	case "left", "h":
		s.pan += zooms[s.zoom] / 8
	case "right", "l":
		s.pan = max(s.pan-zooms[s.zoom]/8, 0)
	case "n":
		s.pan = 0
	case "enter", "p":
		return s.enter(k)
	default:
		if s.cursor.Key(k, lines, 3) && s.cursor.At < len(s.State.Jobs) {
			s.Choose(s.State.Jobs[s.cursor.At].Job.Name, false) // what the other views are about
		}
	}
	return nil
}

// fitSpan chooses the shortest span that shows the newest run of every job.
func (s *Screen) fitSpan() {
	var oldest time.Duration
	for i := range s.State.Jobs {
		if r := s.State.Jobs[i].Last(); r != nil {
			oldest = max(oldest, s.State.At.Sub(r.Began))
		}
	}
	for s.zoom = 0; s.zoom < len(zooms)-1 && zooms[s.zoom]*6/10 < oldest; s.zoom++ {
	}
}

func (s *Screen) enter(key string) tea.Cmd {
	at, jobs := s.cursor.At, s.State.Jobs
	switch {
	case at < len(jobs):
		j := &jobs[at]
		view := kit.Plan
		if j.Active != nil && key == "enter" {
			view = kit.Run
		}
		cmd := kit.Cmd(kit.Open{View: view, Job: j.Job.Name})
		if key == "p" {
			cmd = tea.Sequence(cmd, kit.Cmd(kit.PlanAnew{Job: j.Job.Name}))
		}
		return cmd
	case at-len(jobs) < len(s.State.Needs):
		n := s.State.Needs[at-len(jobs)]
		return kit.Cmd(kit.Open{View: n.View, Job: n.Job})
	}
	return nil
}

// summary is a job's state in a few words.
func (s *Screen) summary(j *kit.JobState) (string, bool) {
	last := j.Last()
	switch {
	case j.Active != nil:
		a := j.Active
		if a.Planned.Bytes > 0 {
			return fmt.Sprintf("running, %d %% of bytes", 100*(a.BeforeBytes+a.Bytes)/a.Planned.Bytes), true
		}
		return fmt.Sprintf("running, %d %% of objects", 100*(a.Before+a.Objects)/max(a.Planned.Count, 1)), true
	case last == nil && j.Plan == nil:
		return "not planned yet", false
	case last == nil:
		return fmt.Sprintf("plan %d, not run yet", j.Plan.Number), false
	}
	return fmt.Sprintf("%s %s", last.End, kit.Ago(last.Ended, s.State.At)), last.End != history.Clean
}

// facts is the line under a lane: what the last run did.
func (s *Screen) facts(j *kit.JobState) string {
	text := ""
	if r := j.Last(); r != nil && j.Active == nil {
		took := r.Ended.Sub(r.Began)
		text = fmt.Sprintf("plan %d · %s objects · %s in %s", r.Plan, kit.Count(r.Objects), kit.Size(r.Bytes), kit.Span(took))
		if took > 0 && r.Bytes > 0 {
			text += " · " + kit.Rate(float64(r.Bytes)/took.Seconds(), s.Bits)
		}
		if r.Failed > 0 {
			text += fmt.Sprintf(" · %s failed", kit.Count(r.Failed))
		}
	} else if a := j.Active; a != nil {
		text = fmt.Sprintf("%s of %s objects · %s of %s", kit.Count(a.Before+a.Objects), kit.Count(a.Planned.Count), kit.Size(a.Bytes), kit.Size(a.Planned.Bytes))
		if a.Failed > 0 {
			text += fmt.Sprintf(" · %s failed", kit.Count(a.Failed))
		}
	} else if j.Plan != nil {
		t := &j.Plan.Totals
		text = fmt.Sprintf("plan %d · %s objects to send · %s", j.Plan.Number, kit.Count(t[plan.Add].Count+t[plan.Change].Count), kit.Size(t[plan.Add].Bytes+t[plan.Change].Bytes))
		if n := t[plan.Remove].Count; n > 0 {
			text += fmt.Sprintf(" · %s to remove", kit.Count(n))
		}
	}
	if text != "" {
		text += " · "
	}
	switch p := j.Proof; {
	case p == nil:
		text += "never proven"
	case p.Holds():
		text += "proven " + kit.Ago(p.Ended, s.State.At)
	default:
		text += "proof does not hold"
	}
	return text
}
