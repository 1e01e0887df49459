package segment

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"sort"
)

// ErrDamaged means that a file is not, or no longer, what a Writer wrote.
var ErrDamaged = errors.New("the file is damaged or cut short")

// Reader gives out cursors over one finished file. It may be shared.
type Reader struct {
	name   string
	source io.ReaderAt
	frames []frameInfo
	count  int64
	close  func() error
}

// Open opens a file of the kind magic and reads its meta into meta.
func Open(path, magic string, meta any) (*Reader, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	r, err := openFile(file, path, magic, meta)
	if err != nil {
		file.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return r, nil
}

func openFile(file *os.File, path, magic string, meta any) (*Reader, error) {
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	head := make([]byte, magicSize)
	if _, err := file.ReadAt(head, 0); err != nil && err != io.EOF {
		return nil, err
	}
	if string(head) != magic {
		return nil, ErrDamaged
	}
	r := &Reader{name: path, source: file, close: file.Close}
	return r, r.readFooter(info.Size(), magic, meta)
}

// OpenAt opens size bytes that lie somewhere else as they do in a file; name is what errors call
// them. The source is asked for the end at once, and then for frames.
func OpenAt(source io.ReaderAt, size int64, name, magic string, meta any) (*Reader, error) {
	r := &Reader{name: name, source: source, close: func() error { return nil }}
	if err := r.readFooter(size, magic, meta); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return r, nil
}

// From is the same records read by way of another source of the same bytes, as one whose requests
// end with another context.
func (r *Reader) From(source io.ReaderAt) *Reader {
	return &Reader{name: r.name, source: source, frames: r.frames, count: r.count,
		close: func() error { return nil }}
}

// mostPacked is how large a frame, or the footer, may be: far more than a Writer makes.
const mostPacked = 1 << 28

func (r *Reader) readFooter(all int64, magic string, meta any) error {
	tail := make([]byte, 16+magicSize)
	if all < int64(magicSize+len(tail)) {
		return ErrDamaged
	}
	if _, err := r.source.ReadAt(tail, all-int64(len(tail))); err != nil {
		return err
	}
	if string(tail[16:]) != magic {
		return ErrDamaged
	}
	at, size := int64(binary.LittleEndian.Uint64(tail)), int64(binary.LittleEndian.Uint64(tail[8:]))
	if at < magicSize || size < 0 || size > mostPacked || at+size != all-int64(len(tail)) {
		return ErrDamaged
	}
	packed := make([]byte, size)
	if _, err := r.source.ReadAt(packed, at); err != nil {
		return err
	}
	unzip, err := decoder()
	if err != nil {
		return err
	}
	doc, err := unzip.DecodeAll(packed, nil)
	if err != nil {
		return fmt.Errorf("%w (%v)", ErrDamaged, err)
	}
	var f footer
	if err := json.Unmarshal(doc, &f); err != nil {
		return fmt.Errorf("%w (%v)", ErrDamaged, err)
	}
	for _, x := range f.Frames {
		if x.Offset < magicSize || x.Length < 0 || x.Length > min(at, mostPacked) || x.Offset > at-x.Length ||
			x.Records < 0 {
			return ErrDamaged
		}
	}
	r.frames = f.Frames
	for _, x := range f.Frames {
		r.count += int64(x.Records)
	}
	return json.Unmarshal(f.Meta, meta)
}

// Count is the number of records.
func (r *Reader) Count() int64 { return r.count }

// Splits are keys that part the records into stretches of about so many
// frames each: what lies before the first, between two, and behind the last.
func (r *Reader) Splits(frames int) []string {
	var keys []string
	for i := frames; i < len(r.frames); i += frames {
		keys = append(keys, string(r.frames[i].First))
	}
	return keys
}

// Close closes the file; its cursors end with an error.
func (r *Reader) Close() error { return r.close() }

// Cursor starts at the first record whose key is at least from.
func (r *Reader) Cursor(from string) *Cursor {
	// The last frame that begins at or before from, since it may reach over it.
	i := sort.Search(len(r.frames), func(i int) bool { return string(r.frames[i].First) > from })
	return &Cursor{r: r, frame: max(i-1, 0), from: from}
}

// Cursor walks the records in order. It is not for concurrent use, and holds
// nothing that needs closing.
type Cursor struct {
	r      *Reader
	frame  int
	packed []byte
	raw    []byte
	rest   []byte
	key    []byte
	value  []byte
	from   string
	err    error
}

// Next moves to the next record and tells whether there is one.
func (c *Cursor) Next() bool {
	for c.err == nil {
		if len(c.rest) == 0 {
			if c.frame >= len(c.r.frames) {
				return false
			}
			c.load()
			continue
		}
		c.record()
		if c.err == nil && string(c.key) >= c.from {
			c.from = ""
			return true
		}
	}
	return false
}

func (c *Cursor) load() {
	unzip, err := decoder()
	if err != nil {
		c.err = err
		return
	}
	f := c.r.frames[c.frame]
	c.frame++
	if int64(cap(c.packed)) < f.Length {
		c.packed = make([]byte, f.Length)
	}
	c.packed = c.packed[:f.Length]
	if _, err := c.r.source.ReadAt(c.packed, f.Offset); err != nil {
		c.err = fmt.Errorf("%s: %w", c.r.name, err)
		return
	}
	raw, err := unzip.DecodeAll(c.packed, c.raw[:0])
	if err != nil {
		c.err = fmt.Errorf("%s: %w (%v)", c.r.name, ErrDamaged, err)
		return
	}
	c.raw, c.rest, c.key = raw, raw, c.key[:0]
}

func (c *Cursor) record() {
	shared, ok1 := c.uvarint()
	size, ok2 := c.uvarint()
	if !ok1 || !ok2 || shared > uint64(len(c.key)) || size > uint64(len(c.rest)) {
		c.err = fmt.Errorf("%s: %w", c.r.name, ErrDamaged)
		return
	}
	c.key = append(c.key[:shared], c.rest[:size]...)
	c.rest = c.rest[size:]
	size, ok1 = c.uvarint()
	if !ok1 || size > uint64(len(c.rest)) {
		c.err = fmt.Errorf("%s: %w", c.r.name, ErrDamaged)
		return
	}
	c.value, c.rest = c.rest[:size], c.rest[size:]
}

func (c *Cursor) uvarint() (uint64, bool) {
	v, n := binary.Uvarint(c.rest)
	if n <= 0 {
		return 0, false
	}
	c.rest = c.rest[n:]
	return v, true
}

// Key is the current record's key. The bytes are good until the next Next.
func (c *Cursor) Key() []byte { return c.key }

// Payload is the current record's payload, good until the next Next.
func (c *Cursor) Payload() []byte { return c.value }

// Err is what ended the walk early, nil at the end of the file.
func (c *Cursor) Err() error { return c.err }
