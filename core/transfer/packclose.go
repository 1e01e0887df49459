package transfer

import (
	"iter"

	"golang.org/x/sync/errgroup"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
)

// closers is how many effects are closed at once: what the ledger notes of them goes to the disk
// together.
const closers = 256

// close opens the pack as it is now, goes through it in step with the plan, and closes each effect by what
// its index says.
func (x *packing) close() error {
	x.in.Renew()
	if x.run.packs != nil {
		x.run.packs.set.Grew()
	}
	if err := x.steps.t.ask(func() error { _, err := x.in.Pack(x.run.ctx); return err }); err != nil {
		return x.failAll(err)
	}
	next, stop := iter.Pull2(x.in.List(x.run.ctx, "", place.ListOptions{}))
	defer stop()
	var there object.Entry
	more := true
	advance := func() (err error) {
		there, err, more = next()
		return err
	}
	if err := advance(); err != nil {
		return x.failAll(err)
	}
	var all errgroup.Group
	all.SetLimit(closers)
	defer func() { _ = all.Wait() }()
	c := x.effects()
	for c.Next() {
		number, e := c.number, *c.Effect()
		if !x.acts(number, &e) || x.failed[number] {
			continue
		}
		for more && there.Key < e.Key {
			if err := advance(); err != nil { // it is written all the same: another run closes what is left
				return x.failAll(err)
			}
		}
		t, has := x.run.transfer(number, e), more && there.Key == e.Key
		switch found := there; {
		case e.Kind == plan.Remove && !has:
			all.Go(func() error { t.succeeded(0, object.Entry{}); return nil })
		case e.Kind != plan.Remove && has && found.Size == e.Sent().Size && found.Modified.Equal(e.Sent().Modified):
			found.Unverified = x.sink.Unverified()
			t.unverified.Store(x.unverified[number])
			all.Go(func() error { t.closes(found); return nil })
		}
		if x.run.ctx.Err() != nil {
			return nil
		}
	}
	x.flight.arrived()
	return c.Err()
}

// closes closes an effect that is in the pack.
func (t *transfer) closes(there object.Entry) {
	if err := t.vouched(&there); err != nil {
		t.failedFor(err)
		return
	}
	t.succeeded(there.Size, there)
}

// failAll tells, for the pack as a whole, why nothing of it arrived.
func (x *packing) failAll(err error) error {
	if x.run.ctx.Err() != nil {
		return nil
	}
	c := x.effects()
	for c.Next() {
		if e := *c.Effect(); x.acts(c.number, &e) {
			x.run.transfer(c.number, e).failedFor(err)
		}
		if x.run.ctx.Err() != nil {
			return nil
		}
	}
	return c.Err()
}
