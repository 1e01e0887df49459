package room

import (
	"errors"
	"io"
	"math/bits"
	"sync"
)

// Room is memory for a piece of content that is sent from there. It is used
// again for others once it is given back: megabytes that are new each time cost
// as much as sending them.
type Room struct {
	Data []byte
	mu   sync.Mutex
	out  []*roomReader
}

var rooms [48]sync.Pool // by the binary logarithm of their size

// New gives room for size bytes, which are not zero.
func New(size int64) *Room {
	class := bits.Len64(uint64(max(size, 1) - 1))
	if b, ok := rooms[class].Get().(*[]byte); ok {
		return &Room{Data: (*b)[:size]}
	}
	return &Room{Data: make([]byte, size, 1<<class)}
}

// Release gives the room back. Its readers, which a transport may hold longer
// than a request lasts, give nothing more.
func (r *Room) Release() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, x := range r.out {
		x.mu.Lock()
		x.data = nil
		x.mu.Unlock()
	}
	if b := r.Data; b != nil {
		r.Data = nil
		rooms[bits.Len64(uint64(cap(b)-1))].Put(&b)
	}
}

// Reader reads the data from its start.
func (r *Room) Reader() io.ReadSeekCloser {
	r.mu.Lock()
	defer r.mu.Unlock()
	x := &roomReader{data: r.Data, size: int64(len(r.Data))}
	r.out = append(r.out, x)
	return x
}

type roomReader struct {
	mu       sync.Mutex
	data     []byte // nil once the room is given back
	size, at int64
}

func (x *roomReader) Read(p []byte) (int, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	switch {
	case x.at >= x.size:
		return 0, io.EOF
	case x.data == nil:
		return 0, errors.New("the request is over")
	}
	n := copy(p, x.data[x.at:])
	x.at += int64(n)
	return n, nil
}

func (x *roomReader) Seek(offset int64, whence int) (int64, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	at := offset + map[int]int64{io.SeekStart: 0, io.SeekCurrent: x.at, io.SeekEnd: x.size}[whence]
	if at < 0 {
		return x.at, errors.New("before the start")
	}
	x.at = at
	return at, nil
}

// Close does nothing: the room is its maker's to give back.
func (x *roomReader) Close() error { return nil }
