package agreed

import (
	"errors"
	"io/fs"
	"time"

	"lumtra/core/catalog"
	"lumtra/core/object"
	"lumtra/core/segment"
)

const magic = "LUMTRAG1"

// Info is what a file of states says of itself.
type Info struct {
	Job string
	// Plan is the newest plan whose outcome is in it.
	Plan    int
	At      time.Time
	Objects int64
	// Doubts counts the states that are not agreed on: see [State.Doubt].
	Doubts int64 `json:",omitempty"`
	// Source and Target are the places, so that states of a job that has moved
	// on to others are not taken for theirs.
	Source, Target string
}

// State is one key's: what the object was at either side.
type State struct {
	Source, Target object.Entry
	// Doubt tells that the target's is not, or may not be, what the source's is: its
	// content was found another, or an interrupted write has left it unlooked at. Of
	// the latter the target's state is not known.
	Doubt    bool
	unlooked bool
}

// Doubts tells that what is at the target now is what the doubt is about.
func (s *State) Doubts(target *object.Entry) bool {
	return s.Doubt && target != nil && (s.unlooked || target.SameState(&s.Target))
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
func (s *States) Cursor(from string) *Cursor {
	if s == nil {
		return &Cursor{ended: true}
	}
	return &Cursor{seg: s.seg.Cursor(from)}
}

// Cursor is a walk through states. It is not for concurrent use.
type Cursor struct {
	seg     *segment.Cursor
	key     string
	state   State
	started bool
	decoded bool
	ended   bool
	err     error
}

// Next moves on and tells whether there is a state.
func (c *Cursor) Next() bool {
	if c.ended || c.err != nil {
		return false
	}
	if !c.seg.Next() {
		c.ended, c.err = true, c.seg.Err()
		return false
	}
	c.started, c.decoded, c.key = true, false, string(c.seg.Key())
	return true
}

// Key is the current key.
func (c *Cursor) Key() string { return c.key }

// State is the current state, good until the next Next; nil when it is damaged.
func (c *Cursor) State() *State {
	if c.decoded {
		return &c.state
	}
	c.state.Source.Key, c.state.Target.Key = c.key, c.key
	rest, err := catalog.DecodeEntry(c.seg.Payload(), &c.state.Source)
	if err == nil {
		rest, err = catalog.DecodeEntry(rest, &c.state.Target)
	}
	c.state.Doubt = err == nil && len(rest) > 0
	c.state.unlooked = c.state.Doubt && rest[0] == unlookedMark
	if err != nil {
		c.err = err
		return nil
	}
	c.decoded = true
	return &c.state
}

// At moves on to the key and gives its state, nil if there is none. Keys must
// be asked for in rising order.
func (c *Cursor) At(key string) *State {
	for !c.ended && c.err == nil && (!c.started || c.key < key) {
		c.Next()
	}
	if c.ended || c.err != nil || c.key != key {
		return nil
	}
	return c.State()
}

// Err is what ended the walk early.
func (c *Cursor) Err() error { return c.err }

// Writer makes a file of states.
type Writer struct {
	seg  *segment.Writer
	info Info
	buf  []byte
}

// Create starts a file of states at path, whole or not at all.
func Create(path string, info Info) (*Writer, error) {
	seg, err := segment.Create(path, magic)
	info.Objects, info.Doubts = 0, 0
	return &Writer{seg: seg, info: info}, err
}

// Add appends a key's state; keys must rise.
func (w *Writer) Add(key string, source, target *object.Entry) error {
	return w.add(key, source, target)
}

// Doubt is Add for a state that is in doubt; a target of nil is one that nobody has
// looked at.
func (w *Writer) Doubt(key string, source, target *object.Entry) error {
	w.info.Doubts++
	if target == nil {
		return w.add(key, source, &object.Entry{}, unlookedMark)
	}
	return w.add(key, source, target, doubtMark)
}

// Again is Add or Doubt, for a state as it was.
func (w *Writer) Again(key string, s *State) error {
	switch {
	case s.unlooked:
		return w.Doubt(key, &s.Source, nil)
	case s.Doubt:
		return w.Doubt(key, &s.Source, &s.Target)
	}
	return w.Add(key, &s.Source, &s.Target)
}

// What follows the two entries of a state that is in doubt.
const (
	doubtMark    = 'd'
	unlookedMark = 'u'
)

func (w *Writer) add(key string, source, target *object.Entry, mark ...byte) error {
	w.buf = w.buf[:0]
	for _, e := range []*object.Entry{source, target} {
		slim := object.Entry{Size: e.Size, Modified: e.Modified, ETag: e.ETag, Mode: e.Mode}
		w.buf = catalog.AppendEntry(w.buf, &slim)
	}
	w.info.Objects++
	return w.seg.Add(key, append(w.buf, mark...))
}

// Finish completes the file.
func (w *Writer) Finish() error { return w.seg.Finish(w.info) }

// Abandon drops an unfinished file.
func (w *Writer) Abandon() { w.seg.Abandon() }
