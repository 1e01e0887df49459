package transfer

import (
	"fmt"
	"maps"

	"lumtra/core/compare"
	"lumtra/core/handle"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
)

// putAside moves what is at the receiving side to the name it is kept under.
// An earlier run may have done that, or an answer may have been lost: then the
// one that is kept is there.
func (t *transfer) putAside() error {
	over := t.effect.Over()
	if t.effect.Aside == "" || over == nil {
		return nil
	}
	return t.try(func(int) error {
		err := handle.MoveOne(t.ctx, t.to, over, t.effect.Aside)
		if k := place.KindOf(err); err == nil || k != place.NotFound && k != place.Changed && k != place.Exists {
			return err
		}
		return t.moved(err, t.to, over, t.effect.Aside)
	})
}

// moved finds out, after a move was refused, whether it was done already: then
// the object is under its new name, and the old one is gone or goes now. If not
// it returns the refusal.
func (t *transfer) moved(refused error, at place.Place, was *object.Entry, key string) error {
	var kept object.Entry
	err := t.ask(func() (err error) {
		kept, err = at.Stat(t.ctx, object.Ref{Key: key})
		return err
	})
	if err != nil || kept.Size != was.Size {
		return refused
	}
	gone := t.ask(func() error {
		_, err := at.Stat(t.ctx, object.Ref{Key: was.Key, IfMark: was.Mark()})
		return err
	})
	switch kind := place.KindOf(gone); {
	case gone != nil && (kind == place.NotFound || kind == place.Changed):
		return nil
	case gone != nil:
		return gone
	}
	// Copied, and killed before the first was removed?
	var res compare.Result
	err = t.ask(func() (err error) {
		res, err = compare.Contents(t.ctx, compare.ByStoredSum, at, was, at, &kept)
		return err
	})
	if err != nil || !res.Same {
		return refused
	}
	return t.ask(func() error { return at.Remove(t.ctx, object.Ref{Key: was.Key, IfMark: was.Mark()})[0] })
}

// beside adds what lies beside the content and could not go with it.
func (t *transfer) beside(there *object.Entry, digest object.Sum) error {
	if err := t.carryTags(there); err != nil {
		return err
	}
	return t.keepDigest(there, digest)
}

// carryTags gives what was sent the tags it has at the source, where the job
// says so.
func (t *transfer) carryTags(there *object.Entry) error {
	if !t.rules.As.Tags || t.effect.Back {
		return nil
	}
	from, ok1 := t.from.(place.Tagger)
	to, ok2 := t.to.(place.Tagger)
	if !ok1 || !ok2 {
		return nil
	}
	return t.try(func(int) error {
		tags, err := from.Tags(t.ctx, object.Ref{Key: t.effect.Key})
		if err != nil {
			return err
		}
		if tags, _ = place.OwnTags(tags); t.effect.Kind == plan.Meta { // the content stays, and so do its digests
			there, err := to.Tags(t.ctx, object.Ref{Key: t.effect.Key})
			if err != nil {
				return err
			}
			_, digests := place.OwnTags(there)
			maps.Copy(tags, digests)
		}
		return to.SetTags(t.ctx, object.Ref{Key: t.effect.Key}, tags)
	})
}

// facts changes what lies beside the content, and sends none of that.
func (t *transfer) facts() {
	there, err := t.setFacts()
	if err == nil {
		err = t.carryTags(&there)
	}
	if err != nil {
		t.failedFor(err)
		return
	}
	t.succeeded(0, there)
}

func (t *transfer) setFacts() (there object.Entry, err error) {
	src, dst := t.effect.Sent(), t.effect.Over()
	if f, ok := t.to.(place.FactsSetter); ok {
		err = t.try(func(int) (err error) {
			there, err = f.SetFacts(t.ctx, object.Ref{Key: t.effect.Key, IfMark: dst.Mark()}, src.Modified, uint32(src.Mode))
			return err
		})
		return there, err
	}
	w, ok := t.to.(place.MetadataWriter)
	if !ok {
		return there, place.NewError(t.to.Name(), "set metadata", t.effect.Key, place.Unsupported, fmt.Errorf("%s", place.Lacks(t.to, place.Metadata)))
	}
	err = t.try(func(int) (err error) {
		c := place.MetadataChange{Class: t.rules.As.Class, Original: src.Modified, Mode: uint32(src.Mode)}
		if t.effect.Reason == plan.OtherFacts && t.from.Abilities().KeepsMetadata { // a store's metadata
			facts, err := t.from.Stat(t.ctx, object.Ref{Key: src.Key, Version: src.Version})
			if err != nil {
				return err
			}
			opts := t.options(facts)
			c.Original, c.Mode, c.ContentType, c.Set = opts.Original, opts.Mode, opts.ContentType, opts.Metadata
		} else if len(t.rules.As.Metadata) > 0 {
			c.Set = t.rules.As.Metadata
		}
		there, err = w.SetMetadata(t.ctx, object.Ref{Key: t.effect.Key, IfMark: dst.Mark()}, c)
		return err
	})
	return there, err
}

// removalsAtOnce is how many removals a task does: a store takes them in one
// request.
const removalsAtOnce = 200

// removals hands out what is to be removed or goes to the trash. When anything
// before failed nothing is removed: it may be the only copy of what failed.
func (r *run) removals(p *plan.Plan) error {
	held := r.meter.failed.Load() + r.skipped
	r.meter.enter(Removing)
	var batch [2][]*transfer
	flush := func(back int) {
		if all := batch[back]; len(all) > 0 {
			r.hand(func() { r.remove(all) })
			batch[back] = nil
		}
	}
	c := p.Effects("")
	for number := int64(0); c.Next() && !r.ended(); number++ {
		e := *c.Effect()
		if e.Kind != plan.Remove || r.ledger.isDone(number) {
			continue
		}
		t := r.transfer(number, e)
		back := 0
		if e.Back {
			back = 1
		}
		switch {
		case held > 0:
			r.meter.problem(number, e.Key, "not removed, because other objects failed", "retry those first; what is removed may be all there is of them", fmt.Sprintf("%d objects had failed or were left out when the removals were to begin", held))
		case e.Aside != "":
			r.hand(t.trash)
		default:
			if batch[back] = append(batch[back], t); len(batch[back]) == removalsAtOnce {
				flush(back)
			}
		}
	}
	flush(0)
	flush(1)
	return c.Err()
}

// trash moves one object to the trash.
func (t *transfer) trash() {
	if err := t.putAside(); err != nil {
		t.failedFor(err)
		return
	}
	t.succeeded(0, object.Entry{})
}

// remove removes objects that are still what the plan saw.
func (r *run) remove(all []*transfer) {
	refs := make([]object.Ref, len(all))
	for i, t := range all {
		refs[i] = object.Ref{Key: t.effect.Key, IfMark: t.effect.Over().Mark()}
	}
	to := all[0].to
	var errs []error
	r.opts.Retry.Do(r.ctx, func(int) error {
		errs = to.Remove(r.ctx, refs...)
		for _, err := range errs {
			if err != nil && place.KindOf(err) != place.Changed {
				return err // gone ones are no error, so all can be asked again
			}
		}
		return nil
	})
	for i, t := range all {
		if errs[i] != nil {
			t.failedFor(errs[i])
		} else {
			t.succeeded(0, object.Entry{})
		}
	}
}
