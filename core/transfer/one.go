package transfer

import (
	"errors"
	"fmt"
	"sync/atomic"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/rule"
)

// transfer is one effect being carried out.
type transfer struct {
	run    *run
	side   side
	number int64
	effect plan.Effect
	// left is the mark of what a failed write of this transfer has left at the
	// target: it may be overwritten, though the plan has not seen it.
	left string
	// unverified tells that nothing vouched for the content on its way.
	unverified atomic.Bool
	// after is called in place of closing the effect, where this is a step before its end.
	after func(bytes int64)
}

// doubts notes, before anything is written to a place that is looked at only
// afterwards, that what is there may be damaged until the effect is done.
func (t *transfer) doubts() error {
	if !t.side.takes.Can().ChecksAfter {
		return nil
	}
	if err := t.run.ledger.Doubt(t.number); err != nil {
		t.run.cancel(fmt.Errorf("the ledger cannot be written: %w", err))
		return err
	}
	return nil
}

// arrives is the last look at an object that was written: whether it has its name,
// and whether anything vouched for its content.
func (t *transfer) arrives(there *object.Entry) error {
	err := t.try(func(int) error { return place.ComesBack(t.run.ctx, t.side.to, t.effect.Key, false) })
	if err != nil {
		return err
	}
	return t.vouched(there)
}

// vouched takes in whether anything vouches for what is there; where nothing does, it is an error for a
// job that wants that.
func (t *transfer) vouched(there *object.Entry) error {
	if there.Unverified {
		t.unverified.Store(true)
	}
	if t.unverified.Load() && t.run.opts.Verified {
		return place.NewError(t.side.to.Name(), "verify", t.effect.Key, place.Unproven,
			errors.New("neither side keeps anything to hold its content against"))
	}
	return nil
}

// keepBoth brings what was kept beside the object that took its place to the other side, too: a run both ways is
// done when both sides hold the same. Only then the effect is. bytes and there are those of the object.
func (t *transfer) keepBoth(bytes int64, there object.Entry) {
	var kept object.Entry
	err := t.try(func(int) (err error) {
		kept, err = t.side.to.Stat(t.run.ctx, object.Ref{Key: t.effect.Aside})
		return err
	})
	if err != nil {
		t.failedFor(err)
		return
	}
	kept.Key = t.effect.Aside
	e := plan.Effect{Key: t.effect.Aside, Kind: plan.Add, Reason: plan.NotThere, Back: !t.effect.Back}
	if e.Back {
		e.Target = &kept
	} else {
		e.Source = &kept
	}
	back := t.run.transfer(t.number, e)
	back.after = func(more int64) { t.close(bytes+more, there) }
	// A stream is at work on this: the next step waits for one beside it.
	t.run.pending.Add(1)
	go func() {
		defer t.run.pending.Done()
		t.run.streams.guarded(t.run.sending(back).feed)
	}()
}

// succeeded and failedFor close a transfer; they are called once. there is what
// is at the receiving side now.
func (t *transfer) succeeded(bytes int64, there object.Entry) {
	switch {
	case t.after != nil:
		t.after(bytes)
		return
	case t.effect.Aside != "" && t.effect.Kind == plan.Change && t.run.rules.Direction == rule.TwoWay:
		t.keepBoth(bytes, there)
		return
	}
	t.close(bytes, there)
}

// close notes that the effect is done.
func (t *transfer) close(bytes int64, there object.Entry) {
	if there.Unverified = t.unverified.Load(); there.Unverified && !t.readAgain() {
		t.run.meter.unverified.Add(1)
	}
	if err := t.run.ledger.Arrived(t.number, bytes, there); err != nil {
		t.run.cancel(fmt.Errorf("the ledger cannot be written: %w", err))
		return
	}
	t.run.meter.objects.Add(1)
}

// readAgain tells that what nothing vouched for is held against its source by a reading of its own before that goes:
// then it is verified, or it fails.
func (t *transfer) readAgain() bool {
	return t.effect.Then(t.run.rules) && t.run.rules.Safety.Evidence != rule.OneReading
}

func (t *transfer) failedFor(err error) {
	kind := place.KindOf(err)
	if t.run.ctx.Err() != nil {
		return // the run was stopped: not this object's fault
	}
	cause, detail := kind.String(), object.Display(err.Error())
	advice := place.AdviceFor(err)
	var e *place.Error
	if errors.As(err, &e) {
		cause = fmt.Sprintf("%s: %s", object.Display(e.Place), kind)
		if e.Code != "" && (kind == place.Other || kind == place.Unsupported) { // words that say nothing alone
			cause += " (" + object.Display(e.Code) + ")"
		}
		if kind == place.NotFound && e.Key == t.effect.Key && e.Place == t.side.from.Name() {
			// What a place answers to a write says nothing of the source.
			cause, advice = object.Display(e.Place)+": gone since the plan", place.Changed.Advice()
			if still, err := place.StillListed(t.run.ctx, t.side.from, e.Key); err == nil && still {
				cause = object.Display(e.Place) + ": listed, and not there under that name"
				advice = "the store keeps it under a name that it lists otherwise; rename it there"
			}
		}
		detail = e.Error()
	}
	t.run.meter.problem(t.number, t.effect.Key, cause, advice, detail)
	if t.run.outage.hopeless(kind) {
		t.run.cancel(fmt.Errorf("nothing came through from the start: %w", err))
	}
	err = t.run.ledger.Fail(t.number, cause, detail)
	if (kind == place.Exists || kind == place.Changed) && e != nil && e.Place == t.side.to.Name() {
		// What is there was not planned for: the next plan takes it for the same only by its content.
		err = errors.Join(err, t.run.ledger.Met(t.number))
	}
	if err != nil {
		t.run.cancel(fmt.Errorf("the ledger cannot be written: %w", err))
	}
}

// checks tells that the source keeps something for the whole object that its parts
// have to be held against in their order.
func (t *transfer) checks() bool {
	a := t.side.gives.Can().Abilities
	return a.KeepsMetadata && a.StoredSums != object.CRC64NVME && t.side.ranges == nil
}
