// Package now is the first view: jobs as lanes over time, past and running,
// with the present as a fixed upright line, and below what needs a person.
package now

import (
	"context"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/history"
	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/tui/kit"
)

// Screen is the view.
type Screen struct {
	*kit.Shared
	cursor kit.Cursor
	page   int // lanes that fit
	zoom   int
	zoomed bool          // a person or the first state has chosen the span
	pan    time.Duration // how far back from the present the line stands; ahead of it if negative
	moving *moving       // nil while nothing is being moved
	// week shows how busy endpoints are by the hours of the week; endpoint is which of them.
	week     bool
	endpoint int
}

// View is what the view tells of itself.
var View = kit.ViewKind{View: kit.Now, Does: "jobs over time, and what needs you",
	Presses: kit.Presses(actions),
	New:     func(_ context.Context, shared *kit.Shared) kit.Screen { return newScreen(shared) }}

// newScreen makes the view.
func newScreen(shared *kit.Shared) *Screen { return &Screen{Shared: shared, zoom: 1} }

// zooms are the spans the whole width can show.
var zooms = []time.Duration{6 * time.Minute, 30 * time.Minute, 2 * time.Hour, 12 * time.Hour, 48 * time.Hour,
	8 * 24 * time.Hour, 31 * 24 * time.Hour, 92 * 24 * time.Hour}

var spanNames = []string{"6 minutes", "30 minutes", "2 hours", "12 hours", "2 days", "8 days", "a month", "3 months"}

// Crumbs tells the span shown.
func (s *Screen) Crumbs() []string {
	if s.week {
		return []string{"the hours of the week"}
	}
	return []string{spanNames[s.zoom] + " across"}
}

// Asks is so while a time is being moved.
func (s *Screen) Asks() bool { return s.moving != nil }

// actions are all there are, most useful first.
var actions = []kit.Action[*Screen]{
	{Press: "enter", Does: "open: go to the plan, or to where a need is mended", Off: empty, Do: (*Screen).enter},
	{Press: "p", Does: "plan anew: survey both sides of this job", Off: needJob, Do: (*Screen).enter},
	{Press: "+", Also: []string{"="}, Does: "zoom in: a shorter span of time", Do: func(s *Screen, _ string) tea.Cmd {
		s.zoom = max(s.zoom-1, 0)
		return nil
	}},
	{Press: "-", Does: "zoom out: a longer span of time", Do: func(s *Screen, _ string) tea.Cmd {
		s.zoom = min(s.zoom+1, len(zooms)-1)
		return nil
	}},
	{Press: "left", Also: []string{"h"}, Does: "back in time", Do: func(s *Screen, _ string) tea.Cmd {
		s.pan += zooms[s.zoom] / 8
		return nil
	}},
	{Press: "right", Also: []string{"l"}, Does: "forward in time", Do: func(s *Screen, _ string) tea.Cmd {
		s.pan = max(s.pan-zooms[s.zoom]/8, -lookAhead)
		return nil
	}},
	{Press: "m", Does: "move: this job's time, and see what it collides with", Off: needTimed,
		Do: func(s *Screen, _ string) tea.Cmd { return s.move() }},
	{Press: "w", Does: "week: how busy endpoints are by its hours", Do: func(s *Screen, _ string) tea.Cmd {
		s.week, s.endpoint = !s.week, 0
		return nil
	}},
	{Press: "tab", Does: "next endpoint", When: func(s *Screen) bool { return s.week }, Do: func(s *Screen,
		_ string) tea.Cmd {
		if o := s.outlook(); o != nil {
			s.endpoint = (s.endpoint + 1) % max(len(s.endpoints(o)), 1)
		}
		return nil
	}},
	{Press: "n", Does: "to the present", Do: func(s *Screen, _ string) tea.Cmd {
		s.pan = 0
		return nil
	}},
}

func empty(s *Screen) string {
	if len(s.State.Jobs)+len(s.State.Needs) == 0 {
		return "there is no job yet"
	}
	return ""
}

func needJob(s *Screen) string {
	if s.cursor.At >= len(s.State.Jobs) {
		return "choose a job first"
	}
	return ""
}

// lookAhead is how far ahead one can go.
const lookAhead = 92 * 24 * time.Hour

// Keys of the view.
func (s *Screen) Keys() []kit.Key {
	if s.moving != nil {
		return moveKeys
	}
	return kit.KeysOf(s, actions)
}

// Update takes keys; everything else comes with the shared state.
func (s *Screen) Update(msg tea.Msg) tea.Cmd {
	switch msg.(type) {
	case kit.StateMsg:
		if !s.zoomed && !s.State.At.IsZero() {
			s.zoomed = true
			s.fitSpan()
		}
		s.follow()
	case kit.Opened:
		s.follow()
	}
	key, ok := msg.(tea.KeyPressMsg)
	if !ok {
		return nil
	}
	if s.moving != nil {
		return s.moveKey(key.String())
	}
	cmd, done := kit.Press(s, actions, key.String())
	lines := len(s.State.Jobs) + len(s.State.Needs)
	if !done && s.cursor.Key(key.String(), lines, max(s.page, 1)) {
		if job := s.under(); job != "" {
			s.Choose(job, false) // what the other views are about
		}
	}
	return cmd
}

// under is the job that the cursor is on, or whose need; "" for none.
func (s *Screen) under() string {
	at, jobs := s.cursor.At, s.State.Jobs
	switch {
	case at < len(jobs):
		return jobs[at].Job.Name
	case at-len(jobs) < len(s.State.Needs):
		return s.State.Needs[at-len(jobs)].Job
	}
	return ""
}

// follow keeps the cursor on the job that all views are about, however the list changes,
// unless it is on something of that job's already. The first job is the one that runs.
func (s *Screen) follow() {
	j := s.Current()
	if j == nil || s.under() == j.Job.Name && s.Job != "" {
		return
	}
	if s.Job == "" {
		s.Choose(j.Job.Name, false)
	}
	if s.cursor.At >= len(s.State.Jobs) && s.under() == "" && s.cursor.At < len(s.State.Jobs)+len(s.State.Needs) {
		return // on something that is no job's
	}
	for i := range s.State.Jobs {
		if s.State.Jobs[i].Job.Name == j.Job.Name {
			s.cursor.At = i
		}
	}
}

// Name is that of the job under the cursor.
func (s *Screen) Name() string { return s.under() }

// Command plans the job, or tells of its run.
func (s *Screen) Command() []string {
	job := s.under()
	j := s.State.JobNamed(job)
	switch {
	case job == "":
		return nil
	case j != nil && j.Active != nil && j.Active.Far:
		return []string{"steer", job}
	}
	return []string{"plan", job}
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
		text = "plan " + fmt.Sprint(r.Plan)
		if r.Plan == 0 { // of no plan: of the demo's made-up weeks
			text = r.Note
		}
		text += fmt.Sprintf(" · %s · %s in %s", object.Count(r.Objects, "object"), kit.Size(r.Bytes),
			kit.Span(took))
		if took > 0 && r.Bytes > 0 {
			text += " · " + kit.Rate(float64(r.Bytes)/took.Seconds(), s.Bits)
		}
		if r.Failed > 0 {
			text += fmt.Sprintf(" · %s failed", kit.Count(r.Failed))
		}
	} else if a := j.Active; a != nil {
		text = fmt.Sprintf("%s of %s · %s of %s", kit.Count(a.Before+a.Objects), object.Count(a.Planned.Count,
			"object"),
			kit.Size(a.Bytes), kit.Size(a.Planned.Bytes))
		if a.Failed > 0 {
			text += fmt.Sprintf(" · %s failed", kit.Count(a.Failed))
		}
	} else if j.Plan != nil {
		t := &j.Plan.Totals
		text = fmt.Sprintf("plan %d · %s to send · %s", j.Plan.Number,
			object.Count(t[plan.Add].Count+t[plan.Change].Count, "object"),
			kit.Size(t[plan.Add].Bytes+t[plan.Change].Bytes))
		if n := t[plan.Remove].Count; n > 0 {
			text += fmt.Sprintf(" · %s to delete", kit.Count(n))
		}
	}
	if text += s.nextWords(j); text != "" {
		text = strings.TrimPrefix(text, " · ") + " · "
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
