package plan

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"time"

	"lumtra/core/catalog"
	"lumtra/core/inorder"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/segment"
)

// Options are what the plan follows from, beside the two catalogs.
type Options struct {
	Job, Print string
	Number     int
	Judge      Judge
	// Source and Target are what the places can do.
	Source, Target place.Abilities
	// Name refuses keys the target cannot hold; nil takes all.
	Name func(key string) error
	// SameContent compares two objects of equal size, for ByContent.
	SameContent func(ctx context.Context, source, target *object.Entry) (bool, error)
	// Notes are what is known of the two places that a reader should know too.
	Notes []string
	// AllowEmpty lets a source through that holds nothing.
	AllowEmpty bool
}

// Build writes the plan to path and returns it open.
func Build(ctx context.Context, path string, source, target *catalog.Catalog, opts Options) (*Plan, error) {
	seg, err := segment.Create(path, magic)
	if err != nil {
		return nil, err
	}
	defer seg.Abandon()
	b := &builder{opts: opts, merge: catalog.NewMerge(source.Cursor(""), target.Cursor("")),
		info: Info{Job: opts.Job, Number: opts.Number, Made: time.Now(), Judge: opts.Judge, Source: source.Info, Target: target.Info, Print: opts.Print, Notes: opts.Notes}}
	var buf []byte
	keep := func(e *Effect) error {
		b.info.Totals.Add(e)
		if e.Missing() {
			b.info.Left++
		}
		buf = e.append(buf[:0])
		return seg.Add(e.Key, buf)
	}
	if opts.Judge == ByContent {
		err = inorder.Map(ctx, 2*runtime.NumCPU(), b.nextCopy, b.compare, keep)
	} else {
		for n := 0; b.merge.Next() && err == nil; n++ {
			if n&1023 == 0 {
				err = ctx.Err()
			}
			if e := b.judge(); err == nil {
				err = keep(&e)
			}
		}
	}
	if err == nil {
		err = b.merge.Err()
	}
	if err != nil {
		return nil, err
	}
	if source.Info.Objects == 0 && !opts.AllowEmpty {
		b.info.Held = append(b.info.Held, fmt.Sprintf("%s holds nothing; is it the right place, and mounted?", source.Info.Place))
	}
	if err := seg.Finish(b.info); err != nil {
		return nil, fmt.Errorf("keeping the plan: %w", err)
	}
	return Open(path)
}

// builder turns pairs of entries into effects.
type builder struct {
	opts  Options
	merge *catalog.Merge
	info  Info
	// held are the keys that will exist at the target and may still turn out
	// to be a folder of the keys to come: each is the start of the next.
	held []string
}

// judge decides the current pair by what the catalogs say.
func (b *builder) judge() Effect {
	e := Effect{Source: b.merge.A, Target: b.merge.B}
	if e.Source == nil {
		e.Key, e.Kind, e.Reason = e.Target.Key, Extra, OnlyThere
		b.clash(e.Key)
		return e
	}
	e.Key = e.Source.Key
	if b.blocked(&e) {
		return e
	}
	b.decide(&e)
	return e
}

// decide tells same from changed for a key that can be sent.
func (b *builder) decide(e *Effect) {
	src, dst := e.Source, e.Target
	switch {
	case dst == nil:
		e.Kind, e.Reason = Add, NotThere
	case dst.Kind == object.Special:
		e.Kind, e.Reason, e.Note = Blocked, NameClash, "a link or special file has this name at the target"
	case src.Size != dst.Size:
		e.Kind, e.Reason = Change, OtherSize
	case b.opts.Judge == ByContent:
		e.Kind, e.Reason = Same, SameContent // until compare says otherwise
	case b.opts.Target.KeepsTimes:
		// What the target holds is the source's own time, as fine as the
		// coarser of the two can tell.
		step := max(b.opts.Source.TimeStep, b.opts.Target.TimeStep)
		if gap := src.Modified.Sub(dst.Modified).Abs(); gap == 0 || gap < step {
			e.Kind, e.Reason = Same, SameFacts
		} else {
			e.Kind, e.Reason = Change, OtherTime
		}
	case src.Modified.Add(-min(b.opts.Source.Skew, 0)).After(dst.Modified.Add(-max(b.opts.Target.Skew, 0))):
		// The target only knows when it stored the object. Rounded down, and
		// with clocks known to differ counted only where they would hide a
		// change, that errs towards sending once too often.
		e.Kind, e.Reason = Change, Newer
	default:
		e.Kind, e.Reason = Same, SameFacts
	}
}

// blocked finds what can never be done, so that it is known before the run.
func (b *builder) blocked(e *Effect) bool {
	if e.Source.Kind == object.Special {
		e.Kind, e.Reason = Blocked, SpecialFile
		return true
	}
	if b.opts.Name != nil {
		if err := b.opts.Name(e.Key); err != nil {
			e.Kind, e.Reason, e.Note = Blocked, NameNotHeld, reason(err)
			return true
		}
	}
	if m := b.opts.Target.MaxObject; m > 0 && e.Source.Size > m {
		e.Kind, e.Reason = Blocked, TooLarge
		return true
	}
	if over := b.clash(e.Key); over != "" {
		e.Kind, e.Reason, e.Note = Blocked, NameClash, fmt.Sprintf("%q is an object, so nothing can lie below it", object.Display(over))
		return true
	}
	return false
}

func reason(err error) string {
	var e *place.Error
	if errors.As(err, &e) {
		return e.Reason()
	}
	return object.Display(err.Error())
}

// clash returns the key that stands in this one's way at a target that is a
// tree, and notes this key for those to come. Keys rise, so only those that
// this one starts with can matter, and they are nested: a stack.
func (b *builder) clash(key string) string {
	if !b.opts.Target.Tree {
		return ""
	}
	for len(b.held) > 0 {
		top := b.held[len(b.held)-1]
		if len(key) > len(top) && key[:len(top)] == top {
			break
		}
		b.held = b.held[:len(b.held)-1]
	}
	for _, h := range b.held {
		if key[len(h)] == '/' {
			return h
		}
	}
	b.held = append(b.held, key)
	return ""
}

// nextCopy gives the next effect with entries of its own, since the merge's
// are overwritten while others still work on this one.
func (b *builder) nextCopy() (*Effect, bool) {
	if !b.merge.Next() {
		return nil, false
	}
	e := b.judge()
	for _, side := range []**object.Entry{&e.Source, &e.Target} {
		if *side != nil {
			own := **side
			*side = &own
		}
	}
	return &e, true
}

// compare looks at the content where size could not tell.
func (b *builder) compare(ctx context.Context, e *Effect) *Effect {
	if e.Reason != SameContent {
		return e
	}
	same, err := b.opts.SameContent(ctx, e.Source, e.Target)
	switch {
	case err != nil:
		// It may be the same or not: nobody could tell, and the plan says so.
		e.Kind, e.Reason, e.Note = Blocked, NotComparable, "comparing failed: "+reason(err)
	case !same:
		e.Kind, e.Reason = Change, OtherContent
	}
	return e
}
