package transfer

import (
	"cmp"

	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/plan"
)

// rounds carries out all effects of a plan whose target is the inside of one pack. What is more than an upload
// takes with parts that memory holds comes in further rounds, each an addition to the pack of the one before,
// which the store copies; what goes is dropped in the last. The plan alone tells where rounds end, so that a
// run which is taken up makes the same.
func (r *run) rounds(p *plan.Plan, all *share) error {
	outer, key, _ := all.in.Outer()
	can, work := place.Can(outer), p.Info.Totals.Work()
	limit, most := cmp.Or(r.opts.PackRound, pack.Round(can)), work.Bytes+pack.HeadRoom*work.Count
	if limit == 0 || most <= limit || p.Info.Largest+pack.HeadRoom > limit || r.opts.Only != nil ||
		r.tooLarge(outer, key, most) {
		return r.pack(p, all, r.opts.Only, adding|removing)
	}
	shares, err := divided(p, all, limit)
	for _, s := range shares {
		if err == nil && !r.ended() {
			err = r.pack(p, s, nil, adding)
		}
	}
	if all.looked = true; err == nil && !r.ended() {
		err = r.pack(p, all, nil, removing)
	}
	return err
}

// tooLarge tells that all rounds together would come to more than an object may have: then that is told before
// the first.
func (r *run) tooLarge(outer place.Place, key string, most int64) bool {
	limit := outer.Abilities().MaxObject
	now, err := outer.Stat(r.ctx, object.Ref{Key: key})
	if err != nil {
		now.Size = 0
	}
	return limit > 0 && now.Size+most+most/64 > limit
}

// divided are the effects of a plan in stretches that bring at most so many bytes, in their order.
func divided(p *plan.Plan, all *share, limit int64) (shares []*share, err error) {
	s := &share{in: all.in, every: true}
	c := p.Effects("")
	number := int64(-1)
	for c.Next() {
		number++
		e := c.Effect()
		if !e.Kind.Acts() || e.Kind == plan.Remove {
			continue
		}
		size := e.Bytes() + pack.HeadRoom
		if s.bytes > 0 && s.bytes+size > limit {
			s.last, s.more = number-1, true
			shares = append(shares, s)
			s = &share{in: all.in, every: true, first: number, from: e.Key}
		}
		s.bytes += size
	}
	s.last = number
	return append(shares, s), c.Err()
}
