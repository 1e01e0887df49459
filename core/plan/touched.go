package plan

import (
	"context"

	"golang.org/x/sync/errgroup"

	"lumtra/core/object"
	"lumtra/core/rule"
)

// touched tells whether a pair is sent for its time alone, so that it may well be
// the same content: worth a look where the target keeps a checksum of it and can be
// given another time. What was changed at the target is not: that it has become what
// the source has is for nobody to guess.
func (j *judging) touched(p *pair) bool {
	e, to := &p.Effect, &j.opts.Target
	return j.opts.SameStored != nil && e.Kind == Change && !e.Back && j.opts.Rules.Direction == rule.OneWay &&
		e.Moved != AtTarget && e.Moved != AtBoth && e.Source.Size == e.Target.Size &&
		(to.MaxCopy == 0 || e.Target.Size <= to.MaxCopy) && !object.IsCold(e.Target.Class)
}

// look finds out whether a touched object has the content that the target keeps. Where
// that cannot be told it is sent, as it was judged.
func (w *worker) look(ctx context.Context, p *pair) {
	e := &p.Effect
	if same, err := w.opts.SameStored(ctx, e.Source, e.Target); err == nil && same {
		e.Kind, e.Reason, e.Aside, e.Note = Meta, OtherAttributes, "", "same content, modified "+
			stamp(e.Source.Modified)+
			" at the source"
	}
}

// looksAt tells whether content has to be looked at before a pair is decided, and can be.
func (w *worker) looksAt(p *pair) bool {
	return p.touched && p.Effect.Kind == Change || p.ask && w.opts.SameContent != nil ||
		w.opts.TooMuch != nil && p.Effect.Kind.Moves() && !p.Back
}

const (
	// looksAtOnce is how many objects of a stretch are looked at together,
	// waiting how many pairs wait for that at the most.
	looksAtOnce = 16
	waiting     = 4096
)

// queue keeps pairs in order that wait for one among them to be looked at.
type queue struct {
	pairs []pair
	looks int
}

// add takes in a copy of a pair, whose entries the merge will overwrite.
func (q *queue) add(p *pair, looks bool) {
	e := &p.Effect
	e.Source, e.Target = own(e.Source), own(e.Target)
	q.pairs = append(q.pairs, *p)
	if looks {
		q.looks++
	}
}

func (q *queue) full() bool { return q.looks >= looksAtOnce || len(q.pairs) >= waiting }

// flush looks at what has to be looked at and hands all pairs on.
func (q *queue) flush(ctx context.Context, w *worker, j *judging, take func(*pair) error) error {
	var all errgroup.Group
	for i := range q.pairs {
		if p := &q.pairs[i]; w.looksAt(p) {
			all.Go(func() error { w.ask(ctx, j, p); return nil })
		}
	}
	all.Wait()
	if err := ctx.Err(); err != nil {
		return err
	}
	for i := range q.pairs {
		if err := take(&q.pairs[i]); err != nil {
			return err
		}
	}
	clear(q.pairs)
	q.pairs, q.looks = q.pairs[:0], 0
	return nil
}

func own(e *object.Entry) *object.Entry {
	if e == nil {
		return nil
	}
	mine := *e
	return &mine
}
