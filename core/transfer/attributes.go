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
		err := handle.MoveOne(t.run.ctx, t.side.to, over, t.effect.Aside)
		if k := place.KindOf(err); err == nil || k != place.NotFound && k != place.Changed && k != place.Exists {
			return err
		}
		return t.moved(err, t.side.to, over, t.effect.Aside)
	})
}

// moved finds out, after a move was refused, whether it was done already: then
// the object is under its new name, and the old one is gone or goes now. If not
// it returns the refusal.
func (t *transfer) moved(refused error, at place.Place, was *object.Entry, key string) error {
	var kept object.Entry
	err := t.ask(func() (err error) {
		kept, err = at.Stat(t.run.ctx, object.Ref{Key: key})
		return err
	})
	if err != nil || kept.Size != was.Size {
		return refused
	}
	gone := t.ask(func() error {
		_, err := at.Stat(t.run.ctx, object.Ref{Key: was.Key, IfMark: was.Mark()})
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
		res, err = compare.Contents(t.run.ctx, compare.ByStoredSum, at, was, at, &kept)
		return err
	})
	if err != nil || !res.Same {
		return refused
	}
	return t.ask(func() error { return at.Remove(t.run.ctx, object.Ref{Key: was.Key, IfMark: was.Mark()})[0] })
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
	if !t.run.rules.As.Tags || t.effect.Back {
		return nil
	}
	from, to := t.side.gives.Can().Tags, t.side.takes.Can().Tags
	if from == nil || to == nil {
		return nil
	}
	return t.try(func(int) error {
		tags, err := from.Tags(t.run.ctx, object.Ref{Key: t.effect.Key})
		if err != nil {
			return err
		}
		if tags, _ = place.OwnTags(tags); t.effect.Kind == plan.Meta { // the content stays, and so do its digests
			there, err := to.Tags(t.run.ctx, object.Ref{Key: t.effect.Key})
			if err != nil {
				return err
			}
			_, digests := place.OwnTags(there)
			maps.Copy(tags, digests)
		}
		return to.SetTags(t.run.ctx, object.Ref{Key: t.effect.Key}, tags)
	})
}

// attributes is the task that changes what lies beside the content, and sends none of that.
type attributes struct{ t *transfer }

func (f attributes) feed() { f.t.run.hand(f.do) }

func (f attributes) do() {
	t := f.t
	there, err := t.setAttributes()
	if err == nil {
		err = t.carryTags(&there)
	}
	if err != nil {
		t.failedFor(err)
		return
	}
	t.succeeded(0, there)
}

func (t *transfer) setAttributes() (there object.Entry, err error) {
	src, dst := t.effect.Sent(), t.effect.Over()
	can := t.side.takes.Can()
	if f := can.Attributes; f != nil {
		err = t.try(func(int) (err error) {
			there, err = f.SetAttributes(t.run.ctx, object.Ref{Key: t.effect.Key, IfMark: dst.Mark()}, src.Modified,
				uint32(src.Mode))
			return err
		})
		return there, err
	}
	w := can.Metadata
	if w == nil {
		return there, place.NewError(t.side.to.Name(), "set metadata", t.effect.Key, place.Unsupported,
			fmt.Errorf("%s", can.Lacks(place.Metadata)))
	}
	err = t.try(func(int) (err error) {
		c := place.MetadataChange{Class: t.run.rules.As.Class, Original: src.Modified, Mode: uint32(src.Mode)}
		if t.effect.Reason == plan.OtherAttributes && t.side.gives.Can().KeepsMetadata { // a store's metadata
			facts, err := t.side.from.Stat(t.run.ctx, object.Ref{Key: src.Key, Version: src.Version})
			if err != nil {
				return err
			}
			opts := t.options(facts)
			c.Original, c.Mode, c.ContentType, c.Set = opts.Original, opts.Mode, opts.ContentType, opts.Metadata
		} else if len(t.run.rules.As.Metadata) > 0 {
			c.Set = t.run.rules.As.Metadata
		}
		there, err = w.SetMetadata(t.run.ctx, object.Ref{Key: t.effect.Key, IfMark: dst.Mark()}, c)
		return err
	})
	return there, err
}
