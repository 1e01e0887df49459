package plan

import (
	"errors"
	"fmt"
	"strings"

	"lumtra/core/catalog"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/rule"
)

// blocked finds what can never be done, so that it is known before the run.
func (j *judging) blocked(e *Effect) bool {
	if j.blockedAt(e, e.Source, j.opts.Name, j.opts.Target) {
		return true
	}
	if j.opts.Rules.Direction == rule.TwoWay {
		return e.Target == nil && j.clashes(e, j.opts.Target.Tree, j.over, j.target, j.next.target)
	}
	// What cannot be written does not stand in the way of others.
	over := j.clash(e.Key)
	if e.Target == nil && j.clashes(e, j.opts.Target.Tree, over, j.target, j.next.target) {
		if over == "" && len(j.held) > 0 && j.held[len(j.held)-1] == e.Key {
			j.held = j.held[:len(j.held)-1]
		}
		return true
	}
	return e.Target != nil && j.clashes(e, j.opts.Target.Tree, over, nil, nil)
}

// clashes finds that a key would be an object and a folder at once at a side
// that is a tree: because over, an object, stands above it, or because objects
// lie below it there.
func (j *judging) clashes(e *Effect, tree bool, over string, at *catalog.Catalog, next *object.Entry) bool {
	switch {
	case !tree:
		return false
	case over != "":
		e.Note = fmt.Sprintf("%q is an object, so nothing can lie below it", object.Display(over))
	case at != nil && j.below(e.Key, at, next):
		e.Note = "a folder has this name there"
	default:
		return false
	}
	e.Kind, e.Reason = Blocked, NameClash
	return true
}

// below tells whether a side has keys below the key. All that comes between a
// key and those below it starts with it, so the next key mostly tells.
func (j *judging) below(key string, at *catalog.Catalog, next *object.Entry) bool {
	if j.next.known && (next == nil || !strings.HasPrefix(next.Key, key)) {
		return false
	}
	if j.next.known && next.Key[len(key)] == '/' {
		return true
	}
	c := at.Cursor(key + "/")
	return c.Next() && strings.HasPrefix(c.Entry().Key, key+"/")
}

// blockedAt finds what the receiving side cannot take.
func (j *judging) blockedAt(e *Effect, sent *object.Entry, name func(string) error, to place.Abilities) bool {
	if sent.Kind == object.Special && to.KeepsLinks {
		e.Kind, e.Reason = LeftOut, GoesAlong
		return true
	}
	if sent.Kind == object.Special {
		e.Kind, e.Reason = Blocked, SpecialFile
		return true
	}
	if name != nil {
		if err := name(e.Key); err != nil {
			e.Kind, e.Reason, e.Note = Blocked, NameNotHeld, reason(err)
			return true
		}
	}
	if m := to.MaxObject; m > 0 && sent.Size > m {
		e.Kind, e.Reason = Blocked, TooLarge
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
func (j *judging) clash(key string) string {
	if !j.opts.Target.Tree && (j.opts.Rules.Direction != rule.TwoWay || !j.opts.Source.Tree) {
		return ""
	}
	for len(j.held) > 0 {
		top := j.held[len(j.held)-1]
		if len(key) > len(top) && key[:len(top)] == top {
			break
		}
		j.held = j.held[:len(j.held)-1]
	}
	for _, h := range j.held {
		if key[len(h)] == '/' {
			return h
		}
	}
	j.held = append(j.held, key)
	return ""
}
