package transfer

import (
	"context"
	"errors"
	"slices"
	"sync"

	"lumtra/core/ledger"
	"lumtra/core/place"
	"lumtra/core/plan"
)

// openUpload opens an upload. One whose answer was lost, or that a killed run did not
// live to see, may have been opened all the same, and nobody knows its ID: so the
// ledger has the intention first, and the upload is looked for at the end of the
// run or of the next.
func (t *transfer) openUpload(open func() error) error {
	before := t.run.begun.before(t)
	return t.try(func(int) error {
		if err := t.run.ledger.Intend(t.number, before); err != nil {
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
	if s, ok := t.run.ledger.Stray(t.number); ok && t.side.writer != nil {
		t.run.strays.Store(t.number, strayKey{t.side.writer, t.effect.Key, s})
	}
}

// strayKey is where an upload may have been opened.
type strayKey struct {
	writer place.PartWriter
	key    string
	stray  ledger.Stray
}

// begun knows which uploads were there before a run opened any: those are others'. A store is asked once.
type begun struct {
	mu sync.Mutex
	of map[place.PartWriter]*begunAt
}

// begunAt are those of one place, by key; nil where they can't be listed all at once.
type begunAt struct {
	once sync.Once
	ids  map[string][]string
}

// before are those of a transfer's key. Nothing is noted where a place does not list them: then what was opened is
// known by its date.
func (b *begun) before(t *transfer) (s ledger.Stray) {
	w := t.side.writer
	if !place.OpensUploads(w) { // opening one there is no request that could be lost
		return s
	}
	b.mu.Lock()
	if b.of == nil {
		b.of = map[place.PartWriter]*begunAt{}
	}
	at := b.of[w]
	if at == nil {
		at = &begunAt{}
		b.of[w] = at
	}
	b.mu.Unlock()
	var ups []place.Upload
	at.once.Do(func() {
		if t.side.takes.Can().Known.Lacks(place.UploadsListed) ||
			t.ask(func() (err error) { ups, err = w.Uploads(t.run.ctx); return err }) != nil {
			return
		}
		at.ids = map[string][]string{}
		for _, up := range ups {
			at.ids[up.Key] = append(at.ids[up.Key], up.ID)
		}
	})
	if at.ids != nil {
		return ledger.Stray{Before: at.ids[t.effect.Key], Noted: true}
	}
	err := t.ask(func() (err error) { ups, err = place.UploadsOf(t.run.ctx, w, t.effect.Key); return err })
	for _, up := range ups {
		s.Before = append(s.Before, up.ID)
	}
	s.Noted = err == nil
	return s
}

// leave drops an upload that is not needed any more. One that can't be dropped now is looked for at the end.
func (t *transfer) leave(up place.Upload) {
	if t.abort(t.side.writer, up) == nil {
		return
	}
	before := t.run.begun.before(t)
	before.Before = slices.DeleteFunc(slices.Clone(before.Before), func(id string) bool { return id == up.ID })
	if err := t.run.ledger.Intend(t.number, before); err != nil {
		t.run.cancel(err)
	}
	t.strayed()
}

// abort drops an upload, and is patient about it: what is left costs money.
func (t *transfer) abort(w place.PartWriter, up place.Upload) error {
	return t.ask(func() error { return w.Abort(t.run.ctx, up) })
}

// dropStrays drops the uploads that were opened without anybody learning of it:
// those of keys whose opening had no answer, begun since, and not in the ledger.
func (r *run) dropStrays() {
	keys := map[place.PartWriter]map[string]ledger.Stray{}
	effects := map[place.PartWriter][]int64{}
	r.strays.Range(func(effect, v any) bool {
		s := v.(strayKey)
		if keys[s.writer] == nil {
			keys[s.writer] = map[string]ledger.Stray{}
		}
		keys[s.writer][s.key] = s.stray
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

// dropUnknown drops the uploads of some keys that were opened and whose IDs are not known.
func dropUnknown(ctx context.Context, w place.PartWriter, keys map[string]ledger.Stray, known map[string]bool,
	ask func(func() error) error) error {
	var errs []error
	for key, s := range keys {
		errs = append(errs, place.AbortStrays(ctx, w, place.Strays{Key: key, Since: s.Since, Known: known,
			Before: s.Before, Noted: s.Noted}, ask))
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
	keys := map[place.PartWriter]map[string]ledger.Stray{}
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
		if s, ok := l.Stray(n); ok {
			if keys[w] == nil {
				keys[w] = map[string]ledger.Stray{}
			}
			keys[w][c.Effect().Key] = s
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
