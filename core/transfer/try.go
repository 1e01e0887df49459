package transfer

import (
	"errors"
	"fmt"
	"sync"
	"time"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/retry"
)

// DefaultPatience is how long a run waits for a store that answers nothing any
// more.
const DefaultPatience = 10 * time.Minute

// try does one step of a transfer as often as it takes. Each attempt that fails
// is noted, so that a person can see for every object what happened and why.
//
// While nothing comes through for anybody, the tries are not counted: what
// fails is the store and not the object, and the run waits for it, as long as
// its patience lasts.
func (t *transfer) try(step func(attempt int) error) error {
	return t.patiently(step, t.noted, t.passed)
}

// fetch is try for a step that only the source has a part in: that it succeeds
// says nothing of the target.
func (t *transfer) fetch(step func() error) error {
	return t.patiently(func(int) error { return step() }, t.noted, func() {})
}

// ask is try for a question about something that went wrong and is noted
// already.
func (t *transfer) ask(step func() error) error {
	return t.patiently(func(int) error { return step() }, func(int, error) {}, t.passed)
}

// mostWays is more than the ways there are to ask for anything.
const mostWays = 16

// remember keeps what a failed write has left at the target: it is what the next
// try may overwrite.
func (t *transfer) remember(err error) {
	if left := leftBy(err); left != "" {
		t.left = left
	}
}

// leftBy is the mark of what a failed write has left; "" for nothing.
func leftBy(err error) string {
	var e *place.Error
	if errors.As(err, &e) {
		return e.Left
	}
	return ""
}

func (t *transfer) patiently(step func(attempt int) error, note func(attempt int, err error), passed func()) error {
	var seen, counted int64
	done := func() {}
	for attempt, others := 1, 0; ; attempt++ {
		err := step(attempt)
		if done(); err == nil {
			passed()
			return nil
		}
		t.remember(err)
		kind := place.KindOf(err)
		if kind == place.Otherwise && others < mostWays && t.run.ctx.Err() == nil {
			// Not the object, but the way it was asked: it goes again another way.
			others++
			attempt--
			done = func() {}
			continue
		}
		if t.run.ctx.Err() != nil || kind == place.Cancelled {
			return err
		}
		note(attempt, err)
		passing := t.run.outage.failed(kind)
		if !retry.Worth(err) && !passing {
			return err
		}
		now := t.run.outage.passes()
		if !passing || attempt == 1 || now != seen {
			counted++
		} else if attempt >= t.run.opts.Retry.Tries && t.answered() {
			counted++ // the store is there: it is the object
		}
		if seen = now; counted >= int64(t.run.opts.Retry.Tries) {
			return err
		}
		if since := t.run.outage.lasts(); passing && since > t.run.opts.Patience {
			t.run.cancel(fmt.Errorf("for %s no request came through: %w", since.Round(time.Second), err))
			return err
		}
		if done = t.wait(attempt, kind, err); done == nil {
			return err
		}
	}
}

// wait waits before another attempt, until it is due and the run's budget has
// room for it; what it returns is called after the attempt. It is nil when there
// is to be none.
func (t *transfer) wait(attempt int, kind place.ErrorKind, err error) (done func()) {
	began := time.Now()
	if t.run.opts.Retry.Wait(t.run.ctx, min(attempt, t.run.opts.Retry.Tries), err) {
		done = t.run.budget.take(t.run.ctx)
	}
	stage := Mending
	if kind == place.Throttled {
		t.run.meter.throttles.Add(1)
		stage = Throttled
	}
	t.run.meter.spent(stage, time.Since(began))
	if done != nil {
		t.run.meter.retries.Add(1)
	}
	return done
}

// passed notes that a request came through.
func (t *transfer) passed() {
	t.run.outage.passed()
	t.run.budget.earn()
}

// answered tells whether both places answer to a small question.
func (t *transfer) answered() bool {
	for _, p := range []place.Place{t.side.from, t.side.to} {
		if _, err := p.Stat(t.run.ctx, object.Ref{Key: t.effect.Key}); err != nil &&
			place.KindOf(err) != place.NotFound {
			return false
		}
	}
	return true
}

// noted writes an attempt that failed into the ledger.
func (t *transfer) noted(attempt int, err error) {
	if err := t.run.ledger.Try(t.number, attempt, object.Display(err.Error())); err != nil {
		t.run.cancel(fmt.Errorf("the ledger cannot be written: %w", err))
	}
}

// outage knows whether anything comes through to the target.
type outage struct {
	mu sync.Mutex
	// since is when the first request failed after the last that did not; zero
	// while all is well. came counts those that came through, lost the objects
	// that were given up before any did.
	since      time.Time
	came, lost int64
}

// passed notes that a request came through.
func (o *outage) passed() {
	o.mu.Lock()
	o.since = time.Time{}
	o.came++
	o.mu.Unlock()
}

func (o *outage) passes() int64 {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.came
}

func storeFault(k place.ErrorKind) bool {
	return k == place.Unreachable || k == place.Throttled || k == place.ServerFault || k == place.BadLogin
}

// failed notes a failure and tells whether it may be the store's and pass, as
// it may when all went well before. Credentials that expired are such: someone
// may be about to rotate them.
func (o *outage) failed(kind place.ErrorKind) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	if !storeFault(kind) {
		return false
	}
	if o.since.IsZero() {
		o.since = time.Now()
	}
	return o.came > 0
}

// lasts is for how long nothing has come through.
func (o *outage) lasts() time.Duration {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.since.IsZero() {
		return 0
	}
	return time.Since(o.since)
}

// lostBefore is how many objects may be given up for a fault of the store before
// anything came through.
const lostBefore = 20

// hopeless notes that an object was given up, and tells whether to give up the
// run: what never worked will not work for the rest of the plan either.
func (o *outage) hopeless(kind place.ErrorKind) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.came > 0 || !storeFault(kind) {
		return false
	}
	o.lost++
	return o.lost >= lostBefore
}
