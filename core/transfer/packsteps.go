package transfer

import (
	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/plan"
)

// packSteps makes the requests of a pack's upload, with the run's patience, and notes them in the ledger
// under the number of one effect: see [pack.Steps].
type packSteps struct{ t *transfer }

func newPackSteps(r *run, outer place.Place, key string, lead int64) *packSteps {
	return &packSteps{&transfer{run: r, side: newSide(r.sides[0].from, outer, &r.opts), number: lead,
		effect: plan.Effect{Key: key, Source: &object.Entry{Key: key}}}}
}

func (s *packSteps) Try(step func(attempt int) error) error { return s.t.try(step) }
func (s *packSteps) Ask(step func() error) error            { return s.t.ask(step) }
func (s *packSteps) Open(begin func() error) error          { return s.t.openUpload(begin) }
func (s *packSteps) Abort(abort func() error) error         { return s.t.ask(abort) }

func (s *packSteps) Noted() *pack.Noted {
	u := s.t.run.ledger.Upload(s.t.number)
	if u == nil {
		return nil
	}
	return &pack.Noted{ID: u.ID, PartSize: u.PartSize, Parts: u.Parts}
}

func (s *packSteps) Began(id string, partSize int64) error {
	return s.t.run.ledger.Begin(s.t.number, id, partSize)
}
func (s *packSteps) Sent(part place.Part) error { return s.t.run.ledger.Part(s.t.number, part) }
func (s *packSteps) Ended() error               { return s.t.run.ledger.Abort(s.t.number) }
