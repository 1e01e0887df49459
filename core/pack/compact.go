package pack

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"lumtra/core/cut"
	"lumtra/core/object"
	"lumtra/core/place"
)

// Rewritten is how a pack was written anew, in bytes of the object.
type Rewritten struct {
	// Copied the store took over from the old pack by itself; Sent came from here.
	Copied, Sent int64
	// Why tells in words why the store copied nothing, where it was to.
	Why string
}

// compaction writes a pack anew inside its store: what stays is copied there by ranges, and only the frames
// that hold some of what goes, and stretches too short to be a part, pass through here.
//
// No member is looked at on the way. So the store has to tell the checksum of every range it copies, those
// that go included, which it copies into parts that are never joined; all of them together, in their order,
// must come to the checksum that the old pack was written with. Before that is so nothing is replaced.
type compaction struct {
	ctx  context.Context
	p    *Pack
	to   place.Place
	key  string
	can  place.Capabilities
	opts Options
	code codec

	old  *layout // nil for a plain pack
	runs []run
	// large is from how many bytes on a stretch is copied, and piece how many are by one request.
	large, piece int64

	up *Upload
	// was sums up the old object, now the new one, as far as they have come.
	was, now sized
	new      *layout
	aside    int // parts that are not joined
	did      Rewritten
	buffer   []byte
}

// sized is the checksum of so many bytes.
type sized struct {
	sum  object.Sum
	size int64
}

// add puts bytes with a checksum behind those there are.
func (s *sized) add(sum object.Sum, size int64) {
	s.sum, s.size = object.CombineCRC64(s.sum, sum, size), s.size+size
}

// crcOf is the CRC-64/NVME of bytes.
func crcOf(data []byte) object.Sum {
	h := object.CRC64NVME.New()
	h.Write(data)
	return object.SumOf(object.CRC64NVME, h)
}

// mostCopies is how many ranges a store copies for one pack, and mostPieces into how many of them one that is
// very large is cut: an upload has 10,000 parts, and one is copied of 5 GiB at the most.
const (
	mostCopies = 1900
	mostPieces = 1100
)

// compact writes the pack anew inside its store. The error is errThrough where that cannot be.
func (p *Pack) compact(ctx context.Context, to place.Place, key string, opts Options) (Rewritten, error) {
	c := &compaction{ctx: ctx, p: p, to: to, key: key, can: place.Can(to), opts: opts, buffer: make([]byte, FrameSize)}
	r := c.can.Ranges
	if r == nil || !r.CanCopyParts() || !r.CanCopyFrom(to) || p.form == Gzip || c.can.MinPart == 0 ||
		c.can.MaxParts < 2*(mostCopies+1) {
		return c.did, fmt.Errorf("this store copies no ranges, or it is a .tar.gz: %w", errThrough)
	}
	if err := c.prepare(); err != nil {
		return c.did, err
	}
	steps, err := newByHand(ctx, opts.Dir, to, key)
	if err != nil {
		return c.did, err
	}
	defer steps.close()
	c.up = NewUpload(ctx, to, key, steps, place.WriteOptions{})
	c.up.Inside = true
	give := func(err error) (Rewritten, error) { return c.did, errors.Join(err, c.up.GiveUp()) }
	all := lying(c.runs, c.old)
	// Before each range that is copied a part may be short: there are to be numbers for twice as many.
	most := 2 * (c.size(all) + p.At().Size - p.foot.end)
	err = c.up.Begin(p, true, cut.For(0, c.can.Abilities, false), most)
	if place.KindOf(err) == place.TooLarge && err != nil {
		err = fmt.Errorf("%w: %w", err, errThrough)
	}
	if err != nil {
		return give(err)
	}
	if err := c.carry(all); err != nil {
		return give(err)
	}
	if c.was.size != p.foot.end || c.was.sum != p.Sum() {
		return give(fmt.Errorf("what the store copied has other bytes than the pack: %w", errThrough))
	}
	if err := c.close(); err != nil {
		return give(err)
	}
	if err := c.up.Finish(); err != nil {
		return give(err)
	}
	c.did.Sent = c.up.sent - c.did.Copied
	return c.did, nil
}

// prepare finds out what stays where.
func (c *compaction) prepare() (err error) {
	if c.code, err = c.p.form.codec(c.opts.Level); err != nil {
		return err
	}
	if c.p.form == Zstd {
		if c.old, err = c.p.layout(c.ctx); err != nil {
			return err
		}
		c.new = begin()
	}
	if c.runs, err = c.p.runs(c.ctx, c.old); err != nil {
		return err
	}
	c.was.sum, c.now.sum = crcOf(nil), crcOf(nil)
	return nil
}

// size settles from how many bytes on a stretch is copied, and tells how many are not.
func (c *compaction) size(all []piece) int64 {
	c.piece = max(keptPiece, c.p.foot.end/mostPieces+1)
	for c.large = 3 * c.can.MinPart; ; c.large *= 2 {
		n, left := int64(0), int64(0)
		for _, x := range all {
			if size := x.to - x.from; x.fate != partly && size >= c.large {
				n += (size + c.piece - 1) / c.piece
			} else {
				left += size
			}
		}
		if n <= mostCopies {
			return left
		}
	}
}

// carry brings all pieces over, in their order: large ones by the store, and what lies between through here.
func (c *compaction) carry(all []piece) error {
	for i := 0; i < len(all); {
		if x := all[i]; x.fate != partly && x.to-x.from >= c.large {
			if err := c.copied(x); err != nil {
				return err
			}
			i++
			continue
		}
		n := i
		for n < len(all) && (all[n].fate == partly || all[n].to-all[n].from < c.large) {
			n++
		}
		in := c.p.raw.stream(c.ctx, all[i].from, all[n-1].to)
		for ; i < n; i++ {
			if err := c.read(in, all[i]); err != nil {
				return err
			}
		}
	}
	return nil
}

// copied has the store copy a piece, into the new pack or beside it.
func (c *compaction) copied(x piece) error {
	if err := c.checkHead(x); err != nil {
		return err
	}
	at := x.from
	if n := c.can.MinPart - c.up.waiting(); x.fate == stays && n > 0 && n < c.can.MinPart {
		// A part behind which another comes must not be short: some of this piece makes it longer.
		if err := c.verbatim(c.p.raw.stream(c.ctx, at, at+n), n); err != nil {
			return err
		}
		at += n
	}
	many := (x.to - at + c.piece - 1) / c.piece
	for i, from := int64(0), at; i < many; i++ {
		to := at + (x.to-at)*(i+1)/many
		sum, err := c.span(x.fate, from, to)
		if err != nil {
			return err
		}
		c.was.add(sum, to-from)
		if x.fate == stays {
			c.now.add(sum, to-from)
			c.did.Copied += to - from
		}
		from = to
	}
	c.keepRows(x)
	return nil
}

// span has the store copy a range of the old pack.
func (c *compaction) span(fate fate, from, to int64) (object.Sum, error) {
	ref := object.Ref{Key: c.key, IfMark: c.p.At().Mark()}
	if fate == stays {
		return c.up.Copy(ref, from, to-from)
	}
	c.aside++
	return c.up.Aside(c.aside, ref, from, to-from)
}

// keepRows notes that all frames of a piece are in the new pack.
func (c *compaction) keepRows(x piece) {
	if c.old == nil || x.fate != stays {
		return
	}
	for i := x.frame; c.old.object[i] < x.to; i++ {
		c.new.add(c.old.row(i))
	}
}

// verbatim sends bytes of the old pack as they are.
func (c *compaction) verbatim(in io.Reader, size int64) error {
	for size > 0 {
		data := c.buffer[:min(size, int64(len(c.buffer)))]
		if _, err := io.ReadFull(in, data); err != nil {
			return c.p.wrong("read", "", err)
		}
		sum := crcOf(data)
		c.was.add(sum, int64(len(data)))
		if err := c.send(data, sum); err != nil {
			return err
		}
		size -= int64(len(data))
	}
	return nil
}

// send puts bytes into the new pack.
func (c *compaction) send(data []byte, sum object.Sum) error {
	c.now.add(sum, int64(len(data)))
	_, err := c.up.Write(data)
	return err
}

// read has a short piece, or a frame of which some stays, pass through here.
func (c *compaction) read(in io.Reader, x piece) error {
	if x.fate == partly {
		return c.remade(in, x)
	}
	if err := c.checkHead(x); err != nil {
		return err
	}
	if x.fate == stays {
		c.keepRows(x)
		return c.verbatim(in, x.to-x.from)
	}
	h := object.CRC64NVME.New()
	if _, err := io.CopyN(h, in, x.to-x.from); err != nil {
		return c.p.wrong("read", "", err)
	}
	c.was.add(object.SumOf(object.CRC64NVME, h), x.to-x.from)
	return nil
}

// remade makes one frame of what stays of one.
func (c *compaction) remade(in io.Reader, x piece) error {
	packed, size := c.old.row(x.frame)
	data := make([]byte, packed)
	if _, err := io.ReadFull(in, data); err != nil {
		return c.p.wrong("read", "", err)
	}
	c.was.add(crcOf(data), packed)
	raw, err := c.unpacked(data, size)
	if err != nil {
		return err
	}
	var left []byte
	from := c.old.stream[x.frame]
	for _, r := range c.runs[first(c.runs, from):] {
		if r.from >= from+size {
			break
		}
		part := raw[max(r.from-from, 0):min(r.to-from, size)]
		if r.from >= from && !isHead(part) {
			return fmt.Errorf("no member begins where one should: %w", errThrough)
		}
		if r.live {
			left = append(left, part...)
		}
	}
	if len(left) == 0 {
		return nil
	}
	out, err := c.code(nil, left, false)
	if err != nil {
		return err
	}
	c.new.add(int64(len(out)), int64(len(left)))
	return c.send(out, crcOf(out))
}

// unpacked is the stream in a frame.
func (c *compaction) unpacked(data []byte, size int64) ([]byte, error) {
	r, err := c.p.form.reader(bytes.NewReader(data))
	if err != nil {
		return nil, c.p.wrong("read", "", err)
	}
	defer r.Close()
	raw, err := io.ReadAll(io.LimitReader(r, size+1))
	if err == nil && int64(len(raw)) != size {
		err = errIndex
	}
	if err != nil {
		return nil, c.p.wrong("read", "", err)
	}
	return raw, nil
}

// checkHead makes sure that a member begins where a piece does, if a run does.
func (c *compaction) checkHead(x piece) error {
	at := x.from
	if c.old != nil {
		at = c.old.stream[x.frame]
	}
	if c.runs[first(c.runs, at)].from != at {
		return nil
	}
	var head []byte
	var err error
	if c.old == nil {
		head, err = c.p.raw.read(c.ctx, at, blockSize, 0)
	} else {
		packed, size := c.old.row(x.frame)
		if head, err = c.p.raw.read(c.ctx, x.from, packed, 0); err == nil {
			head, err = c.unpacked(head, size)
		}
	}
	if err != nil {
		return c.p.wrong("read", "", err)
	}
	if !isHead(head) {
		return fmt.Errorf("no member begins where one should: %w", errThrough)
	}
	return nil
}

// isHead tells whether a block of a tar is the head of a member: its checksum is right (POSIX.1-2001, pax,
// "ustar Interchange Format").
func isHead(block []byte) bool {
	if len(block) < blockSize || string(block[257:262]) != "ustar" {
		return false
	}
	var sum int64
	for i, b := range block[:blockSize] {
		if i >= 148 && i < 156 {
			b = ' '
		}
		sum += int64(b)
	}
	said, err := strconv.ParseInt(strings.Trim(string(block[148:156]), " \x00"), 8, 64)
	return err == nil && said == sum
}

// close makes the index of what stays.
func (c *compaction) close() error {
	foot := footer{end: c.now.size, members: c.p.foot.members, size: c.p.foot.size}
	for _, r := range c.runs {
		if r.live {
			foot.stream += r.to - r.from
		}
	}
	foot.setSum(c.now.sum)
	opts := c.opts
	opts.Form = c.p.form
	w, err := newWriter(c.ctx, c.up, opts, nil, foot, c.new.table())
	if err != nil {
		return err
	}
	if err := c.members(w); err != nil {
		w.Abandon()
		return err
	}
	_, err = w.Close()
	return err
}

// members puts those that stay into the index.
func (c *compaction) members(w *Writer) error {
	for m, err := range c.p.Walk(c.ctx, "", false) {
		if err != nil {
			return err
		}
		if err := w.folders(m.Name); err != nil {
			return err
		}
		size := m.Size
		if m.Kind != File {
			size = 0
		}
		if c.old == nil {
			m.span.at = moved(c.runs, m.span.at)
			m.span.end = m.span.at + size
		} else {
			at := c.old.stream[c.old.holdsObject(m.span.at)] + m.span.skip
			m.span = c.new.place(moved(c.runs, at), size)
		}
		m.Turn = 0
		w.record(m)
	}
	return nil
}
