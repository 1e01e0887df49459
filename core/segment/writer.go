package segment

import (
	"bufio"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"sync"

	"github.com/klauspost/compress/zstd"
)

const (
	magicSize  = 8
	frameBytes = 128 << 10 // of records, before compression
)

// frameInfo is one line of the index.
type frameInfo struct {
	First   []byte // key of the first record; bytes, since keys need not be text
	Offset  int64
	Length  int64
	Records int
}

type footer struct {
	Meta   json.RawMessage
	Frames []frameInfo
}

// mostUnpacked bounds, in bytes, what a few packed ones of a forged file can become: a
// frame has some 128 KiB, and the index of 100 million records some 50 MB.
const mostUnpacked = 256 << 20

// encoder and decoder work on whole frames, for any number of goroutines at once.
var (
	encoder = sync.OnceValues(func() (*zstd.Encoder, error) {
		return zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithWindowSize(frameBytes),
			zstd.WithLowerEncoderMem(true))
	})
	decoder = sync.OnceValues(func() (*zstd.Decoder, error) {
		return zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderLowmem(true),
			zstd.WithDecoderMaxMemory(mostUnpacked))
	})
)

// packer turns records into frames, which go to out.
type packer struct {
	zip    *zstd.Encoder
	out    func(packed []byte) error
	offset int64
	frames []frameInfo

	raw, packed []byte
	first, last []byte
	records     int
	any         bool
}

// Add appends a record. Keys must come in strictly rising byte order.
func (w *packer) Add(key string, payload []byte) error {
	if w.any && key <= string(w.last) {
		return fmt.Errorf("segment: key %q does not follow %q", key, w.last)
	}
	if w.records == 0 {
		w.first = append(w.first[:0], key...)
		w.last = w.last[:0] // every frame can be read on its own
	}
	shared := 0
	for shared < len(key) && shared < len(w.last) && key[shared] == w.last[shared] {
		shared++
	}
	w.raw = binary.AppendUvarint(w.raw, uint64(shared))
	w.raw = binary.AppendUvarint(w.raw, uint64(len(key)-shared))
	w.raw = append(w.raw, key[shared:]...)
	w.raw = binary.AppendUvarint(w.raw, uint64(len(payload)))
	w.raw = append(w.raw, payload...)
	w.last = append(w.last[:0], key...)
	w.any = true
	if w.records++; len(w.raw) >= frameBytes {
		return w.flush()
	}
	return nil
}

func (w *packer) flush() error {
	if w.records == 0 {
		return nil
	}
	w.packed = w.zip.EncodeAll(w.raw, w.packed[:0])
	w.frames = append(w.frames, frameInfo{append([]byte(nil), w.first...), w.offset, int64(len(w.packed)), w.records})
	w.offset += int64(len(w.packed))
	w.raw, w.records = w.raw[:0], 0
	return w.out(w.packed)
}

// Block is records packed apart from the file they will be part of, so that
// several goroutines can make one file. It is not for concurrent use.
type Block struct {
	packer
	body []byte
}

// NewBlock makes an empty block.
func NewBlock() (*Block, error) {
	zip, err := encoder()
	b := &Block{}
	b.zip, b.out = zip, func(packed []byte) error {
		b.body = append(b.body, packed...)
		return nil
	}
	return b, err
}

// Writer makes one file. It is not for concurrent use.
type Writer struct {
	packer
	path, magic string
	file        *os.File
	buffer      *bufio.Writer
	scratch     bool
}

// CreateScratch is [Create] of a file that need not outlive the process: it is not forced to the disk.
func CreateScratch(path, magic string) (*Writer, error) {
	w, err := Create(path, magic)
	if w != nil {
		w.scratch = true
	}
	return w, err
}

// Create starts the file path; magic is eight bytes that name the kind. Until
// Finish it has a temporary name beside it.
func Create(path, magic string) (*Writer, error) {
	if len(magic) != magicSize {
		panic("segment: a magic has 8 bytes")
	}
	zip, err := encoder()
	if err != nil {
		return nil, err
	}
	file, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+"-*")
	if err != nil {
		return nil, err
	}
	w := &Writer{path: path, magic: magic, file: file, buffer: bufio.NewWriterSize(file, 256<<10)}
	w.zip, w.offset = zip, magicSize
	w.out = func(packed []byte) error {
		_, err := w.buffer.Write(packed)
		return err
	}
	_, err = w.buffer.WriteString(magic)
	return w, err
}

// Append adds a block's records, which must follow those there are.
func (w *Writer) Append(b *Block) error {
	if err := b.flush(); err != nil || len(b.frames) == 0 {
		return err
	}
	if first := b.frames[0].First; w.any && string(first) <= string(w.last) {
		return fmt.Errorf("segment: key %q does not follow %q", first, w.last)
	}
	if err := w.flush(); err != nil {
		return err
	}
	for _, f := range b.frames {
		f.Offset += w.offset
		w.frames = append(w.frames, f)
	}
	w.offset += int64(len(b.body))
	w.last, w.any = append(w.last[:0], b.last...), true
	return w.out(b.body)
}

// Finish writes the index with meta, which must marshal to JSON, brings the
// file to the disk and gives it its name.
func (w *Writer) Finish(meta any) error {
	defer w.Abandon()
	if err := w.flush(); err != nil {
		return err
	}
	raw, err := json.Marshal(meta)
	if err != nil {
		return err
	}
	doc, err := json.Marshal(footer{raw, w.frames})
	if err != nil {
		return err
	}
	if len(doc) > mostUnpacked {
		return fmt.Errorf("an index of %d bytes, which could not be read back", len(doc))
	}
	packed := w.zip.EncodeAll(doc, nil)
	packed = binary.LittleEndian.AppendUint64(packed, uint64(w.offset))
	packed = binary.LittleEndian.AppendUint64(packed, uint64(len(packed)-8))
	if _, err := w.buffer.Write(append(packed, w.magic...)); err != nil {
		return err
	}
	if err := w.buffer.Flush(); err != nil {
		return err
	}
	if !w.scratch {
		if err := w.file.Sync(); err != nil {
			return err
		}
	}
	if err := w.file.Close(); err != nil {
		return err
	}
	return os.Rename(w.file.Name(), w.path)
}

// Abandon drops an unfinished file. After Finish it does nothing.
func (w *Writer) Abandon() {
	w.file.Close()
	os.Remove(w.file.Name()) // gone by now if it was renamed
}
