package transfer

import (
	"hash/maphash"
	"math/bits"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
)

// A store that keeps an object under another name than it was written by lists it
// as a stranger: a plan that mirrors removals would remove the only copy of what it
// has just sent. Kinds of names that a store folds are found by trying, and each
// name of an odd kind is looked at after it was written. What this file adds holds
// whatever a store folds: before anything is removed that is in the same state as
// something this plan has sent, the latter is looked for under its own name.

// states is a set of object states, by hashes: it may hold more than was put in,
// never less, and takes a bounded amount of memory.
type states struct {
	seed maphash.Seed
	bits []uint64
}

// mostStates bounds the set: 16 MiB.
const mostStates = 1 << 27

func newStates(count int64) *states {
	size := min(max(1<<bits.Len64(uint64(count)*16), 1<<10), mostStates)
	return &states{maphash.MakeSeed(), make([]uint64, size/64)}
}

// slots are where a state shows.
func (s *states) slots(e *object.Entry) [2]uint64 {
	var room [16]byte
	b := room[:0]
	for size := uint64(e.Size); size > 0; size >>= 8 {
		b = append(b, byte(size))
	}
	h := maphash.Bytes(s.seed, append(b, e.Mark()...))
	all := uint64(len(s.bits)) * 64
	return [2]uint64{h % all, bits.RotateLeft64(h, 31) % all}
}

func (s *states) add(e *object.Entry) {
	for _, at := range s.slots(e) {
		s.bits[at/64] |= 1 << (at % 64)
	}
}

func (s *states) has(e *object.Entry) bool {
	for _, at := range s.slots(e) {
		if s.bits[at/64]&(1<<(at%64)) == 0 {
			return false
		}
	}
	return true
}

// ownNames makes sure that nothing the plan removes is, under another name, what it
// has sent. An object that does not come back under its own name counts as failed,
// and then nothing is removed.
func (r *run) ownNames(p *plan.Plan) error {
	doomed := [2]*states{}
	c := p.Effects("")
	for number := int64(0); c.Next(); number++ {
		e := c.Effect()
		if e.Kind != plan.Remove || r.ledger.Done(number) {
			continue
		}
		at := backward(e)
		if doomed[at] == nil {
			doomed[at] = newStates(p.Info.Totals[plan.Remove].Count)
		}
		doomed[at].add(e.Over())
	}
	if err := c.Err(); err != nil || doomed[0] == nil && doomed[1] == nil {
		return err
	}
	arrived, err := r.ledger.Arrivals()
	if err != nil {
		return err
	}
	defer arrived.Close()
	c = p.Effects("")
	for number := int64(0); c.Next() && !r.ended(); number++ {
		e := *c.Effect()
		if !e.Kind.Moves() || doomed[backward(&e)] == nil {
			continue
		}
		there, done, err := arrived.Entry(number)
		if err != nil {
			return err
		}
		if !done || !doomed[backward(&e)].has(&there) {
			continue
		}
		t := r.transfer(number, e)
		r.hand(func() {
			if err := t.ask(func() error {
				return place.ComesBack(t.run.ctx, t.side.to, t.effect.Key,
					true)
			}); err != nil {
				t.failedFor(err)
			}
		})
	}
	r.pending.Wait()
	return c.Err()
}

// backward is 1 for an effect that goes back to the source, else 0.
func backward(e *plan.Effect) int {
	if e.Back {
		return 1
	}
	return 0
}
