package transfer

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"path/filepath"
	"time"

	"lumtra/core/agreed"
	"lumtra/core/compare"
	"lumtra/core/ledger"
	"lumtra/core/plan"
)

// Agree writes, into the folder dir, what both sides agree on after all that was done of a
// plan, and what is in doubt since: what the plan found the same, what its ledger says has
// arrived, and of the rest what was before. before is what the folder holds. A plan that was
// never run has no ledger, and that is no error.
//
// Of a plan older than the newest that is in it only what nothing is known of is taken.
//
// The doubts come first: whoever is killed between the two has the agreement made again.
func Agree(ctx context.Context, dir string, before *agreed.Memory, p *plan.Plan, ledgerPath string) error {
	extent, err := ledger.Extent(ledgerPath)
	if err != nil {
		return err
	}
	if err := Question(ctx, dir, before.Doubts, p, ledgerPath); err != nil {
		return err
	}
	arrived, err := arrivalsOf(ledgerPath)
	if err != nil {
		return err
	}
	defer arrived.Close()
	info := agreed.Info{Job: p.Info.Job, Plan: p.Info.Number, At: time.Now(), Source: p.Info.Source.Place,
		Target: p.Info.Target.Place, Ledgers: map[int]string{}}
	if before.States != nil {
		info.Plan = max(info.Plan, before.States.Info.Plan)
		maps.Copy(info.Ledgers, before.States.Info.Ledgers)
	}
	info.Ledgers[p.Info.Number] = extent
	w, err := agreed.Create(filepath.Join(dir, agreed.StatesFile), info)
	if err != nil {
		return err
	}
	defer w.Abandon()
	a := &agreeing{p: p, arrived: arrived, w: w, old: before.States.Cursor(""), late: p.Info.Number < info.Plan}
	if err := a.effects(ctx); err != nil {
		return err
	}
	return w.Finish()
}

// agreeing is an agreement being written.
type agreeing struct {
	p       *plan.Plan
	arrived *ledger.Arrivals
	w       *agreed.Writer
	old     *agreed.Cursor[agreed.State]
	// late tells that a newer plan is in what was: then all that was stays.
	late bool
}

func (a *agreeing) effects(ctx context.Context) error {
	more := a.old.Next()
	keep := func() error {
		was := a.old.Value()
		if was == nil {
			return a.old.Err()
		}
		err := a.w.Add(a.old.Key(), was)
		more = a.old.Next()
		return err
	}
	c := a.p.Effects("")
	for n := int64(0); c.Next(); n++ {
		if n&4095 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		e := c.Effect()
		for more && a.old.Key() < e.Key {
			if !a.late { // the plan has met all keys there are
				more = a.old.Next()
			} else if err := keep(); err != nil {
				return err
			}
		}
		var was *agreed.State
		if more && a.old.Key() == e.Key {
			if was = a.old.Value(); was == nil {
				return a.old.Err()
			}
		}
		if err := a.effect(n, e, was); err != nil {
			return err
		}
		if was != nil {
			more = a.old.Next()
		}
	}
	for more && a.late {
		if err := keep(); err != nil {
			return err
		}
	}
	return errors.Join(c.Err(), a.old.Err())
}

// effect writes what is agreed on of an effect's key; was is what was, nil for nothing.
func (a *agreeing) effect(n int64, e *plan.Effect, was *agreed.State) error {
	there, finished, err := a.arrived.Entry(n)
	if err != nil {
		return err
	}
	rules := &a.p.Info.Rules
	switch {
	case a.arrived.Doubted(n), a.arrived.Met(n):
		// It is in doubt, which is no agreement.
	case e.Then(rules) && (rules.Afterwards.Leaves() || !a.arrived.SeenTo(n)):
		// Gone from the source; or what the job does to it is still to come,
		// and the next plan must not take it for done with.
	case a.late && was != nil:
		return a.w.Add(e.Key, was)
	case e.Kind == plan.Same && !a.late:
		return a.w.Add(e.Key, &agreed.State{Source: *e.Source, Target: *e.Target, Later: e.Later})
	case finished && e.Kind == plan.Remove:
	case finished && e.Back:
		return a.w.Add(e.Key, &agreed.State{Source: there, Target: *e.Target})
	case finished:
		return a.w.Add(e.Key, &agreed.State{Source: *e.Source, Target: there, Later: e.Later})
	case was != nil:
		return a.w.Add(e.Key, was)
	}
	return nil
}

// arrivalsOf opens what a ledger says has arrived; one that is not there says nothing.
func arrivalsOf(path string) (*ledger.Arrivals, error) {
	arrived, err := ledger.OpenArrivals(path)
	if errors.Is(err, fs.ErrNotExist) {
		return &ledger.Arrivals{From: -1}, nil
	}
	return arrived, err
}

// Question writes, into the folder dir, what is in doubt after all that was done of a plan:
// doubts about what it sent are settled, and those are added that its runs have raised, or it itself
// where contents were compared by wish. before is what is in doubt there, and may be nil.
func Question(ctx context.Context, dir string, before *agreed.Doubts, p *plan.Plan, ledgerPath string) error {
	arrived, err := arrivalsOf(ledgerPath)
	if err != nil {
		return err
	}
	defer arrived.Close()
	if before.Len() == 0 && !arrived.Questions() && !p.Info.ByContents {
		return nil
	}
	info := agreed.DoubtsInfo{Job: p.Info.Job, Source: p.Info.Source.Place, Target: p.Info.Target.Place}
	if before != nil {
		info.Proof, info.Compared = before.Info.Proof, before.Info.Compared
	}
	if p.Info.ByContents {
		info.Compared = max(info.Compared, p.Info.Number)
	}
	return agreed.Revise(filepath.Join(dir, agreed.DoubtsFile), before, info,
		func(about func(string, agreed.Decide) error) error {
			c := p.Effects("")
			for n := int64(0); c.Next(); n++ {
				if n&4095 == 0 && ctx.Err() != nil {
					return ctx.Err()
				}
				e := c.Effect()
				err := about(e.Key, func(was *agreed.Doubt) (*agreed.Doubt, error) {
					return questioned(p, n, e, was, arrived)
				})
				if err != nil {
					return err
				}
			}
			return c.Err()
		})
}

// mends tells that what a plan has sent settles a doubt: one that was raised before it, or by the plan itself or a run
// of it that has come further since. A proof after the run has seen what was sent.
func mends(p *plan.Plan, was *agreed.Doubt) bool {
	return p.Info.Number > was.Plan || p.Info.Number == was.Plan && was.Proof == 0
}

// questioned is what is in doubt of an effect's key after it, nil for nothing.
func questioned(p *plan.Plan, n int64, e *plan.Effect, was *agreed.Doubt, arrived *ledger.Arrivals) (*agreed.Doubt,
	error) {
	there, finished, err := arrived.Entry(n)
	if err != nil {
		return nil, err
	}
	now := &agreed.Doubt{Plan: p.Info.Number, At: time.Now(), Method: string(compare.ByStoredSum)}
	if e.Source != nil {
		now.Source = *e.Source
	}
	switch {
	case arrived.Doubted(n) && e.Back: // it is the source then, and held against the target by content
		now.Kind = agreed.Unplanned
	case arrived.Doubted(n) && e.Kind == plan.Same: // it was there, and found another
		now.Kind, now.Target, now.Method = agreed.Differs, *e.Target, string(compare.ByReadBack)
	case arrived.Doubted(n) && finished:
		now.Kind, now.Target, now.Method = agreed.Differs, there, string(compare.ByReadBack)
	case arrived.Doubted(n) && e.Source != nil:
		now.Kind = agreed.Unlooked
	case arrived.Met(n):
		now.Kind = agreed.Unplanned
	case was == nil && !finished && p.Info.ByContents && e.Reason == plan.OtherContent && e.Kind == plan.Change &&
		!e.Back:
		now.Kind, now.Target = agreed.Differs, *e.Target // it is not compared again by itself
	case was == nil, finished && (e.Kind.Moves() || e.Kind == plan.Remove) && mends(p, was),
		e.Kind == plan.Same && e.Reason == plan.SameContent && was.Kind == agreed.Unplanned:
		return nil, nil
	default:
		return was, nil
	}
	if was != nil && was.Kind == agreed.Differs && now.Kind == agreed.Unplanned {
		return was, nil // the more is known of it
	}
	return now, nil
}
