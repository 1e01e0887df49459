package pack

import (
	"context"
	"sync"

	"lumtra/core/inorder"
)

// FrameSize is how many bytes of the stream of members are compressed together, on their own: what is
// read for the smallest member, and at most lost to damage in one place.
const FrameSize = 1 << 20

// frame is a stretch of the stream on its way out.
type frame struct {
	raw []byte
	// asIs tells that what is in it does not compress.
	asIs bool
	// packed is what it became.
	packed []byte
	room   []byte // for that
	err    error
	// begins and ends are called when the frame is out, with the offset in the object at which it
	// begins and ends.
	begins, ends []func(at int64)
}

// framer cuts the stream into frames, has several compressed at once, and hands them on in order.
type framer struct {
	form Form
	ctx  context.Context
	in   chan *frame
	now  *frame
	// loose counts the bytes of the frame at hand that do not compress.
	loose int
	// asIs tells that what comes now does not.
	asIs bool
	// fresh, when not nil, is told of each frame that is begun.
	fresh func(*frame)

	frames sync.Pool
	done   chan struct{}
	err    error // good when done is closed
	table  []byte
	out    func([]byte) error
	at     int64 // in the object, on the goroutine that hands on
}

// newFramer begins to cut at an offset of the object; out takes what comes out.
func newFramer(ctx context.Context, form Form, code codec, workers int, at int64, table []byte,
	out func([]byte) error) *framer {
	f := &framer{form: form, ctx: ctx, in: make(chan *frame), done: make(chan struct{}), out: out, at: at, table: table}
	f.frames.New = func() any { return &frame{raw: make([]byte, 0, FrameSize)} }
	go func() {
		defer close(f.done)
		f.err = inorder.Map(ctx, workers, func() (*frame, bool) { x, ok := <-f.in; return x, ok },
			func(_ context.Context, x *frame) *frame {
				if len(x.raw) > 0 {
					x.packed, x.err = code(x.room[:0], x.raw, x.asIs)
				}
				return x
			}, f.emit)
		for range f.in { // who writes is not to wait for what is over
		}
	}()
	return f
}

// emit hands a frame on.
func (f *framer) emit(x *frame) error {
	if x.err != nil {
		return x.err
	}
	for _, begins := range x.begins {
		begins(f.at)
	}
	if len(x.raw) > 0 {
		if err := f.out(x.packed); err != nil {
			return err
		}
		f.at += int64(len(x.packed))
		if f.form == Zstd {
			f.table = appendRow(f.table, int64(len(x.packed)), int64(len(x.raw)))
		}
	}
	for _, ends := range x.ends {
		ends(f.at)
	}
	if cap(x.packed) > cap(x.room) && f.form != Plain {
		x.room = x.packed
	}
	x.packed = nil
	x.raw, x.begins, x.ends = x.raw[:0], x.begins[:0], x.ends[:0]
	f.frames.Put(x)
	return nil
}

// appendRow adds a frame to a seek table.
func appendRow(table []byte, packed, raw int64) []byte {
	return le.AppendUint32(le.AppendUint32(table, uint32(packed)), uint32(raw))
}

func (f *framer) current() *frame {
	if f.now == nil {
		f.now = f.frames.Get().(*frame)
		f.now.asIs, f.loose = false, 0
		if f.fresh != nil {
			f.fresh(f.now)
		}
	}
	return f.now
}

// Write takes bytes of the stream.
func (f *framer) Write(p []byte) (n int, err error) {
	for n < len(p) {
		x := f.current()
		k := min(FrameSize-len(x.raw), len(p)-n)
		x.raw = append(x.raw, p[n:n+k]...)
		if n += k; f.asIs {
			f.loose += k
		}
		if len(x.raw) == FrameSize {
			if err := f.cut(); err != nil {
				return n, err
			}
		}
	}
	return n, nil
}

// cut ends the frame at hand.
func (f *framer) cut() error {
	x := f.now
	if x == nil {
		return nil
	}
	f.now = nil
	x.asIs = f.loose > len(x.raw)*9/10
	select {
	case f.in <- x:
		return nil
	case <-f.done:
		return f.failed()
	}
}

func (f *framer) failed() error {
	if f.err != nil {
		return f.err
	}
	return f.ctx.Err()
}

// here has a function called with the offset in the object at which the frame begins that the next
// byte lies in, and tells how much of that frame is there already.
func (f *framer) here(do func(at int64)) (skip int64) {
	x := f.current()
	x.begins = append(x.begins, do)
	return int64(len(x.raw))
}

// behind has a function called with the offset in the object behind the frame with the last byte.
func (f *framer) behind(do func(at int64)) {
	x := f.current()
	if len(x.raw) == 0 { // which begins where that one ends
		x.begins = append(x.begins, do)
		return
	}
	x.ends = append(x.ends, do)
}

// close hands out what is left, and waits until it is out.
func (f *framer) close() error {
	err := f.cut()
	close(f.in)
	<-f.done
	if err == nil {
		err = f.err
	}
	return err
}
