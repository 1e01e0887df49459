package transfer

import (
	"errors"
	"fmt"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/retry"
)

// removalsAtOnce is how many removals a task does: a store takes them in one
// request.
const removalsAtOnce = 200

// removals removes what is to go, or puts it into the trash. When anything
// before failed nothing is removed: it may be the only copy of what failed.
func (r *run) removals(p *plan.Plan) error {
	held := r.heldBack()
	r.meter.enter(Removing)
	var batch [2]removal // at the target, and back at the source
	c := p.Effects("")
	for number := int64(0); c.Next() && !r.ended(); number++ {
		e := *c.Effect()
		if e.Kind != plan.Remove || r.ledger.Done(number) || !r.loose(number) {
			continue
		}
		if held > 0 {
			r.meter.problem(number, e.Key, "not deleted, because other objects failed",
				"retry those first; what is deleted may be all there is of them",
				fmt.Sprintf("%d objects had failed or were left out when the deletions were to begin", held))
			continue
		}
		t := r.transfer(number, e)
		if e.Aside != "" {
			trash{t}.feed()
			continue
		}
		all := &batch[backward(&e)]
		if *all = append(*all, t); len(*all) == removalsAtOnce {
			all.feed()
			*all = nil
		}
	}
	batch[0].feed()
	batch[1].feed()
	return c.Err()
}

// trash is the task that moves one object to the trash.
type trash struct{ t *transfer }

func (x trash) feed() {
	x.t.run.hand(func() {
		if err := x.t.putAside(); err != nil {
			x.t.failedFor(err)
			return
		}
		x.t.succeeded(0, object.Entry{})
	})
}

// removal is the task that removes several objects of one place, as long as they are what
// the plan saw.
type removal []*transfer

func (all removal) feed() {
	if len(all) > 0 {
		all[0].run.hand(all.do)
	}
}

// do removes the objects, as often as it takes: those that are gone already are no error, so
// all can be asked for again. What will not go by another try is not asked for.
func (all removal) do() {
	errs := make([]error, len(all))
	left := make([]int, len(all)) // by number in all
	for i := range all {
		left[i] = i
	}
	first := all[0]
	noted := func(attempt int, _ error) {
		for _, n := range left {
			all[n].noted(attempt, errs[n])
		}
	}
	first.patiently(func(int) (err error) {
		refs := make([]object.Ref, len(left))
		for i, n := range left {
			refs[i] = object.Ref{Key: all[n].effect.Key, IfMark: all[n].effect.Over().Mark()}
		}
		var again []int
		for i, failed := range first.side.to.Remove(first.run.ctx, refs...) {
			n := left[i]
			if errs[n] = failed; failed != nil && (retry.Worth(failed) || place.KindOf(failed) == place.Otherwise) {
				again, err = append(again, n), failed
			}
		}
		left = again
		return err
	}, noted, first.passed)
	for i, t := range all {
		if errs[i] == nil {
			errs[i] = t.isGone()
		}
		if errs[i] != nil {
			t.failedFor(errs[i])
		} else {
			t.succeeded(0, object.Entry{})
		}
	}
}

// isGone is the last look at what was removed: what a store lists under another name than it keeps it by is
// not gone by that one.
func (t *transfer) isGone() error {
	still := false
	err := t.ask(func() (err error) {
		still, err = place.StillListed(t.run.ctx, t.side.to, t.effect.Key)
		return err
	})
	if err == nil && still {
		err = place.NewError(t.side.to.Name(), "delete", t.effect.Key, place.BadName,
			errors.New("the store says that it is gone, and lists it: it keeps it under a name that it lists "+
				"otherwise"))
	}
	return err
}
