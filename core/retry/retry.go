// Package retry decides when a failed request is worth another try and how
// long to wait before it. It knows errors by their cause (see place.Error) and
// nothing of what is being tried.
package retry

import (
	"context"
	"errors"
	"math/rand/v2"
	"time"

	"lumtra/core/place"
)

// Policy says how often and how patiently.
type Policy struct {
	// Tries is the number of attempts in all.
	Tries int
	// First is the longest wait after the first failure; it doubles with each
	// further one up to Most.
	First, Most time.Duration
}

// Usual suits requests to a store.
var Usual = Policy{Tries: 6, First: 200 * time.Millisecond, Most: 10 * time.Second}

// Do calls f until it succeeds, fails for good, or the tries are used up, and
// returns its last error. f is told the number of the attempt, from 1.
func (p Policy) Do(ctx context.Context, f func(attempt int) error) error {
	for attempt := 1; ; attempt++ {
		err := f(attempt)
		if err == nil || attempt >= p.Tries || !Worth(err) {
			return err
		}
		if !p.Wait(ctx, attempt, err) {
			return err
		}
	}
}

// Worth tells whether trying again may help.
func Worth(err error) bool {
	var e *place.Error
	return errors.As(err, &e) && e.CanRetry()
}

// Wait waits as long as is due after the given attempt failed with err: as
// long as the far side asked, else a random time that grows with the attempts,
// so that many streams do not come back all at once. It returns false when ctx
// ends first.
func (p Policy) Wait(ctx context.Context, attempt int, err error) bool {
	most := min(p.First<<(attempt-1), p.Most)
	wait := most/2 + rand.N(most/2+1)
	var e *place.Error
	if errors.As(err, &e) && e.After > 0 {
		wait = e.After + rand.N(p.First)
	}
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-timer.C:
		return true
	case <-ctx.Done():
		return false
	}
}
