package proof

import (
	"cmp"
	"errors"

	"lumtra/core/agreed"
	"lumtra/core/catalog"
	"lumtra/core/object"
)

// Planned are both places as the plan knew them whose run is proven. A source that people go on
// writing to is never wholly at the target; what a run can be held to is what its plan knew.
type Planned struct {
	Source, Target *catalog.Catalog
	// Left is how the run left both sides, of a plan that goes both ways; nil for one that goes one way.
	Left *agreed.Memory
}

// Close closes all of it.
func (p *Planned) Close() error {
	return errors.Join(p.Source.Close(), p.Target.Close(), p.Left.Close())
}

// known walks through a catalog beside a merge, whose keys rise.
type known struct {
	cursor *catalog.Cursor
	there  bool
}

func knownOf(c *catalog.Catalog) *known {
	k := &known{cursor: c.Cursor("")}
	k.there = k.cursor.Next()
	return k
}

// at is what the catalog has under a key; nil for nothing. It is overwritten by the next call.
func (k *known) at(key string) *object.Entry {
	for k.there && k.cursor.Entry().Key < key {
		k.there = k.cursor.Next()
	}
	if k.there && k.cursor.Entry().Key == key {
		return k.cursor.Entry()
	}
	return nil
}

// err is what ended the walk early.
func (k *known) err() error {
	if k == nil {
		return nil
	}
	return k.cursor.Err()
}

// leftErr is what ended the walk through what a run left.
func (c *comparing) leftErr() error {
	if c.left == nil {
		return nil
	}
	return errors.Join(c.left.Err(), c.doubts.Err())
}

// since tells of a key why it is none of the plan's affair: what happened to it after the plan was made.
// "" is for what the plan knew as it is, and where nothing is known of a plan.
//
// What is at the target alone was written there since only if neither place had it: what the source had,
// the run may have copied before it went from there. An object that went from the target is not forgiven,
// whoever took it.
func (c *comparing) since(a, b *object.Entry) string {
	switch {
	case c.knewSource == nil:
		return ""
	case c.left != nil:
		return c.sinceEither(a, b)
	}
	if a != nil {
		switch was := c.knewSource.at(a.Key); {
		case was == nil:
			return "came to the source after the plan was made"
		case !was.SameState(a):
			return "was changed at the source after the plan was made"
		}
		return ""
	}
	if !c.opts.Both {
		return ""
	}
	if c.knewSource.at(b.Key) != nil {
		return "went from the source after the plan was made"
	}
	if was := c.knewTarget.at(b.Key); was == nil || !was.SameState(b) {
		return "came to the target after the plan was made"
	}
	return ""
}

// sinceEither is since for a plan that goes both ways. Its run writes to both sides: what it left there, and what
// the plan knew, is its affair, and any other state came about later.
func (c *comparing) sinceEither(a, b *object.Entry) string {
	key := ""
	if a != nil {
		key = a.Key
	} else {
		key = b.Key
	}
	hadA, hadB := c.knewSource.at(key), c.knewTarget.at(key)
	left := c.left.At(key)
	if c.doubts.At(key) != nil { // what the run left is not known: it is its affair
		return ""
	}
	if left == nil {
		return cmp.Or(changed("source", hadA, nil, a), changed("target", hadB, nil, b))
	}
	return cmp.Or(changed("source", hadA, &left.Source, a), changed("target", hadB, &left.Target, b))
}

// changed tells what happened at a side after the plan was made: had is what the plan knew, left what the run left
// and now what is there, each nil for nothing. What the run itself wrote and is there no more is not forgiven.
func changed(side string, had, left, now *object.Entry) string {
	what := "was changed at"
	switch {
	case now == nil:
		if had == nil || left == nil || !left.SameState(had) {
			return ""
		}
		what = "went from"
	case had != nil && now.SameState(had), left != nil && now.SameState(left):
		return ""
	case had == nil && left == nil:
		what = "came to"
	}
	return what + " the " + side + " after the plan was made"
}
