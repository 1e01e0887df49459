package pack

import (
	"context"
	"fmt"
	"io"
	"slices"
	"sync"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/retry"
)

// tailSize is how much of the end of a pack is read to open it, in bytes: the footer, and what tells
// where in the index which names lie, of packs of a million members.
const tailSize = 256 << 10

// aheadSize is how much is read at least where a part of the index is wanted.
const aheadSize = 256 << 10

// keptRanges is how many ranges that were read are kept.
const keptRanges = 16

// ranged is one object in one state, read by ranges. What was read last is kept.
type ranged struct {
	from place.Place
	key  string
	at   object.Entry

	mu   sync.Mutex
	kept []stretch // newest last; the first is mostly the object's end
}

type stretch struct {
	off  int64
	data []byte
}

// read gives n bytes at an offset, by one request if they are not kept.
func (r *ranged) read(ctx context.Context, off, n, ahead int64) ([]byte, error) {
	if off < 0 || n < 0 || off > r.at.Size-n {
		return nil, fmt.Errorf("%w: it names bytes that the pack does not have", errIndex)
	}
	if n == 0 {
		return nil, nil
	}
	r.mu.Lock()
	for _, s := range r.kept {
		if off >= s.off && off+n <= s.off+int64(len(s.data)) {
			r.mu.Unlock()
			return s.data[off-s.off : off-s.off+n], nil
		}
	}
	r.mu.Unlock()
	data := make([]byte, min(max(n, ahead), r.at.Size-off))
	for attempt := 1; ; attempt++ {
		err := r.fetch(ctx, off, data)
		if err == nil {
			break
		}
		if attempt >= retry.Usual.Tries || !retry.Worth(err) || !retry.Usual.Wait(ctx, attempt, err) {
			return nil, err
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.kept) >= keptRanges {
		r.kept = slices.Delete(r.kept, 1, 2)
	}
	r.kept = append(r.kept, stretch{off, data})
	return data[:n], nil
}

// fetch reads a range by one request.
func (r *ranged) fetch(ctx context.Context, off int64, data []byte) error {
	body, _, err := r.from.Read(ctx, r.key, place.ReadOptions{Offset: off, Length: int64(len(data)),
		IfMark: r.at.Mark()})
	if err != nil {
		return err
	}
	defer body.Close()
	_, err = io.ReadFull(body, data)
	return place.Wrap(r.from.Name(), "read", r.key, err)
}

// streamPiece is how much is asked for at a time where much is read in order, in bytes.
const streamPiece = 8 << 20

// stream reads from one offset to another, with a new request where one has failed.
func (r *ranged) stream(ctx context.Context, from, to int64) io.Reader {
	return &streamed{r: r, ctx: ctx, at: from, end: to}
}

type streamed struct {
	r       *ranged
	ctx     context.Context
	at, end int64
	data    []byte // of what was asked for, and is not read yet
	piece   []byte
}

// Read reads on.
func (s *streamed) Read(p []byte) (int, error) {
	if len(s.data) == 0 {
		if s.at >= s.end {
			return 0, io.EOF
		}
		if s.piece == nil {
			s.piece = make([]byte, min(streamPiece, s.end-s.at))
		}
		s.data = s.piece[:min(int64(len(s.piece)), s.end-s.at)]
		err := retry.Usual.Do(s.ctx, func(int) error { return s.r.fetch(s.ctx, s.at, s.data) })
		if err != nil {
			s.data = nil
			return 0, err
		}
		s.at += int64(len(s.data))
	}
	n := copy(p, s.data)
	s.data = s.data[n:]
	return n, nil
}

// forget has all that was read be read again: it may have been damaged on its way.
func (r *ranged) forget() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.kept = nil
}

// within is the object as an [io.ReaderAt] whose requests end with a context.
type within struct {
	*ranged
	ctx context.Context
}

// ReadAt reads what lies at an offset.
func (w within) ReadAt(p []byte, off int64) (int, error) {
	data, err := w.read(w.ctx, off, int64(len(p)), aheadSize)
	return copy(p, data), err
}
