package transfer

import (
	"context"
	"errors"
	"io/fs"
	"time"

	"lumtra/core/agreed"
	"lumtra/core/ledger"
	"lumtra/core/plan"
)

// Agree writes, to the file at path, what both sides agree on after all that
// was done of a plan: what the plan found the same, what its ledger says has
// arrived, and of the rest what was agreed before. A plan that was never run
// has no ledger, and that is no error.
func Agree(ctx context.Context, path string, before *agreed.States, p *plan.Plan, ledgerPath string) error {
	arrived, err := ledger.OpenArrivals(ledgerPath)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		arrived = &ledger.Arrivals{From: -1}
	case err != nil:
		return err
	default:
		defer arrived.Close()
	}
	w, err := agreed.Create(path, agreed.Info{Job: p.Info.Job, Plan: p.Info.Number, At: time.Now(),
		Source: p.Info.Source.Place, Target: p.Info.Target.Place})
	if err != nil {
		return err
	}
	defer w.Abandon()
	old := before.Cursor("")
	c := p.Effects("")
	for n := int64(0); c.Next(); n++ {
		if n&4095 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		e := c.Effect()
		was := old.At(e.Key)
		there, finished, err := arrived.Entry(n)
		if err != nil {
			return err
		}
		switch {
		case e.Then(&p.Info.Rules) && !arrived.Doubted(n) && (p.Info.Rules.Afterwards.Leaves() || !arrived.SeenTo(n)):
			// Gone from the source; or what the job does to it is still to come,
			// and the next plan must not take it for done with.
		case arrived.Doubted(n) && e.Source != nil && !e.Back:
			// Nobody is to take for good what may be damaged: the next plan sends it
			// again, whatever its size and time say.
			known := &there
			if !finished {
				known = nil
			}
			if e.Kind == plan.Same { // it was there, and found another
				known = e.Target
			}
			err = w.Doubt(e.Key, e.Source, known)
		case e.Kind == plan.Same && was != nil && was.Doubts(e.Target):
			err = w.Again(e.Key, was) // found since the plan was made
		case e.Kind == plan.Same:
			err = w.Add(e.Key, e.Source, e.Target)
		case finished && e.Kind == plan.Remove:
		case finished && e.Back:
			err = w.Add(e.Key, &there, e.Target)
		case finished:
			err = w.Add(e.Key, e.Source, &there)
		case was != nil:
			err = w.Again(e.Key, was)
		}
		if err != nil {
			return err
		}
	}
	if err := errors.Join(c.Err(), old.Err()); err != nil {
		return err
	}
	return w.Finish()
}
