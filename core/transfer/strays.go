package transfer

import (
	"context"
	"errors"
	"time"

	"lumtra/core/ledger"
	"lumtra/core/place"
	"lumtra/core/plan"
)

// openUpload opens an upload. One whose answer was lost, or that a killed run did not
// live to see, may have been opened all the same, and nobody knows its ID: so the
// ledger has the intention first, and the upload is looked for at the end of the
// run or of the next.
func (t *transfer) openUpload(open func() error) error {
	return t.try(func(int) error {
		if err := t.run.ledger.Intend(t.number); err != nil {
			t.run.cancel(err)
			return err
		}
		err := open()
		if err != nil {
			t.strayed()
		}
		return err
	})
}

// strayed has the uploads of the effect looked for at the end of the run.
func (t *transfer) strayed() {
	if since, ok := t.run.ledger.Stray(t.number); ok && t.side.writer != nil {
		t.run.strays.Store(t.number, strayKey{t.side.writer, t.effect.Key, since})
	}
}

// strayKey is where an upload may have been opened, and since when.
type strayKey struct {
	writer place.PartWriter
	key    string
	since  time.Time
}

// abort drops an upload, and is patient about it: what is left costs money.
func (t *transfer) abort(w place.PartWriter, up place.Upload) error {
	return t.ask(func() error { return w.Abort(t.run.ctx, up) })
}

// dropStrays drops the uploads that were opened without anybody learning of it:
// those of keys whose opening had no answer, begun since, and not in the ledger.
func (r *run) dropStrays() {
	keys := map[place.PartWriter]map[string]time.Time{}
	effects := map[place.PartWriter][]int64{}
	r.strays.Range(func(effect, v any) bool {
		s := v.(strayKey)
		if keys[s.writer] == nil {
			keys[s.writer] = map[string]time.Time{}
		}
		keys[s.writer][s.key] = s.since
		effects[s.writer] = append(effects[s.writer], effect.(int64))
		return true
	})
	t := &transfer{run: r, side: r.sides[0], number: ledger.NoEffect}
	for w := range keys {
		err := dropUnknown(r.ctx, w, keys[w], r.ledger.Uploads(), t.ask)
		if err != nil {
			continue // the next run looks again; they are seen in the places view, too
		}
		for _, effect := range effects[w] {
			r.ledger.Found(effect)
		}
	}
}

// dropUnknown drops the uploads of some keys that were begun since a time and
// whose IDs are not known.
func dropUnknown(ctx context.Context, w place.PartWriter, keys map[string]time.Time, known map[string]bool,
	ask func(func() error) error) error {
	var errs []error
	for key, since := range keys {
		errs = append(errs, place.AbortStrays(ctx, w, place.Strays{Key: key, Since: since, Known: known}, ask))
	}
	return errors.Join(errs...)
}

// Abandon drops the uploads that the runs of a plan have left, since nobody will
// go on with it.
func Abandon(ctx context.Context, p *plan.Plan, source, target place.Place, l ledger.Ledger) error {
	if !l.Unfinished() {
		return nil
	}
	once := func(f func() error) error { return f() }
	keys := map[place.PartWriter]map[string]time.Time{}
	strays := map[place.PartWriter][]int64{}
	var errs []error
	c := p.Effects("")
	for n := int64(0); c.Next() && ctx.Err() == nil; n++ {
		to := target
		if c.Effect().Back {
			to = source
		}
		w := place.Offers(to).Parts
		if w == nil {
			continue
		}
		if up := l.Upload(n); up != nil {
			err := w.Abort(ctx, place.Upload{Key: c.Effect().Key, ID: up.ID})
			if err == nil {
				err = l.Abort(n)
			}
			errs = append(errs, err)
		}
		if since, ok := l.Stray(n); ok {
			if keys[w] == nil {
				keys[w] = map[string]time.Time{}
			}
			keys[w][c.Effect().Key] = since
			strays[w] = append(strays[w], n)
		}
	}
	for w := range keys {
		err := dropUnknown(ctx, w, keys[w], l.Uploads(), once)
		if errs = append(errs, err); err == nil {
			for _, n := range strays[w] {
				errs = append(errs, l.Found(n))
			}
		}
	}
	return errors.Join(append(errs, c.Err())...)
}
