package agreed

import (
	"errors"
	"fmt"
)

// Decide gives what is in doubt of a key from now on, from what was; nil is nothing, either way.
type Decide func(was *Doubt) (*Doubt, error)

// Revise writes the doubts at path anew, whole or not at all. walk calls about for each key that
// there is something to say of, by rising keys; doubts about others stay. before is what the
// file holds, and may be nil.
func Revise(path string, before *Doubts, info DoubtsInfo, walk func(about func(key string, decide Decide) error) error,
) error {
	w, err := CreateDoubts(path, info)
	if err != nil {
		return err
	}
	defer w.Abandon()
	r := &revision{w: w, old: before.Cursor("")}
	r.more = r.old.Next()
	if err := walk(r.about); err != nil {
		return err
	}
	for r.more {
		if err := r.keep(); err != nil {
			return err
		}
	}
	if err := r.old.Err(); err != nil {
		return fmt.Errorf("reading what is in doubt: %w", err)
	}
	return w.Finish()
}

// revision is one under way: what was is merged with what is said.
type revision struct {
	w    *DoubtsWriter
	old  *Cursor[Doubt]
	more bool
}

// keep takes the current doubt over.
func (r *revision) keep() error {
	d := r.old.Value()
	if d == nil {
		return r.old.Err()
	}
	err := r.w.Add(r.old.Key(), d)
	r.more = r.old.Next()
	return err
}

func (r *revision) about(key string, decide Decide) error {
	for r.more && r.old.Key() < key {
		if err := r.keep(); err != nil {
			return err
		}
	}
	var was *Doubt
	if r.more && r.old.Key() == key {
		if was = r.old.Value(); was == nil {
			return r.old.Err()
		}
	}
	now, err := decide(was)
	if err == nil && now != nil {
		err = r.w.Add(key, now)
	}
	if err == nil && was != nil {
		r.more = r.old.Next()
	}
	return errors.Join(err, r.old.Err())
}

// Proven decides what a proof leaves in doubt of a key. found is not nil where it was found
// different; same tells that the proof found it the same. What the proof does not look at as
// closely as whoever raised the doubt, as closely tells, it does not settle.
func Proven(found *Doubt, same bool, closely func(was *Doubt) bool) Decide {
	return func(was *Doubt) (*Doubt, error) {
		switch {
		case found != nil:
			if was != nil && was.Kind == Differs {
				found.Proof, found.At = was.Proof, was.At // it differs since then
				if !closely(was) {
					found.Method = was.Method
				}
			}
			return found, nil
		case was != nil && same && closely(was):
			return nil, nil
		}
		return was, nil
	}
}
