// Package compare tells whether an object has the same content at two places,
// and how sure that is. Plans that judge by content and proofs both ask it. It
// reads; it never writes.
package compare

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"

	"github.com/klauspost/compress/gzip"

	"lumtra/core/object"
	"lumtra/core/place"
)

// Method is how closely to look.
type Method string

// The methods, from quick to certain.
const (
	// BySize holds sizes against each other and reads nothing.
	BySize Method = "size"
	// ByStoredSum holds the checksums that stores keep against each other, or
	// against one computed from a folder's file; what neither side has a
	// checksum of is read at both.
	ByStoredSum Method = "stored-checksum"
	// ByReadBack reads both sides whole and holds every byte against the other.
	ByReadBack Method = "read-back"
)

// Methods are all methods.
var Methods = []Method{BySize, ByStoredSum, ByReadBack}

// Result is what a comparison found.
type Result struct {
	Same bool
	// Sum is a checksum of the source's content, zero where none was had.
	Sum object.Sum
	// Why says what differs.
	Why string
}

// Contents compares one object of the same key at two places. a and b are what
// the surveys saw; a side that has changed since gives a [place.Changed] error.
func Contents(ctx context.Context, m Method, pa place.Place, a *object.Entry, pb place.Place, b *object.Entry) (Result, error) {
	if a.Size != b.Size {
		return Result{Why: fmt.Sprintf("%d bytes at the source, %d at the target", a.Size, b.Size)}, nil
	}
	switch m {
	case BySize:
		return Result{Same: true}, nil
	case ByReadBack:
		return readBoth(ctx, pa, a, pb, b)
	}
	storedA, err := stored(ctx, pa, a)
	if err != nil {
		return Result{}, err
	}
	storedB, err := stored(ctx, pb, b)
	if err != nil {
		return Result{}, err
	}
	for _, s := range storedA {
		if other, ok := (object.Entry{Sums: storedB}).Sum(s.Kind); ok {
			return verdict(s, other), nil
		}
	}
	// One side has a sum, the other is read to match it.
	switch {
	case len(storedA) > 0:
		sum, err := Sum(ctx, pb, b.Key, b.Mark(), storedA[0].Kind)
		return verdict(storedA[0], sum), err
	case len(storedB) > 0:
		sum, err := Sum(ctx, pa, a.Key, a.Mark(), storedB[0].Kind)
		return verdict(sum, storedB[0]), err
	}
	return readBoth(ctx, pa, a, pb, b)
}

func verdict(a, b object.Sum) Result {
	if a != b {
		return Result{Sum: a, Why: fmt.Sprintf("%s at the source, %s at the target", a, b)}
	}
	return Result{Same: true, Sum: a}
}

// stored are the checksums a store keeps for the object; none for a folder.
func stored(ctx context.Context, p place.Place, e *object.Entry) ([]object.Sum, error) {
	if len(e.Sums) > 0 || p.Abilities().StoredSums == object.NoSum {
		return e.Sums, nil
	}
	now, err := p.Stat(ctx, object.Ref{Key: e.Key, Version: e.Version})
	if err != nil {
		return nil, err
	}
	if now.Mark() != e.Mark() {
		return nil, place.NewError(p.Name(), "compare", e.Key, place.Changed, nil)
	}
	return now.Sums, nil
}

// Sum reads an object and sums it up; mark, when not "", is the state it must
// be in.
func Sum(ctx context.Context, p place.Place, key, mark string, kind object.SumKind) (object.Sum, error) {
	r, _, err := p.Read(ctx, key, place.ReadOptions{IfMark: mark})
	if err != nil {
		return object.Sum{}, err
	}
	defer r.Close()
	h := kind.New()
	if _, err := io.CopyBuffer(onlyWriter{h}, r, make([]byte, 256<<10)); err != nil {
		return object.Sum{}, place.Wrap(p.Name(), "read", key, err)
	}
	return object.SumOf(kind, h), nil
}

type onlyWriter struct{ io.Writer }

func readBoth(ctx context.Context, pa place.Place, a *object.Entry, pb place.Place, b *object.Entry) (Result, error) {
	return readAs(ctx, pa, a, pb, b, func(r io.Reader) (io.Reader, error) { return r, nil })
}

// Gzipped compares an object with one that was made of it by compressing:
// both are read whole, the second is unpacked on the way. One that is not
// compressed at all is compared as it is.
func Gzipped(ctx context.Context, pa place.Place, a *object.Entry, pb place.Place, b *object.Entry) (Result, error) {
	return readAs(ctx, pa, a, pb, b, func(r io.Reader) (io.Reader, error) {
		head := bufio.NewReaderSize(r, 128<<10)
		if magic, err := head.Peek(2); err != nil || magic[0] != 0x1f || magic[1] != 0x8b { // RFC 1952, section 2.3.1
			return head, nil
		}
		return gzip.NewReader(head)
	})
}

func readAs(ctx context.Context, pa place.Place, a *object.Entry, pb place.Place, b *object.Entry, unpack func(io.Reader) (io.Reader, error)) (Result, error) {
	ra, _, err := pa.Read(ctx, a.Key, place.ReadOptions{IfMark: a.Mark()})
	if err != nil {
		return Result{}, err
	}
	defer ra.Close()
	packed, _, err := pb.Read(ctx, b.Key, place.ReadOptions{IfMark: b.Mark()})
	if err != nil {
		return Result{}, err
	}
	defer packed.Close()
	rb, err := unpack(packed)
	if err != nil {
		return Result{}, place.Wrap(pb.Name(), "read", b.Key, err)
	}
	h := object.CRC64NVME.New()
	bufA, bufB := make([]byte, 128<<10), make([]byte, 128<<10)
	for at := int64(0); ; {
		n, errA := io.ReadFull(ra, bufA)
		m, errB := io.ReadFull(rb, bufB)
		h.Write(bufA[:n])
		if !bytes.Equal(bufA[:n], bufB[:m]) {
			i := 0
			for i < min(n, m) && bufA[i] == bufB[i] {
				i++
			}
			return Result{Why: fmt.Sprintf("the contents part at byte %d", at+int64(i))}, nil
		}
		at += int64(n)
		for _, side := range []struct {
			p   place.Place
			err error
		}{{pa, errA}, {pb, errB}} {
			// The bare values are ReadFull's own and mean the end; a broken
			// connection comes wrapped in the place's error.
			if side.err != nil && side.err != io.EOF && side.err != io.ErrUnexpectedEOF {
				return Result{}, place.Wrap(side.p.Name(), "read", a.Key, side.err)
			}
		}
		if errA != nil {
			return Result{Same: true, Sum: object.SumOf(object.CRC64NVME, h)}, nil
		}
	}
}
