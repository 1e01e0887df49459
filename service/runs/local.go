package runs

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"lumtra/core/history"
	"lumtra/core/pace"
	"lumtra/core/plan"
	"lumtra/core/transfer"
	"lumtra/service/workspace"
)

// local is a run in this process.
type local struct {
	job  string
	done chan struct{}
	now  func() time.Time

	plan                plan.Info
	at                  map[string]bool // the endpoints
	began               time.Time
	meter               *transfer.Meter
	control             *transfer.Control
	limiter             *pace.Limiter
	hours               *pace.Hours
	shared              []*sharing // the limits of its endpoints
	before, beforeBytes int64
	planned             plan.Total
	despite             []string // checks that a person let it begin in spite of
	stop                context.CancelFunc
	kick                chan struct{}

	mu       sync.Mutex
	notes    []string // what was found on the way
	byHand   *float64
	priority Priority
	limit    pace.Limit
	until    time.Time
	limits   string

	result history.Run // whole when done is closed
	err    error
}

// note keeps something that was found on the way, once.
func (r *local) note(text string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !slices.Contains(r.notes, text) && len(r.notes) < 100 {
		r.notes = append(r.notes, text)
	}
}

// Notes are what was found on the way: endpoints that were tested first, and stores
// that did otherwise than was known.
func (r *local) Notes() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.notes)
}

// Job is the name of the job.
func (r *local) Job() string { return r.job }

// Stop ends the run at once; what has arrived whole stays.
func (r *local) Stop() { r.stop() }

// Done is closed when the run has ended.
func (r *local) Done() <-chan struct{} { return r.done }

// Wait waits for the end and returns how it went. The error is what made going
// on senseless; failed objects are in the Run.
func (r *local) Wait() (history.Run, error) {
	<-r.done
	return r.result, r.err
}

// State is the run as it is now.
func (r *local) State() State {
	r.mu.Lock()
	defer r.mu.Unlock()
	return State{Snapshot: r.meter.Snapshot(), Plan: r.plan.Number, Before: r.before, BeforeBytes: r.beforeBytes,
		Planned: r.planned, Afterwards: r.plan.Afterwards,
		Started: r.began, Priority: r.priority, Limit: r.limit, Until: r.until, Limiter: r.limits,
		Notes: slices.Clone(r.notes)}
}

// Steer changes how the run goes on.
func (r *local) Steer(x Steer) error {
	var rate *float64
	switch x.Bandwidth {
	case "", "hours":
	default:
		n, err := pace.ParseRate(x.Bandwidth)
		if err != nil {
			return workspace.BadInput(err)
		}
		rate = &n
	}
	switch {
	case x.Priority != "" && !slices.Contains(Priorities, x.Priority):
		return workspace.BadInput(fmt.Errorf("no priority: %q; there are %v", x.Priority, Priorities))
	case x.End != "" && x.End != "finish" && x.End != "now":
		return workspace.BadInput(fmt.Errorf("no way to end: %q; it is \"finish\" or \"now\"", x.End))
	case x.Streams != nil && (*x.Streams < 0 || *x.Streams > transfer.MaxStreams):
		return workspace.BadInput(fmt.Errorf("no number of streams: %d; it is between 1 and %d, or 0 to leave it to "+
			"the run", *x.Streams, transfer.MaxStreams))
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
func (r *local) nudge() {
	select {
	case r.kick <- struct{}{}:
	default:
	}
}

// keepTime holds the run to the limits of the moment, its job's and its
// endpoints', and changes them at the minute they change. It returns when ctx
// ends.
func (r *local) keepTime(ctx context.Context) {
	for {
		next := r.apply(r.now())
		// Clocks are set and machines sleep: a minute at the most.
		timer := time.NewTimer(max(min(next.Sub(r.now()), time.Minute), time.Millisecond))
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
func (r *local) apply(now time.Time) time.Time {
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

// pacers are all that hold the run's content back.
func (r *local) pacers() []transfer.Pacer {
	all := []transfer.Pacer{r.limiter.Join(1)}
	for _, s := range r.shared {
		all = append(all, s.share)
	}
	return all
}

// steered is all that a person changed about the run.
func (r *local) steered() Steer {
	r.mu.Lock()
	defer r.mu.Unlock()
	state := r.control.Steering()
	x := Steer{Priority: r.priority, Pause: &state.Paused}
	if !state.Automatic {
		x.Streams = &state.Streams
	}
	if r.byHand != nil {
		x.Bandwidth = pace.Limit{Rate: *r.byHand}.String()
	}
	return x
}
