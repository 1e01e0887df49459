package agreed

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"lumtra/core/catalog"
	"lumtra/core/object"
	"lumtra/core/segment"
)

const doubtMagic = "LUMTRAQ1"

// Kind is what a doubt is about.
type Kind byte

// The kinds.
const (
	// Differs: content was held against content, and was another.
	Differs Kind = 'd'
	// Unlooked: a write to a place that is looked at only afterwards was interrupted, so
	// that nobody knows what is there.
	Unlooked Kind = 'u'
	// Unplanned: a run met something at the target that its plan had not seen.
	Unplanned Kind = 'm'
)

// Doubt is a record that a key's object at the target is not, or may not be, what the
// source's is. It stands until the object was sent again, or a proof at least as close says
// that it is the same: no size, time or agreement settles it.
type Doubt struct {
	Kind Kind
	// Source and Target are what was there when it was found; of [Unlooked] and
	// [Unplanned] ones the target is not known.
	Source, Target object.Entry
	// Proof is the number of the proof that found it; 0 for a run, of the plan Plan.
	Proof int
	// Plan is the newest plan there was: what later plans send settles it.
	Plan int
	// Method is how closely was looked, as the proof calls it.
	Method string
	At     time.Time
}

// About tells whether the doubt is known to be about what is at the target now; nil is
// nothing, which is in nobody's doubt.
func (d *Doubt) About(target *object.Entry) bool {
	switch {
	case d == nil || target == nil:
		return false
	case d.Kind == Differs:
		return target.SameState(&d.Target)
	}
	return d.Kind == Unlooked
}

// Since says in words what raised it, and when.
func (d *Doubt) Since() string {
	day := d.At.UTC().Format("2006-01-02")
	switch {
	case d.Kind == Unplanned:
		return fmt.Sprintf("the run of plan %d met something it had not planned for (%s)", d.Plan, day)
	case d.Kind == Unlooked:
		return fmt.Sprintf("a write of plan %d was interrupted (%s)", d.Plan, day)
	case d.Proof > 0:
		return fmt.Sprintf("differs since proof %d (%s)", d.Proof, day)
	}
	return fmt.Sprintf("found different by plan %d or its run (%s)", d.Plan, day)
}

// DoubtsInfo is what a file of doubts says of itself.
type DoubtsInfo struct {
	Job string
	// Proof is the newest proof whose findings are in it.
	Proof   int
	Objects int64
	// Compared is the newest plan whose contents were compared by wish and whose findings are in it.
	Compared int `json:",omitempty"`
	// Source and Target are the places, as in [Info].
	Source, Target string
}

// Doubts is an open file.
type Doubts struct {
	Info DoubtsInfo
	seg  *segment.Reader
}

// OpenDoubts opens the doubts at path. Nil, without an error, means that there are none, or
// none of these two places.
func OpenDoubts(path, source, target string) (*Doubts, error) {
	d := &Doubts{}
	var err error
	d.seg, err = segment.Open(path, doubtMagic, &d.Info)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, nil
	case err != nil:
		return nil, err
	case d.Info.Source != source || d.Info.Target != target:
		return nil, d.Close()
	}
	return d, nil
}

// Close closes the file. Closing no doubts is no error.
func (d *Doubts) Close() error {
	if d == nil {
		return nil
	}
	return d.seg.Close()
}

// Len is how many there are.
func (d *Doubts) Len() int64 {
	if d == nil {
		return 0
	}
	return d.Info.Objects
}

// Cursor walks the doubts with keys from the given one on.
func (d *Doubts) Cursor(from string) *Cursor[Doubt] {
	if d == nil {
		return &Cursor[Doubt]{}
	}
	return &Cursor[Doubt]{seg: d.seg.Cursor(from), decode: decodeDoubt, lost: ErrDoubtsLost}
}

// mostMethod bounds the name of a way of looking.
const mostMethod = 64

func decodeDoubt(payload []byte, key string, d *Doubt) error {
	*d = Doubt{Source: object.Entry{Key: key}, Target: object.Entry{Key: key}}
	bad := fmt.Errorf("a doubt about %s cannot be read", object.Display(key))
	if len(payload) == 0 {
		return bad
	}
	d.Kind, payload = Kind(payload[0]), payload[1:]
	if d.Kind != Differs && d.Kind != Unlooked && d.Kind != Unplanned {
		return bad
	}
	rest, err := catalog.DecodeEntry(payload, &d.Source)
	if err == nil && d.Kind == Differs {
		rest, err = catalog.DecodeEntry(rest, &d.Target)
	}
	if err != nil {
		return err
	}
	var numbers [4]int64
	for i := range numbers {
		n, used := binary.Varint(rest)
		if used <= 0 {
			return bad
		}
		numbers[i], rest = n, rest[used:]
	}
	d.Proof, d.Plan, d.At = int(numbers[0]), int(numbers[1]), time.Unix(numbers[2], 0).UTC()
	if n := numbers[3]; n < 0 || n > mostMethod || n != int64(len(rest)) {
		return bad
	}
	d.Method = string(rest)
	return nil
}

// DoubtsWriter makes a file of doubts.
type DoubtsWriter struct {
	seg  *segment.Writer
	info DoubtsInfo
	buf  []byte
}

// CreateDoubts starts a file of doubts at path, whole or not at all.
func CreateDoubts(path string, info DoubtsInfo) (*DoubtsWriter, error) {
	seg, err := segment.Create(path, doubtMagic)
	info.Objects = 0
	return &DoubtsWriter{seg: seg, info: info}, err
}

// Add appends a doubt; keys must rise.
func (w *DoubtsWriter) Add(key string, d *Doubt) error {
	b := appendSlim(append(w.buf[:0], byte(d.Kind)), &d.Source)
	if d.Kind == Differs {
		b = appendSlim(b, &d.Target)
	}
	method := d.Method[:min(len(d.Method), mostMethod)]
	for _, n := range []int64{int64(d.Proof), int64(d.Plan), d.At.Unix(), int64(len(method))} {
		b = binary.AppendVarint(b, n)
	}
	w.buf = append(b, method...)
	w.info.Objects++
	return w.seg.Add(key, w.buf)
}

// Finish completes the file.
func (w *DoubtsWriter) Finish() error { return w.seg.Finish(w.info) }

// Abandon drops an unfinished file.
func (w *DoubtsWriter) Abandon() { w.seg.Abandon() }
