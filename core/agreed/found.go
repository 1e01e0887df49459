package agreed

import (
	"fmt"
	"time"

	"lumtra/core/object"
)

// Found is an object whose content a comparison found different, as it was then.
type Found struct {
	Key            string
	Source, Target object.Entry
}

// Mark writes the states at path anew, with doubt about all that was found different:
// next gives those, by rising keys, until it has no more. Doubts of before stay unless
// whole tells that everything was compared. before is what the file holds, and may be
// nil.
func Mark(path string, before *States, info Info, whole bool, next func() (*Found, error)) error {
	if before != nil {
		info.Plan, info.At = before.Info.Plan, before.Info.At
	} else {
		info.At = time.Now()
	}
	w, err := Create(path, info)
	if err != nil {
		return err
	}
	defer w.Abandon()
	old := before.Cursor("")
	more := old.Next()
	keep := func() error {
		s := old.State()
		if s == nil {
			return old.Err()
		}
		if s.Doubt && whole { // it was compared since, and is not among those found
			return nil
		}
		return w.Again(old.Key(), s)
	}
	for {
		found, err := next()
		if err != nil {
			return err
		}
		for more && (found == nil || old.Key() < found.Key) {
			if err := keep(); err != nil {
				return err
			}
			more = old.Next()
		}
		if found == nil {
			break
		}
		if more && old.Key() == found.Key {
			more = old.Next()
		}
		if err := w.Doubt(found.Key, &found.Source, &found.Target); err != nil {
			return err
		}
	}
	if err := old.Err(); err != nil {
		return fmt.Errorf("reading what both sides were at the last run: %w", err)
	}
	return w.Finish()
}
