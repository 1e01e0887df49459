package handle

import (
	"context"
	"errors"
	"sync"
	"time"

	"lumtra/core/object"
	"lumtra/core/place"
)

// ColdStates counts objects of cold classes by how they stand.
type ColdStates struct {
	// Archived have to be asked for, Restoring were asked for, Readable can be read.
	Archived, Restoring, Readable Count
	// Until is when the first of those that can be read goes again, zero when none does.
	Until time.Time
}

// LookAtCold asks for the state of every object among the picks that may be cold, one request
// each.
func LookAtCold(ctx context.Context, p place.Place, picks []Pick) (ColdStates, error) {
	var mu sync.Mutex
	var states ColdStates
	var a Action
	err := a.parallel(ctx, p, picks, func(ctx context.Context, e *object.Entry) error {
		if !object.MayBeCold(e.Class) {
			return nil
		}
		now, err := p.Stat(ctx, object.Ref{Key: e.Key})
		if err != nil {
			return err
		}
		now.Latest = true
		mu.Lock()
		defer mu.Unlock()
		switch now.Archive {
		case object.Archived:
			states.Archived.add(&now)
		case object.Restoring:
			states.Restoring.add(&now)
		default:
			states.Readable.add(&now)
			if until := now.RestoredUntil; !until.IsZero() && (states.Until.IsZero() || until.Before(states.Until)) {
				states.Until = until
			}
		}
		return nil
	})
	return states, errors.Join(append([]error{err}, a.Result().Problems...)...)
}
