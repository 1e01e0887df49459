package agreed

import (
	"errors"
	"io/fs"
	"time"

	"lumtra/core/catalog"
	"lumtra/core/object"
	"lumtra/core/segment"
)

const magic = "LUMTRAG2"

// Info is what a file of states says of itself.
type Info struct {
	Job string
	// Plan is the newest plan whose outcome is in it, and Ledgers how far the runs of each had
	// come then: see [lumtra/core/ledger.Extent]. What is in it is known by these, never by the
	// times of files.
	Plan    int
	Ledgers map[int]string `json:",omitempty"`
	At      time.Time
	Objects int64
	// Source and Target are the places, so that states of a job that has moved
	// on to others are not taken for theirs.
	Source, Target string
}

// State is one key's: what the object was at either side.
type State struct {
	Source, Target object.Entry
	// Later tells that they were called the same by their size and a later time at the target alone.
	Later bool
}

// States is an open file.
type States struct {
	Info Info
	seg  *segment.Reader
}

// Open opens the states at path. Nil, without an error, means that there are
// none, or none of these two places.
func Open(path, source, target string) (*States, error) {
	s := &States{}
	var err error
	s.seg, err = segment.Open(path, magic, &s.Info)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, nil
	case err != nil:
		return nil, err
	case s.Info.Source != source || s.Info.Target != target:
		return nil, s.Close()
	}
	return s, nil
}

// Close closes the file. Closing no states is no error.
func (s *States) Close() error {
	if s == nil {
		return nil
	}
	return s.seg.Close()
}

// Cursor walks the states with keys from the given one on; of no states there
// are none.
func (s *States) Cursor(from string) *Cursor[State] {
	if s == nil {
		return &Cursor[State]{}
	}
	return &Cursor[State]{seg: s.seg.Cursor(from), decode: decodeState, lost: ErrStatesLost}
}

func decodeState(payload []byte, key string, s *State) error {
	s.Source.Key, s.Target.Key = key, key
	rest, err := catalog.DecodeEntry(payload, &s.Source)
	if err == nil {
		rest, err = catalog.DecodeEntry(rest, &s.Target)
	}
	s.Later = err == nil && len(rest) > 0
	return err
}

// Writer makes a file of states.
type Writer struct {
	seg  *segment.Writer
	info Info
	buf  []byte
}

// Create starts a file of states at path, whole or not at all.
func Create(path string, info Info) (*Writer, error) {
	seg, err := segment.Create(path, magic)
	info.Objects = 0
	return &Writer{seg: seg, info: info}, err
}

// Add appends a key's state; keys must rise.
func (w *Writer) Add(key string, s *State) error {
	w.info.Objects++
	if w.buf = appendSlim(appendSlim(w.buf[:0], &s.Source), &s.Target); s.Later {
		w.buf = append(w.buf, laterMark)
	}
	return w.seg.Add(key, w.buf)
}

// laterMark follows the entries of a state that was called the same by its time alone.
const laterMark = 'l'

// appendSlim adds what tells a state from another, and no more.
func appendSlim(b []byte, e *object.Entry) []byte {
	slim := object.Entry{Size: e.Size, Modified: e.Modified, ETag: e.ETag, Mode: e.Mode}
	return catalog.AppendEntry(b, &slim)
}

// Finish completes the file.
func (w *Writer) Finish() error { return w.seg.Finish(w.info) }

// Abandon drops an unfinished file.
func (w *Writer) Abandon() { w.seg.Abandon() }
