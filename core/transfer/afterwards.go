package transfer

import (
	"crypto/rand"
	"fmt"
	"maps"
	"strings"

	"lumtra/core/compare"
	"lumtra/core/handle"
	"lumtra/core/ledger"
	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/rule"
)

// afterwards does what the job says becomes of the source, for each object
// whose copy it proves: the target is asked what it holds now, and the source
// must still be what was sent. It comes when all has been sent.
func (r *run) afterwards(p *plan.Plan) error {
	if p.Info.Afterwards.Count == 0 || r.ended() {
		return nil
	}
	if err := r.apart(); err != nil {
		return err
	}
	arrived, err := r.ledger.Arrivals()
	if err != nil {
		return err
	}
	defer arrived.Close()
	r.meter.enter(SeeingTo)
	c := p.Effects("")
	for number := int64(0); c.Next() && !r.ended(); number++ {
		e := *c.Effect()
		if !e.Then(r.rules) || r.ledger.SeenTo(number) {
			continue
		}
		there, done, err := arrived.Entry(number)
		if err != nil {
			return err
		}
		if e.Kind == plan.Same {
			there, done = *e.Target, true
		}
		if !done { // it failed, and was reported
			continue
		}
		letting{&transfer{run: r, side: r.sides[0], number: number, effect: e}, there, p}.feed()
	}
	return c.Err()
}

// apart makes sure that the target is not the source by another name, by an
// endpoint of its own or a link: then the copy would be the original. What is
// written at the one must not be seen at the other.
func (r *run) apart() error {
	if !r.rules.Afterwards.Leaves() {
		return nil
	}
	s := r.sides[0]
	if in := pack.Of(s.to); in != nil { // what is tried is where the pack lies
		s.to, _, _ = in.Outer()
	}
	probe := &transfer{run: r, side: s, number: ledger.NoEffect}
	key := ".apart-" + strings.ToLower(rand.Text())
	err := probe.try(func(int) error {
		_, err := s.to.Write(r.ctx, key, strings.NewReader(key), int64(len(key)), place.WriteOptions{})
		return err
	})
	if err != nil {
		return fmt.Errorf("whether the two places are apart could not be tried, so nothing leaves the source: %w", err)
	}
	err = probe.try(func(int) error {
		_, err := s.from.Stat(r.ctx, object.Ref{Key: key})
		return err
	})
	gone := probe.try(func(int) error { return s.to.Remove(r.ctx, object.Ref{Key: key})[0] })
	switch {
	case err == nil:
		return fmt.Errorf("%s and %s are one place by two names, and what leaves the source would be gone: nothing "+
			"was touched; name another target", s.from.Name(), s.to.Name())
	case place.KindOf(err) != place.NotFound:
		return fmt.Errorf("whether the two places are apart could not be told, so nothing leaves the source: %w", err)
	}
	return gone
}

// letting is the task that proves one copy, which is there, and lets the source go.
type letting struct {
	t     *transfer
	there object.Entry
	p     *plan.Plan
}

func (l letting) feed() { l.t.run.hand(l.do) }

func (l letting) do() {
	t := l.t
	err := t.proven(&l.there)
	if err == nil {
		err = t.try(func(int) error { return t.letGo(l.p) })
	}
	if err != nil {
		t.failedFor(err)
		return
	}
	if err := t.run.ledger.SawTo(t.number); err != nil {
		t.run.cancel(fmt.Errorf("the ledger cannot be written: %w", err))
		return
	}
	t.run.meter.seenTo.Add(1)
}

// proven holds the target against the source as closely as the job's proof
// does. For what a run has sent, the checksum that the source's bytes had when
// they were read stands for them, if the source vouched for them: they are not
// read a second time then, unless the job reads back. What nobody vouched for is:
// the sum of a reading that a line has damaged is right for what arrived, and wrong.
func (t *transfer) proven(there *object.Entry) error {
	src := t.effect.Source
	there.Key = t.effect.Key
	onItsOwn := *there
	onItsOwn.Sums = nil // what the target keeps now, not what it said then
	sent, known := there.Sum(object.CRC64NVME)
	known = known && t.effect.Kind.Moves() && t.run.opts.Proof != compare.ByReadBack &&
		(!there.Unverified || t.run.rules.Safety.Evidence == rule.OneReading)
	var res compare.Result
	err := t.try(func(int) (err error) {
		switch {
		case t.run.gzips != nil && t.run.gzips(src.Key):
			res, err = compare.Gzipped(t.run.ctx, object.NoSum, t.side.from, src, t.side.to, &onItsOwn)
		case known && onItsOwn.Size == src.Size:
			res, err = compare.Against(t.run.ctx, sent, t.side.to, &onItsOwn)
		default:
			res, err = compare.Contents(t.run.ctx, t.run.opts.Proof, t.side.from, src, t.side.to, &onItsOwn)
		}
		return err
	})
	if compare.WentBad(err, t.side.to) {
		res, err = compare.Result{Why: "it went bad there: " + err.Error()}, nil
	}
	if err == nil && !res.Same {
		if err := t.run.ledger.Doubt(t.number); err != nil { // so that the next plan mends it
			t.run.cancel(fmt.Errorf("the ledger cannot be written: %w", err))
		}
		err = place.NewError(t.side.to.Name(), "prove", t.effect.Key, place.Corrupt,
			fmt.Errorf("%s; the source stays", res.Why))
	}
	return err
}

// letGo does what the job says with the source, while it is what was sent.
func (t *transfer) letGo(p *plan.Plan) error {
	src := t.effect.Source
	ref := object.Ref{Key: src.Key, IfMark: src.Mark()}
	switch t.run.rules.Afterwards {
	case rule.DeleteSource:
		return t.side.from.Remove(t.run.ctx, ref)[0]
	case rule.ArchiveSource:
		return t.archive(src, t.run.rules.ArchivePath+"/"+plan.Stamp(p.Info.Job, p.Info.Number, p.Info.Made)+"/"+
			src.Key)
	}
	tagger := t.side.gives.Can().Tags
	if tagger == nil {
		return place.NewError(t.side.from.Name(), "tag", src.Key, place.Unsupported,
			fmt.Errorf("%s", t.side.gives.Can().Lacks(place.Tags)))
	}
	if _, err := t.side.from.Stat(t.run.ctx, ref); err != nil { // as it was sent, or not at all
		return err
	}
	tags, err := tagger.Tags(t.run.ctx, object.Ref{Key: src.Key})
	if err != nil {
		return err
	}
	all := maps.Clone(t.run.rules.SourceTags)
	for name, value := range tags {
		if _, set := all[name]; !set {
			all[name] = value
		}
	}
	return tagger.SetTags(t.run.ctx, object.Ref{Key: src.Key}, all)
}

// archive moves the source aside. One that a killed run, or a request whose
// answer was lost, has moved already is there.
func (t *transfer) archive(src *object.Entry, key string) error {
	err := handle.MoveOne(t.run.ctx, t.side.from, src, key)
	if k := place.KindOf(err); err == nil || k != place.NotFound && k != place.Exists {
		return err
	}
	return t.moved(err, t.side.from, src, key)
}
