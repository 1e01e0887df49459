// Package compare tells whether an object has the same content at two places,
// and how sure that is. Plans that judge by content and proofs both ask it. It
// reads; it never writes.
package compare

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash"
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
	// Digest is the digest asked for, of what is at the target, if it is the same.
	Digest object.Sum
	// Why says what differs.
	Why string
}

// WithDigest is Contents that also finds a digest of what is the same: in the
// reading that the method takes, or as it is kept beside the object, or, where
// neither is, by reading it at the target.
func WithDigest(ctx context.Context, m Method, kind object.SumKind, pa place.Place, a *object.Entry, pb place.Place,
	b *object.Entry) (Result, error) {
	c := comparison{ctx: ctx, method: m, digest: kind, pa: pa, pb: pb, a: a, b: b}
	res, err := c.surely(c.contents)
	if err != nil || !res.Same || kind == object.NoSum || res.Digest.Kind == kind {
		return res, err
	}
	if res.Digest, err = c.kept(); err != nil || res.Digest.Kind == kind {
		return res, err
	}
	res.Digest, err = Sum(ctx, pb, b.Key, b.Mark(), kind)
	return res, err
}

// Contents compares one object of the same key at two places. a and b are what
// the surveys saw; a side that has changed since gives a [place.Changed] error.
func Contents(ctx context.Context, m Method, pa place.Place, a *object.Entry, pb place.Place,
	b *object.Entry) (Result, error) {
	c := comparison{ctx: ctx, method: m, pa: pa, pb: pb, a: a, b: b}
	return c.surely(c.contents)
}

// WentBad tells of an error, which stays after the usual tries, that what is at a place does not hold against what
// the place itself keeps of it: it is other content than was written there, whatever else it is.
func WentBad(err error, p place.Place) bool {
	var e *place.Error
	return errors.As(err, &e) && e.Kind == place.Corrupt && e.Place == p.Name() && !e.Guess
}

// Against holds what is at a place against the checksum of what was sent there: by the checksum
// that the place keeps, or by reading it.
func Against(ctx context.Context, sum object.Sum, p place.Place, e *object.Entry) (Result, error) {
	c := comparison{ctx: ctx, pb: p, b: e}
	return c.surely(func() (Result, error) {
		kept, err := stored(ctx, p, e)
		if err != nil {
			return Result{}, err
		}
		if there, ok := (object.Entry{Sums: kept}).Sum(sum.Kind); ok {
			return verdict(sum, there), nil
		}
		read, err := c.sums(p, e, sum.Kind)
		return verdict(sum, read[0]), err
	})
}

// Stored tells whether the source's content is what the target keeps a checksum of. The
// target is not read, and the source only where that is a file at hand: it is false
// where no checksum is kept, which tells nothing of the content.
func Stored(ctx context.Context, pa place.Place, a *object.Entry, pb place.Place, b *object.Entry) (bool, error) {
	there, err := stored(ctx, pb, b)
	if err != nil || len(there) == 0 || a.Size != b.Size {
		return false, err
	}
	here, err := stored(ctx, pa, a)
	if err != nil {
		return false, err
	}
	for _, s := range here {
		if other, ok := (object.Entry{Sums: there}).Sum(s.Kind); ok {
			return s == other, nil
		}
	}
	if !place.Can(pa).Tree {
		return false, nil
	}
	read, err := Sum(ctx, pa, a.Key, a.Mark(), there[0].Kind)
	return err == nil && read == there[0], err
}

// comparison is one object being compared.
type comparison struct {
	ctx    context.Context
	method Method
	digest object.SumKind // to be found out if it costs no reading of its own
	pa, pb place.Place
	a, b   *object.Entry
	// loose tells that content was read with nothing to hold it against: what was
	// found then may be damage on the way.
	loose bool
}

// looks is how often a difference has to show that may be damage on the way.
const looks = 3

// surely compares again what came out different, where content was read that
// nothing vouched for: it is different when it is so each time.
func (c *comparison) surely(compare func() (Result, error)) (Result, error) {
	for look := 1; ; look++ {
		c.loose = false
		res, err := compare()
		if err != nil || res.Same || !c.loose || look == looks {
			return res, err
		}
	}
}

// open opens an object's content, and notes whether anything vouches for it.
func (c *comparison) open(p place.Place, e *object.Entry) (io.ReadCloser, error) {
	r, facts, err := p.Read(c.ctx, e.Key, place.ReadOptions{IfMark: e.Mark()})
	c.loose = c.loose || facts.Unverified
	return r, err
}

func (c *comparison) contents() (Result, error) {
	if c.a.Size != c.b.Size {
		return Result{Why: fmt.Sprintf("%d bytes at the source, %d at the target", c.a.Size, c.b.Size)}, nil
	}
	switch c.method {
	case BySize:
		return Result{Same: true}, nil
	case ByReadBack:
		return c.readBoth(plain)
	}
	storedA, err := stored(c.ctx, c.pa, c.a)
	if err != nil {
		return Result{}, err
	}
	storedB, err := stored(c.ctx, c.pb, c.b)
	if err != nil {
		return Result{}, err
	}
	for _, s := range storedA {
		if other, ok := (object.Entry{Sums: storedB}).Sum(s.Kind); ok {
			res := verdict(s, other)
			res.Digest, _ = (object.Entry{Sums: storedB}).Sum(c.digest)
			return res, nil
		}
	}
	// One side has a sum, the other is read to match it.
	switch {
	case len(storedA) > 0:
		read, err := c.sums(c.pb, c.b, storedA[0].Kind, c.digest)
		res := verdict(storedA[0], read[0])
		res.Digest = read[1]
		return res, err
	case len(storedB) > 0:
		read, err := c.sums(c.pa, c.a, storedB[0].Kind)
		res := verdict(read[0], storedB[0])
		res.Digest, _ = (object.Entry{Sums: storedB}).Sum(c.digest)
		return res, err
	}
	return c.readBoth(plain)
}

// kept is the digest that the target keeps beside the object, of the content
// that it vouches for with a checksum of its own.
func (c *comparison) kept() (object.Sum, error) {
	keeper := place.Can(c.pb).Digests
	if keeper == nil {
		return object.Sum{}, nil
	}
	sums, err := stored(c.ctx, c.pb, c.b)
	if err != nil {
		return object.Sum{}, err
	}
	crc, ok := (object.Entry{Sums: sums}).Sum(object.CRC64NVME)
	if !ok {
		return object.Sum{}, nil
	}
	return keeper.KeptDigest(c.ctx, object.Ref{Key: c.b.Key, IfMark: c.b.Mark()}, c.digest, crc)
}

func verdict(a, b object.Sum) Result {
	if a != b {
		return Result{Sum: a, Why: fmt.Sprintf("%s at the source, %s at the target", a, b)}
	}
	return Result{Same: true, Sum: a}
}

// stored are the checksums a store keeps for the object; none for a folder, nor for
// a store that holds nothing against them as it arrives: such a one keeps what a
// writer said of the content, which tells nothing of the content itself.
func stored(ctx context.Context, p place.Place, e *object.Entry) ([]object.Sum, error) {
	if place.Can(p).ChecksAfter {
		return nil, nil
	}
	if len(e.Sums) > 0 || !place.Can(p).KeepsMetadata {
		return e.Sums, nil
	}
	now, err := p.Stat(ctx, object.Ref{Key: e.Key, Version: e.Version, IfMark: e.Mark()})
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
	all, err := sumUp(p, key, r, kind)
	return all[0], err
}

// sums reads an object once for two sums, the second of which may be none.
func (c *comparison) sums(p place.Place, e *object.Entry, kinds ...object.SumKind) ([2]object.Sum, error) {
	r, err := c.open(p, e)
	if err != nil {
		return [2]object.Sum{}, err
	}
	return sumUp(p, e.Key, r, kinds...)
}

// sumUp reads and closes a content.
func sumUp(p place.Place, key string, r io.ReadCloser, kinds ...object.SumKind) (all [2]object.Sum, err error) {
	defer r.Close()
	var hashes [2]hash.Hash
	var both []io.Writer
	for i, kind := range kinds {
		if kind != object.NoSum {
			hashes[i] = kind.New()
			both = append(both, hashes[i])
		}
	}
	if _, err := io.CopyBuffer(io.MultiWriter(both...), onlyReader{r}, make([]byte, 256<<10)); err != nil {
		return all, place.Wrap(p.Name(), "read", key, err)
	}
	for i, h := range hashes {
		if h != nil {
			all[i] = object.SumOf(kinds[i], h)
		}
	}
	return all, nil
}

// onlyReader hides a reader's other ways, so that the buffer is used.
type onlyReader struct{ io.Reader }

// Gzipped compares an object with one that was made of it by compressing:
// both are read whole, the second is unpacked on the way. One that is not
// compressed at all is compared as it is. A digest is found as by [WithDigest].
func Gzipped(ctx context.Context, kind object.SumKind, pa place.Place, a *object.Entry, pb place.Place,
	b *object.Entry) (Result, error) {
	c := comparison{ctx: ctx, method: ByReadBack, digest: kind, pa: pa, pb: pb, a: a, b: b}
	return c.surely(func() (Result, error) { return c.readBoth(unpacked) })
}

func unpacked(r io.Reader) (io.Reader, error) {
	raw := &noting{Reader: r}
	head := bufio.NewReaderSize(raw, 128<<10)
	if magic, err := head.Peek(2); err != nil || magic[0] != 0x1f || magic[1] != 0x8b { // RFC 1952, section 2.3.1
		return head, nil
	}
	z, err := gzip.NewReader(head)
	return &unpacker{z, raw}, raw.unpacking(err)
}

// unpacker reads what was packed, and tells what cannot be unpacked from what cannot be
// read.
type unpacker struct {
	packed *gzip.Reader
	raw    *noting
}

func (u *unpacker) Read(b []byte) (int, error) {
	n, err := u.packed.Read(b)
	return n, u.raw.unpacking(err)
}

// noting notes what ended a reader.
type noting struct {
	io.Reader
	err error
}

func (n *noting) Read(b []byte) (int, error) {
	got, err := n.Reader.Read(b)
	if err != nil {
		n.err = err
	}
	return got, err
}

// unpacking makes a [damaged] of an error in unpacking, unless it came of reading. A
// reader of gzip gives an end before its own end as io.ErrUnexpectedEOF.
func (n *noting) unpacking(err error) error {
	switch {
	case err == nil, err == io.EOF:
		return err
	case n.err != nil && n.err != io.EOF:
		return fmt.Errorf("reading what is packed: %w", n.err)
	}
	return damaged{err}
}

// damaged means that content is packed and cannot be unpacked, so that it is not what was
// packed.
type damaged struct{ error }

func plain(r io.Reader) (io.Reader, error) { return r, nil }

// readBoth reads both sides and holds them against each other, the second as it
// comes out of unpack. The digest is of what is there, packed.
func (c *comparison) readBoth(unpack func(io.Reader) (io.Reader, error)) (Result, error) {
	ra, err := c.open(c.pa, c.a)
	if err != nil {
		return Result{}, err
	}
	defer ra.Close()
	packed, err := c.open(c.pb, c.b)
	if err != nil {
		return Result{}, err
	}
	defer packed.Close()
	var digest hash.Hash
	var there io.Reader = packed
	if c.digest != object.NoSum {
		digest = c.digest.New()
		there = io.TeeReader(packed, digest)
	}
	rb, err := unpack(there)
	var bad damaged
	if errors.As(err, &bad) {
		return Result{Why: "it cannot be unpacked: " + bad.Error()}, nil
	}
	if err != nil {
		return Result{}, place.Wrap(c.pb.Name(), "read", c.b.Key, err)
	}
	res, err := c.hold(ra, rb)
	if err != nil || !res.Same || digest == nil {
		return res, err
	}
	if _, err := io.Copy(io.Discard, there); err != nil { // what unpacking did not need
		return Result{}, place.Wrap(c.pb.Name(), "read", c.b.Key, err)
	}
	res.Digest = object.SumOf(c.digest, digest)
	return res, nil
}

// hold holds two contents against each other. A reader's trouble comes before what
// it gave: a connection that broke says nothing of the content.
func (c *comparison) hold(ra, rb io.Reader) (Result, error) {
	h := object.CRC64NVME.New()
	bufA, bufB := make([]byte, 128<<10), make([]byte, 128<<10)
	why := ""
	for at := int64(0); ; {
		n, errA := io.ReadFull(ra, bufA)
		m, errB := io.ReadFull(rb, bufB)
		for _, side := range []struct {
			p   place.Place
			err error
		}{{c.pa, errA}, {c.pb, errB}} {
			// The bare values are ReadFull's own and mean the end; a broken
			// connection comes wrapped in the place's error.
			var bad damaged
			if errors.As(side.err, &bad) {
				why = cmp.Or(why, "it cannot be unpacked: "+bad.Error())
				continue
			}
			if side.err != nil && side.err != io.EOF && side.err != io.ErrUnexpectedEOF {
				return Result{}, place.Wrap(side.p.Name(), "read", c.a.Key, side.err)
			}
		}
		h.Write(bufA[:n])
		if why == "" && !bytes.Equal(bufA[:n], bufB[:m]) {
			i := 0
			for i < min(n, m) && bufA[i] == bufB[i] {
				i++
			}
			// The rest is read all the same: only at its end does a source tell
			// whether all came as it keeps it.
			why = fmt.Sprintf("the contents part at byte %d", at+int64(i))
		}
		at += int64(n)
		switch {
		case errA != nil && errB != nil && why != "":
			return Result{Why: why}, nil
		case errA != nil && why == "":
			return Result{Same: true, Sum: object.SumOf(object.CRC64NVME, h)}, nil
		}
	}
}
