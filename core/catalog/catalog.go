package catalog

import (
	"time"

	"lumtra/core/object"
	"lumtra/core/segment"
)

const magic = "LUMTRAC1"

// Info is what a catalog says of itself.
type Info struct {
	Place        string    // as place.Place.Name
	Began, Ended time.Time // the survey's, by this machine's clock
	Objects      int64
	Bytes        int64
	// Problems are the first of what could not be listed, in words; Missed
	// counts them all. A catalog with any is incomplete: it can show what is
	// there, never what is not.
	Problems []string `json:",omitempty"`
	Missed   int64    `json:",omitempty"`
	// Absent tells that the place was not there at all, which for a folder
	// that will be made is no problem.
	Absent bool `json:",omitempty"`
}

// Complete tells whether everything was listed.
func (i Info) Complete() bool { return i.Missed == 0 }

// Writer makes a catalog file.
type Writer struct {
	seg  *segment.Writer
	info Info
	buf  []byte
}

// Create starts a catalog at path.
func Create(path string, info Info) (*Writer, error) {
	seg, err := segment.Create(path, magic)
	if err != nil {
		return nil, err
	}
	return &Writer{seg: seg, info: info}, nil
}

// Add appends an entry; keys must rise.
func (w *Writer) Add(e *object.Entry) error {
	w.buf = AppendEntry(w.buf[:0], e)
	w.info.Objects++
	w.info.Bytes += e.Size
	return w.seg.Add(e.Key, w.buf)
}

// Finish completes the file and returns what it says of itself.
func (w *Writer) Finish() (Info, error) {
	w.info.Ended = time.Now()
	return w.info, w.seg.Finish(w.info)
}

// Abandon drops the unfinished file.
func (w *Writer) Abandon() { w.seg.Abandon() }

// Catalog is an open catalog file.
type Catalog struct {
	Info Info
	seg  *segment.Reader
}

// Open opens a finished catalog.
func Open(path string) (*Catalog, error) {
	c := &Catalog{}
	var err error
	if c.seg, err = segment.Open(path, magic, &c.Info); err != nil {
		return nil, err
	}
	return c, nil
}

// Close closes the file.
func (c *Catalog) Close() error { return c.seg.Close() }

// Splits are keys that part the catalog into stretches of some ten thousand
// entries, to be worked on apart.
func (c *Catalog) Splits() []string { return c.seg.Splits(16) }

// Cursor walks the entries with keys from the given one on.
func (c *Catalog) Cursor(from string) *Cursor { return &Cursor{seg: c.seg.Cursor(from)} }

// Cursor is a walk through a catalog. It is not for concurrent use.
type Cursor struct {
	seg   *segment.Cursor
	entry object.Entry
	err   error
}

// Next moves on and tells whether there is an entry.
func (c *Cursor) Next() bool {
	if c.err != nil || !c.seg.Next() {
		return false
	}
	c.entry.Key = string(c.seg.Key())
	_, c.err = DecodeEntry(c.seg.Payload(), &c.entry)
	return c.err == nil
}

// Entry is the current entry. It is overwritten by Next; its strings are not.
func (c *Cursor) Entry() *object.Entry { return &c.entry }

// Err is what ended the walk early.
func (c *Cursor) Err() error {
	if c.err != nil {
		return c.err
	}
	return c.seg.Err()
}
