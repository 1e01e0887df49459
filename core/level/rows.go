package level

import (
	"encoding/binary"
	"errors"
	"os"
	"sync"
	"time"

	"github.com/klauspost/compress/s2"

	"lumtra/core/object"
)

// frameRows is how many rows are packed and unpacked together.
const frameRows = 256

// cached is how many unpacked frames are kept: more than a screen shows.
const cached = 16

// rowFile keeps rows in a file, in frames of equal numbers of rows, so that a
// row's frame follows from its number. In memory are the frames' places, the
// last frame as it grows, and a few frames that were just looked at.
type rowFile struct {
	file *os.File

	mu     sync.Mutex
	ends   []int64        // where each frame ends in the file
	tail   []object.Entry // rows not in a frame yet
	shown  int            // rows that readers may ask for
	frames map[int][]object.Entry
	recent []int // frames in order of last use
	closed bool
}

func newRowFile(dir string) (*rowFile, error) {
	f, err := dirFile(dir)
	return &rowFile{file: f, frames: map[int][]object.Entry{}}, err
}

// append adds a row; readers see it after the next flush.
func (f *rowFile) append(e *object.Entry) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.tail = append(f.tail, slim(e))
	if len(f.tail) < frameRows {
		return nil
	}
	var raw []byte
	for i := range f.tail {
		raw = encode(raw, &f.tail[i])
	}
	packed := s2.Encode(nil, raw)
	at := int64(0)
	if n := len(f.ends); n > 0 {
		at = f.ends[n-1]
	}
	if _, err := f.file.WriteAt(packed, at); err != nil {
		return err
	}
	f.ends = append(f.ends, at+int64(len(packed)))
	f.tail = make([]object.Entry, 0, frameRows)
	return nil
}

// slim is what a row shows.
func slim(e *object.Entry) object.Entry {
	return object.Entry{Key: e.Key, Kind: e.Kind, Size: e.Size, Modified: e.Modified, ETag: e.ETag, Class: e.Class}
}

// flush lets readers see all rows so far, and says how many they are.
func (f *rowFile) flush() int {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.shown = len(f.ends)*frameRows + len(f.tail)
	return f.shown
}

var errNoRow = errors.New("there is no such row")

func (f *rowFile) row(i int) (object.Entry, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if i < 0 || i >= f.shown || f.closed {
		return object.Entry{}, errNoRow
	}
	n := i / frameRows
	if n == len(f.ends) {
		return f.tail[i%frameRows], nil
	}
	frame, err := f.frame(n)
	if err != nil {
		return object.Entry{}, err
	}
	return frame[i%frameRows], nil
}

// frame unpacks a frame, or finds it among those just looked at.
func (f *rowFile) frame(n int) ([]object.Entry, error) {
	if rows, ok := f.frames[n]; ok {
		return rows, nil
	}
	rows, err := f.read(n)
	if err != nil {
		return nil, err
	}
	if len(f.recent) == cached {
		delete(f.frames, f.recent[0])
		f.recent = f.recent[1:]
	}
	f.frames[n] = rows
	f.recent = append(f.recent, n)
	return rows, nil
}

func (f *rowFile) read(n int) ([]object.Entry, error) {
	from := int64(0)
	if n > 0 {
		from = f.ends[n-1]
	}
	packed := make([]byte, f.ends[n]-from)
	if _, err := f.file.ReadAt(packed, from); err != nil {
		return nil, err
	}
	raw, err := s2.Decode(nil, packed)
	if err != nil {
		return nil, err
	}
	rows := make([]object.Entry, frameRows)
	for i := range rows {
		raw = decode(raw, &rows[i])
	}
	return rows, nil
}

// scan visits the first total rows without disturbing the cache.
func (f *rowFile) scan(total int, visit func(int, *object.Entry) bool) {
	for n := 0; n*frameRows < total; n++ {
		f.mu.Lock()
		if f.closed {
			f.mu.Unlock()
			return
		}
		var rows []object.Entry
		var err error
		if n < len(f.ends) {
			rows, err = f.read(n)
		} else {
			rows = append(rows, f.tail...)
		}
		f.mu.Unlock()
		if err != nil {
			return
		}
		for i := range rows {
			if at := n*frameRows + i; at >= total || !visit(at, &rows[i]) {
				return
			}
		}
	}
}

func (f *rowFile) close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.closed = true
	return f.file.Close()
}

// encode appends a row; decode reads one and returns what follows it. Both ends
// are this process, so nothing is checked.
func encode(raw []byte, e *object.Entry) []byte {
	raw = append(raw, byte(e.Kind))
	for _, text := range []string{e.Key, e.ETag, e.Class} {
		raw = binary.AppendUvarint(raw, uint64(len(text)))
		raw = append(raw, text...)
	}
	raw = binary.AppendVarint(raw, e.Size)
	at := int64(0)
	if !e.Modified.IsZero() {
		at = e.Modified.UnixNano()
	}
	return binary.AppendVarint(raw, at)
}

func decode(raw []byte, e *object.Entry) []byte {
	e.Kind, raw = object.Kind(raw[0]), raw[1:]
	for _, text := range []*string{&e.Key, &e.ETag, &e.Class} {
		n, used := binary.Uvarint(raw)
		raw = raw[used:]
		*text, raw = string(raw[:n]), raw[n:]
	}
	var used int
	e.Size, used = binary.Varint(raw)
	raw = raw[used:]
	at, used := binary.Varint(raw)
	if at != 0 {
		e.Modified = time.Unix(0, at)
	}
	return raw[used:]
}
