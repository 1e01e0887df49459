package transfer

import (
	"time"

	"lumtra/core/place"
)

// begin opens an upload. One whose answer was lost may have been opened all the
// same, and nobody knows its ID: it is looked for at the end of the run.
func (t *transfer) begin(open func() error) error {
	return t.try(func(attempt int) error {
		err := open()
		if err != nil {
			t.strays.Store(t.effect.Key, t.writer)
		}
		return err
	})
}

// abort drops an upload, and is patient about it: what is left costs money.
func (t *transfer) abort(w place.PartWriter, up place.Upload) error {
	return t.ask(func() error { return w.Abort(t.ctx, up) })
}

// strayAge is how much before the run an upload may seem to have been begun and
// still be the run's, by a store's clock.
const strayAge = time.Minute

// dropStrays drops the uploads that the run opened without learning of it:
// those of keys whose opening failed, begun since, and not in the ledger.
func (r *run) dropStrays(began time.Time) {
	writers := map[place.PartWriter]map[string]bool{}
	r.strays.Range(func(key, w any) bool {
		writer := w.(place.PartWriter)
		if writers[writer] == nil {
			writers[writer] = map[string]bool{}
		}
		writers[writer][key.(string)] = true
		return true
	})
	known := map[string]bool{}
	for _, id := range r.ledger.Open() {
		known[id] = true
	}
	for w, keys := range writers {
		t := &transfer{run: r, side: r.sides[0], number: noEffect}
		var ups []place.Upload
		err := t.ask(func() (err error) {
			ups, err = w.Uploads(r.ctx)
			return err
		})
		if err != nil {
			continue // they are seen and can be removed in the places view
		}
		for _, up := range ups {
			if keys[up.Key] && !known[up.ID] && (up.Begun.IsZero() || up.Begun.After(began.Add(-strayAge))) {
				t.abort(w, up)
			}
		}
	}
}
