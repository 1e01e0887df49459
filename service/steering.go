package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/pace"
	"lumtra/core/plan"
	"lumtra/core/transfer"
)

// Priority is how much of a shared limit a run gets beside others.
type Priority string

// The priorities. A higher one gets four times as much as the next lower while
// both want it.
const (
	Low   Priority = "low"
	Usual Priority = "usual"
	High  Priority = "high"
)

// Priorities are all, from low to high.
var Priorities = []Priority{Low, Usual, High}

func (p Priority) weight() int { return map[Priority]int{Low: 1, Usual: 4, High: 16}[p] }

// Steer is a change to a run under way. What is nil or "" stays.
type Steer struct {
	Pause *bool `json:"pause,omitempty"`
	// Streams is how many requests may be under way; 0 leaves it to the run.
	Streams *int `json:"streams,omitempty"`
	// Bandwidth is a rate such as "80 MB/s", "free", or "hours" for what the job
	// says.
	Bandwidth string   `json:"bandwidth,omitempty"`
	Priority  Priority `json:"priority,omitempty"`
	// Again is a cause whose failures are tried again when the rest is done.
	Again string `json:"again,omitempty"`
	// End is "finish" to end when the parts under way have arrived, "now" to drop
	// them.
	End string `json:"end,omitempty"`
}

// RunState is a run at a moment.
type RunState struct {
	transfer.Snapshot
	Plan int
	// Before and BeforeBytes are what earlier runs of the plan had finished,
	// Planned what all of it is, Afterwards the sources to be seen to.
	Before, BeforeBytes int64
	Planned, Afterwards plan.Total
	Started             time.Time
	Priority            Priority
	// Limit is the bandwidth in force for this run and whatever shares it, until
	// the given time if that is not zero; Limiter says whose it is: "job",
	// "by hand", or an endpoint's name.
	Limit   pace.Limit
	Until   time.Time
	Limiter string
	// Far tells that the background service carries it out.
	Far bool
	// Notes are what was found on the way, in words.
	Notes []string
}

// ActiveRun is a run under way.
type ActiveRun struct {
	Job  string
	done chan struct{}

	at    map[string]bool // the endpoints
	notes []string        // under mu: what was found on the way
	// Of a run in this process.
	plan                plan.Info
	began               time.Time
	meter               *transfer.Meter
	control             *transfer.Control
	limiter             *pace.Limiter
	hours               *pace.Hours
	shared              []*sharing // the limits of its endpoints
	before, beforeBytes int64
	planned             plan.Total
	stop                context.CancelFunc
	kick                chan struct{}

	mu       sync.Mutex
	byHand   *float64
	despite  []string // checks that a person let it begin in spite of
	priority Priority
	limit    pace.Limit
	until    time.Time
	limits   string

	// Of a run that the background service carries out.
	link  *link
	state *RunState // the newest known

	result history.Run
	err    error
}

// sharing is a run's part in the limit of an endpoint.
type sharing struct {
	end   *endpointLimit
	share *pace.Share
}

// note keeps something that was found on the way, once.
func (r *ActiveRun) note(text string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !slices.Contains(r.notes, text) && len(r.notes) < 100 {
		r.notes = append(r.notes, text)
	}
}

// Notes are what was found on the way: endpoints that were tested first, and stores
// that did otherwise than was known.
func (r *ActiveRun) Notes() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.notes)
}

// Stop ends the run at once; what has arrived whole stays.
func (r *ActiveRun) Stop() {
	if r.link != nil {
		r.steerFar(Steer{End: "now"}) // if it does not answer, there is nothing to stop
		return
	}
	r.stop()
}

// Far tells that the background service carries the run out.
func (r *ActiveRun) Far() bool { return r.link != nil }

// Done is closed when the run has ended.
func (r *ActiveRun) Done() <-chan struct{} { return r.done }

// Wait waits for the end and returns how it went. The error is what made going
// on senseless; failed objects are in the Run.
func (r *ActiveRun) Wait() (history.Run, error) {
	<-r.done
	return r.result, r.err
}

// State is the run as it is now.
func (r *ActiveRun) State() RunState {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.link != nil {
		state := *r.state
		state.Far = true
		return state
	}
	return RunState{Snapshot: r.meter.Snapshot(), Plan: r.plan.Number, Before: r.before, BeforeBytes: r.beforeBytes, Planned: r.planned, Afterwards: r.plan.Afterwards,
		Started: r.began, Priority: r.priority, Limit: r.limit, Until: r.until, Limiter: r.limits, Notes: slices.Clone(r.notes)}
}

// Steer changes how the run goes on.
func (r *ActiveRun) Steer(x Steer) error {
	if r.link != nil {
		return r.steerFar(x)
	}
	var rate *float64
	switch x.Bandwidth {
	case "", "hours":
	default:
		n, err := pace.ParseRate(x.Bandwidth)
		if err != nil {
			return badInput(err)
		}
		rate = &n
	}
	switch {
	case x.Priority != "" && !slices.Contains(Priorities, x.Priority):
		return badInput(fmt.Errorf("no priority: %q; there are %v", x.Priority, Priorities))
	case x.End != "" && x.End != "finish" && x.End != "now":
		return badInput(fmt.Errorf("no way to end: %q; it is \"finish\" or \"now\"", x.End))
	case x.Streams != nil && (*x.Streams < 0 || *x.Streams > transfer.MaxStreams):
		return badInput(fmt.Errorf("no number of streams: %d; it is between 1 and %d, or 0 to leave it to the run", *x.Streams, transfer.MaxStreams))
	}
	if x.Streams != nil {
		r.control.SetStreams(*x.Streams)
	}
	if x.Pause != nil && *x.Pause {
		r.control.Pause()
	} else if x.Pause != nil {
		r.control.Resume()
	}
	if x.Again != "" {
		r.control.TryAgain(x.Again)
	}
	r.mu.Lock()
	if x.Bandwidth != "" {
		r.byHand = rate
	}
	if x.Priority != "" {
		r.priority = x.Priority
		for _, s := range r.shared {
			s.share.SetWeight(x.Priority.weight())
		}
	}
	r.mu.Unlock()
	r.nudge()
	switch x.End {
	case "finish":
		r.control.Finish()
	case "now":
		r.stop()
	}
	return nil
}

// nudge has the limits looked at again.
func (r *ActiveRun) nudge() {
	select {
	case r.kick <- struct{}{}:
	default:
	}
}

// keepTime holds the run to the limits of the moment, its job's and its
// endpoints', and changes them at the minute they change. It returns when ctx
// ends.
func (r *ActiveRun) keepTime(ctx context.Context) {
	for {
		next := r.apply(time.Now())
		// Clocks are set and machines sleep: a minute at the most.
		timer := time.NewTimer(max(min(time.Until(next), time.Minute), time.Millisecond))
		select {
		case <-ctx.Done():
			timer.Stop()
			return
		case <-r.kick:
			timer.Stop()
		case <-timer.C:
		}
	}
}

// apply puts the limits of a moment in force and tells when they change.
func (r *ActiveRun) apply(now time.Time) time.Time {
	r.mu.Lock()
	defer r.mu.Unlock()
	own, next := r.hours.At(now), r.hours.Until(now)
	quiet := own.Quiet
	name := "job"
	if r.byHand != nil {
		own, next, quiet, name = pace.Limit{Rate: *r.byHand}, time.Time{}, false, "by hand"
	}
	r.limiter.SetRate(own.Rate)
	r.limit, r.until, r.limits = own, next, name
	for _, s := range r.shared {
		l, until := s.end.apply(now)
		quiet = quiet || l.Quiet
		if l.Quiet && !r.limit.Quiet || l.Rate > 0 && !r.limit.Quiet && (r.limit.Rate == 0 || l.Rate < r.limit.Rate) {
			r.limit, r.until, r.limits = l, until, s.end.name
		}
		if next.IsZero() || !until.IsZero() && until.Before(next) {
			next = until
		}
	}
	if r.limit == (pace.Limit{}) {
		r.limits = ""
	}
	r.control.SetQuiet(quiet)
	if next.IsZero() {
		next = now.Add(time.Hour)
	}
	return next
}

// endpointLimit is what all runs at an endpoint share.
type endpointLimit struct {
	name    string
	hours   *pace.Hours
	limiter *pace.Limiter
	streams int // 0 for no limit

	mu   sync.Mutex
	runs []*ActiveRun
}

func (e *endpointLimit) apply(now time.Time) (pace.Limit, time.Time) {
	e.mu.Lock()
	hours := e.hours
	e.mu.Unlock()
	l := hours.At(now)
	e.limiter.SetRate(l.Rate)
	return l, hours.Until(now)
}

// join makes a run share the limits of its endpoints until leave is called.
func (s *Service) join(r *ActiveRun, j *job.Job) (leave func()) {
	seen := map[string]bool{}
	for _, at := range []string{j.Source, j.Target} {
		name, _ := job.SplitPlace(at)
		cfg := s.Workspace().Endpoints[name]
		if cfg == nil || seen[name] || len(cfg.Bandwidth) == 0 && cfg.Streams == 0 {
			continue
		}
		seen[name] = true
		s.mu.Lock()
		e := s.limits[name]
		if e == nil {
			e = &endpointLimit{name: name, limiter: pace.NewLimiter(0)}
			s.limits[name] = e
		}
		s.mu.Unlock()
		e.mu.Lock()
		e.hours, e.streams = cfg.Hours, cfg.Streams
		e.runs = append(e.runs, r)
		e.mu.Unlock()
		r.shared = append(r.shared, &sharing{e, e.limiter.Join(r.priority.weight())})
		e.divide()
	}
	return func() {
		for _, x := range r.shared {
			x.end.mu.Lock()
			x.end.runs = slices.DeleteFunc(x.end.runs, func(o *ActiveRun) bool { return o == r })
			x.end.mu.Unlock()
			x.end.divide()
		}
	}
}

// divide shares the endpoint's streams among its runs.
func (e *endpointLimit) divide() {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, r := range e.runs {
		if e.streams > 0 {
			r.control.SetCeiling(e.name, max(1, e.streams/len(e.runs)))
		}
	}
}

// pacers are all that hold the run's content back.
func (r *ActiveRun) pacers() []transfer.Pacer {
	all := []transfer.Pacer{r.limiter.Join(1)}
	for _, s := range r.shared {
		all = append(all, s.share)
	}
	return all
}

// Active is the job's run under way, here or in the background service that
// Follow looks at; nil if there is none.
func (s *Service) Active(name string) *ActiveRun {
	s.mu.Lock()
	r := s.runs[name]
	s.mu.Unlock()
	if r != nil {
		return r
	}
	s.link.mu.Lock()
	defer s.link.mu.Unlock()
	return s.link.runs[name]
}

// FailedObject is one that no run of a plan has brought to its end.
type FailedObject struct {
	Key  string
	Size int64
	transfer.Failure
}

// Failures lists what failed in the runs of a plan and was not done since, of
// one cause or with "" of any, with every attempt that is still known; at most
// as many as limit.
func (s *Service) Failures(ctx context.Context, name string, number int, cause string, limit int) ([]FailedObject, error) {
	p, err := s.PlanNumber(name, number)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	found, err := transfer.Failures(ledgerPath(p), cause, limit)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	at := make(map[int64]int, len(found))
	all := make([]FailedObject, len(found))
	for i, f := range found {
		at[f.Effect], all[i].Failure = i, f
	}
	c := p.Effects("")
	for n := int64(0); c.Next() && len(at) > 0 && ctx.Err() == nil; n++ {
		if i, ok := at[n]; ok {
			all[i].Key, all[i].Size = c.Effect().Key, c.Effect().Bytes()
			delete(at, n)
		}
	}
	return all, errors.Join(c.Err(), ctx.Err())
}

// Steer changes the job's run under way.
func (s *Service) Steer(name string, x Steer) error {
	r := s.Active(name)
	if r == nil {
		return badInput(errors.New("the job is not running"))
	}
	return r.Steer(x)
}
