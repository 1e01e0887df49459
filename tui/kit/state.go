package kit

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/core/starts"
	"lumtra/service"
	"lumtra/service/agenda"
	"lumtra/service/runs"
	"lumtra/service/workroom"
)

// State is what is going on, as of one moment: a snapshot that views draw from
// and never change.
type State struct {
	changes int64 // of the collector, when it was taken
	At      time.Time
	Jobs    []JobState
	Needs   []Need
	// Agenda is what was and what comes by itself; nil before it was looked at.
	Agenda *agenda.Outlook
	// Pulse is the total rate over the last minutes in bytes a second, oldest
	// first, one value per PulseStep.
	Pulse []float64
	Err   error
}

// PulseStep is the time one value of the pulse covers.
const PulseStep = time.Second

// JobState is one job with what was planned, run and proven last.
type JobState struct {
	Job    *job.Job
	Plan   *plan.Info // nil: none yet
	Runs   []history.Run
	Active *Active
	Proof  *workroom.Proof
	// Approved tells that a person let the newest plan go.
	Approved bool
	// Done tells that the newest plan has been carried out in full.
	Done bool
}

// Active is a run under way.
type Active struct{ runs.State }

// Last is the newest run, nil if there is none.
func (j *JobState) Last() *history.Run {
	if len(j.Runs) == 0 {
		return nil
	}
	return &j.Runs[0]
}

// Need is something that waits for a person.
type Need struct {
	Job  string
	What string
	View View // where it is mended
	Key  string
}

// Collector takes snapshots. What changes slowly (plans, history, proofs) is
// read again only now and then, or when a run begins or ends.
type Collector struct {
	Service *service.Service
	Now     func() time.Time
	mu      sync.Mutex
	jobs    []JobState
	read    time.Time
	changes atomic.Int64 // see Changed
	seen    int64        // of those, when a state was taken last
	agenda  *agenda.Outlook
	looked  time.Time
	rules   string // of all jobs, when the agenda was looked at
}

// Changed tells that something is otherwise now than a state says that is being taken: it
// is called before whoever changed it hears that it is done.
func (c *Collector) Changed() { c.changes.Add(1) }

// Outdated tells that something has changed since the taking of a state began.
func (c *Collector) Outdated(st *State) bool { return st.changes != c.changes.Load() }

const (
	rereadEvery = 2 * time.Second
	lookBack    = 31 * 24 * time.Hour
)

// Collect takes a snapshot. It reads files and the history, so it is not for
// Update: use it in a command. With anew it reads everything.
func (c *Collector) Collect(ctx context.Context, anew bool) State {
	c.mu.Lock()
	defer c.mu.Unlock()
	st := State{At: c.Now(), changes: c.changes.Load()}
	anew = anew || st.changes != c.seen
	c.seen = st.changes
	s := c.Service
	for _, j := range c.jobs {
		if (s.Active(j.Job.Name) != nil) != (j.Active != nil) {
			anew = true
		}
	}
	jobs := append(append([]*job.Job(nil), s.Workspace().Jobs...), lastDrops(s)...)
	anew = anew || st.At.Sub(c.read) > rereadEvery ||
		!slices.EqualFunc(jobs, c.jobs, func(j *job.Job, js JobState) bool { return j.Name == js.Job.Name })
	for i, j := range jobs {
		var js JobState
		if anew {
			var err error
			if js, err = collectJob(ctx, s, j, st.At.Add(-lookBack)); err != nil && st.Err == nil {
				st.Err = err
			}
		} else {
			js = c.jobs[i]
			js.Active = active(s, j.Name)
		}
		st.Jobs = append(st.Jobs, js)
		st.Needs = append(st.Needs, needs(&js)...)
	}
	for _, m := range s.Workspace().Mistakes {
		st.Needs = append(st.Needs, Need{What: m.Error(), View: Jobs, Key: "3", Job: jobOf(m)})
	}
	for name, until := range s.Expiring(st.At) {
		what := "expires " + until.Local().Format("2006-01-02 15:04")
		if until.Before(st.At) {
			what = "ran out " + until.Local().Format("2006-01-02 15:04")
		}
		st.Needs = append(st.Needs, Need{What: "the credential of " + name + " " + what, View: Places, Key: "2"})
	}
	c.look(ctx, &st, anew)
	// A copy, since views change theirs at once when a person has chosen something.
	if c.jobs = slices.Clone(st.Jobs); anew {
		c.read = st.At
	}
	return st
}

// lookEvery is how often coming starts are worked out anew where nothing changed.
const lookEvery = 15 * time.Second

// look takes the agenda as it is, and what in it needs a person. Coming starts are worked out again
// now and then, and when jobs are others.
func (c *Collector) look(ctx context.Context, st *State, anew bool) {
	w := c.Service.Workspace()
	var rules strings.Builder
	for _, j := range w.Jobs {
		fmt.Fprintf(&rules, "%s %v\n", j.Name, j.When)
	}
	since := st.At.Add(-lookBack)
	switch {
	case c.agenda == nil || rules.String() != c.rules || st.At.Sub(c.looked) > lookEvery:
		o, err := c.Service.Agenda(ctx, since, st.At.Add(LookAhead))
		if err != nil {
			if st.Err == nil {
				st.Err = err
			}
			return
		}
		c.agenda, c.looked, c.rules = o, st.At, rules.String()
	case anew:
		kept, err := c.Service.Starts(ctx, since)
		if err != nil {
			return
		}
		o := *c.agenda
		o.Kept = kept
		c.agenda = &o
	}
	st.Agenda = c.agenda
	for _, j := range w.Jobs {
		r := c.agenda.Last(j.Name)
		if r == nil || r.State != starts.Failed && r.State != starts.Missed && r.State != starts.Skipped {
			continue
		}
		if r.State == starts.Skipped && r.Until.IsZero() {
			continue // as the job says
		}
		if js := st.JobNamed(j.Name); js == nil || js.Last() != nil && js.Last().Began.After(r.Slot) {
			continue // it has run since
		}
		need := Need{Job: j.Name, View: Now, What: fmt.Sprintf("its start of %s %s", r.Slot.Local().Format("Mon 15:04"),
			r.Words())}
		if r.State == starts.Failed && r.Plan != 0 {
			continue // its run or proof tells
		}
		st.Needs = append(st.Needs, need)
	}
}

// LookAhead is how far coming starts are looked for.
const LookAhead = 45 * 24 * time.Hour

// jobOf is the job a mistake is in; "" for other files.
func jobOf(err error) string {
	if m, ok := err.(*job.Mistake); ok && filepath.Base(filepath.Dir(m.File)) == "jobs" {
		return strings.TrimSuffix(filepath.Base(m.File), ".toml")
	}
	return ""
}

// lastDrops are the newest of the jobs that dropped trays made: enough to go
// on with, and not in the way.
func lastDrops(s *service.Service) []*job.Job {
	drops := s.Drops()
	return drops[:min(len(drops), 4)]
}

func active(s *service.Service, name string) *Active {
	r := s.Active(name)
	if r == nil {
		return nil
	}
	return &Active{r.State()}
}

func collectJob(ctx context.Context, s *service.Service, j *job.Job, since time.Time) (JobState, error) {
	js := JobState{Job: j}
	// The run first: if it ends meanwhile, the history already has it.
	js.Active = active(s, j.Name)
	var err error
	if js.Runs, err = s.Runs(ctx, j.Name, since, 500); err != nil {
		return js, err
	}
	p, err := s.LatestPlan(j.Name)
	if err != nil {
		return js, err
	}
	if p != nil {
		info := p.Info
		js.Plan, js.Approved = &info, p.Approved()
		p.Close()
	}
	if last := js.Last(); last != nil && js.Plan != nil {
		js.Done = last.Plan == js.Plan.Number && (last.End == history.Clean || last.End == history.Failures)
	}
	js.Proof, err = s.LatestProof(j.Name)
	return js, err
}

// needs finds what a job wants of a person.
func needs(j *JobState) []Need {
	var found []Need
	add := func(v View, key, format string, args ...any) {
		found = append(found, Need{Job: j.Job.Name, View: v, Key: key, What: fmt.Sprintf(format, args...)})
	}
	if p := j.Plan; p != nil && len(p.Held) > 0 && !j.Approved && !j.Done {
		add(Plan, "4", "plan %d is held back: %s", p.Number, p.Held[0])
	}
	if p := j.Plan; p != nil && p.Totals[plan.Conflict].Count > 0 {
		add(Plan, "4", "plan %d has %s to decide", p.Number, object.Count(p.Totals[plan.Conflict].Count, "conflict"))
	}
	if last := j.Last(); last != nil && j.Active == nil {
		switch last.End {
		case history.Failures:
			if last.Failed > 0 {
				add(Run, "5", "%s failed in the last run", object.Count(last.Failed, "object"))
			} else if last.Gaps > 0 {
				add(Run, "5", "parts of the places could not be listed")
			}
		case history.Broken:
			add(Run, "5", "the last run broke off: %s", last.Note)
		case history.Stopped, history.Interrupted:
			add(Plan, "4", "the run of plan %d was %s; it can go on", last.Plan, last.End)
		}
	}
	if p := j.Proof; p != nil && !p.Holds() {
		add(Proof, "6", "the last proof does not hold")
	}
	if p := j.Plan; p != nil && !j.Done && !p.NothingToDo() && len(p.Held) == 0 && j.Active == nil &&
		(j.Last() == nil || j.Last().Plan != p.Number) {
		add(Plan, "4", "plan %d waits to be approved", p.Number)
	}
	return found
}

// JobNamed is the state of the job with the name; nil if there is none.
func (st *State) JobNamed(name string) *JobState {
	for i := range st.Jobs {
		if st.Jobs[i].Job.Name == name {
			return &st.Jobs[i]
		}
	}
	return nil
}
