package pack

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"sync"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// Form is how a pack is compressed; its name tells.
type Form string

// The forms.
const (
	Plain Form = "tar"     // POSIX.1-2001 pax
	Zstd  Form = "tar.zst" // frames of Zstandard (RFC 8878) that stand alone
	Gzip  Form = "tar.gz"  // members of gzip (RFC 1952)
)

// Forms are all that are written.
var Forms = []Form{Plain, Zstd, Gzip}

// FormOf is the form that a name tells of by its ending.
func FormOf(name string) (Form, bool) {
	name = strings.ToLower(name)
	for _, x := range []struct {
		ending string
		form   Form
	}{{".tar", Plain}, {".tar.zst", Zstd}, {".tzst", Zstd}, {".tar.gz", Gzip}, {".tgz", Gzip}} {
		if strings.HasSuffix(name, x.ending) && len(name) > len(x.ending) {
			return x.form, true
		}
	}
	return "", false
}

// chunkSize is how many bytes of the index lie in one piece: a skippable frame, or the extra field of
// an empty gzip member, whose largest has 65,535 bytes with its own head.
const chunkSize = 60 << 10

// The heads of what plain tools pass over.
const (
	// skippable is the magic number of a skippable frame (RFC 8878, 3.1.2); of the sixteen the last
	// but one is ours, and the last is that of seek tables.
	skippable = 0x184D2A5D
	seekTable = 0x184D2A5E
	// seekMagic ends a seek table ("Zstandard Seekable Format", 0.1.0).
	seekMagic = 0x8F92EAB1
)

// gzipHead is the head of an empty gzip member with an extra field: no time, no system.
var gzipHead = []byte{0x1f, 0x8b, 8, 4, 0, 0, 0, 0, 0, 255}

// gzipTail is an empty deflate block, with CRC and length of nothing.
var gzipTail = []byte{3, 0, 0, 0, 0, 0, 0, 0, 0, 0}

// subfield is the name of our extra subfield (RFC 1952, 2.3.1.1).
const subfield = "Lp"

// around is how many bytes lie before and behind each piece of an index.
func (f Form) around() (before, behind int64) {
	switch f {
	case Zstd:
		return 8, 0
	case Gzip:
		return int64(len(gzipHead)) + 2 + 4, int64(len(gzipTail))
	}
	return 0, 0
}

// wrap puts at most chunkSize bytes where plain tools pass over them.
func (f Form) wrap(b, chunk []byte) []byte {
	switch f {
	case Zstd:
		b = le.AppendUint32(b, skippable)
		return append(le.AppendUint32(b, uint32(len(chunk))), chunk...)
	case Gzip:
		b = le.AppendUint16(append(b, gzipHead...), uint16(len(chunk)+4))
		b = le.AppendUint16(append(b, subfield...), uint16(len(chunk)))
		return append(append(b, chunk...), gzipTail...)
	}
	return append(b, chunk...)
}

// wrapped is how many bytes an index of n bytes takes in the object.
func (f Form) wrapped(n int64) int64 {
	before, behind := f.around()
	return n + (n+chunkSize-1)/chunkSize*(before+behind)
}

// codec compresses one frame, or takes it as it is.
type codec func(dst, frame []byte, asIs bool) ([]byte, error)

// encoders are kept for the next frame: they are costly to make.
var encoders sync.Map // level → *sync.Pool

func pool(key any, make func() any) *sync.Pool {
	p, _ := encoders.LoadOrStore(key, &sync.Pool{New: make})
	return p.(*sync.Pool)
}

// codec is that of a form at a level: 1 to 9 for gzip, 1 to 22 for Zstandard, 0 for the usual one.
func (f Form) codec(level int) (codec, error) {
	switch f {
	case Plain:
		return func(_, frame []byte, _ bool) ([]byte, error) { return frame, nil }, nil
	case Zstd:
		if level < 0 || level > 22 {
			return nil, fmt.Errorf("level %d: Zstandard has 1 to 22", level)
		}
		if level == 0 {
			level = 3
		}
		return zstdCodec(zstd.EncoderLevelFromZstd(level)), nil
	case Gzip:
		if level < 0 || level > 9 {
			return nil, fmt.Errorf("level %d: gzip has 1 to 9", level)
		}
		if level == 0 {
			level = 6
		}
		return gzipCodec(level), nil
	}
	return nil, fmt.Errorf("no form %q; there are %v", f, Forms)
}

// Frame compresses at most [FrameSize] bytes as one frame of a pack at a level, behind dst.
func (f Form) Frame(dst, data []byte, level int) ([]byte, error) {
	code, err := f.codec(level)
	if err != nil {
		return nil, err
	}
	return code(dst, data, false)
}

func zstdCodec(level zstd.EncoderLevel) codec {
	make := func(level zstd.EncoderLevel) *sync.Pool {
		return pool(level, func() any {
			e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(level), zstd.WithEncoderConcurrency(1),
				zstd.WithEncoderCRC(true), zstd.WithWindowSize(FrameSize))
			if err != nil { // the options are ours
				panic(err)
			}
			return e
		})
	}
	usual, fastest := make(level), make(zstd.SpeedFastest)
	return func(dst, frame []byte, asIs bool) ([]byte, error) {
		from := usual
		if asIs {
			from = fastest // which gives up at once on what does not compress
		}
		e := from.Get().(*zstd.Encoder)
		defer from.Put(e)
		return e.EncodeAll(frame, dst), nil
	}
}

func gzipCodec(level int) codec {
	type key struct{ level int }
	make := func(level int) *sync.Pool {
		return pool(key{level}, func() any {
			w, err := gzip.NewWriterLevel(nil, level)
			if err != nil { // the level is ours
				panic(err)
			}
			return w
		})
	}
	usual, stored := make(level), make(gzip.NoCompression)
	return func(dst, frame []byte, asIs bool) ([]byte, error) {
		from := usual
		if asIs {
			from = stored
		}
		w := from.Get().(*gzip.Writer)
		defer from.Put(w)
		out := bytes.NewBuffer(dst)
		w.Reset(out)
		_, err := w.Write(frame)
		if err == nil {
			err = w.Close()
		}
		return out.Bytes(), err
	}
}

// mostWindow is how much memory a frame may ask for when it is read, in bytes: ours ask for
// [FrameSize], those of other programs for 8 MiB at their usual levels.
const mostWindow = 128 << 20

// reader reads the stream in frames.
func (f Form) reader(r io.Reader) (io.ReadCloser, error) {
	switch f {
	case Zstd:
		d, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true),
			zstd.WithDecoderMaxWindow(mostWindow))
		if err != nil {
			return nil, err
		}
		return d.IOReadCloser(), nil
	case Gzip:
		z, err := gzip.NewReader(r)
		if err != nil { // and not a nil reader that looks like one
			return nil, err
		}
		return z, nil
	}
	return io.NopCloser(r), nil
}
