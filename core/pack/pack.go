package pack

import (
	"context"
	"errors"
	"io"
	"iter"
	"os"
	"strings"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/segment"
)

// ErrNoIndex means that an archive was made elsewhere, or lost its end: [Scan] finds what is in it, by
// reading all of it.
var ErrNoIndex = errors.New("it has no index: it was made by another program, or lost its end")

// Pack is one that was opened, in the state in which it was then. Its methods may be called from many
// goroutines.
type Pack struct {
	form    Form
	raw     *ranged
	foot    footer
	foots   int64 // where the footer's piece begins
	records *segment.Reader
	close   func() error
	damage  string
}

// Open opens the pack that an object is. It takes three requests at the most: one finds the object, one
// reads its end, and a third one more of that, where the pack is very large. An archive without an
// index gives [ErrNoIndex].
func Open(ctx context.Context, from place.Place, key string) (*Pack, error) {
	return openListed(ctx, from, key, nil)
}

// openListed opens a pack that a listing may have told of, as it is then or not at all.
func openListed(ctx context.Context, from place.Place, key string, listed *object.Entry) (*Pack, error) {
	p, err := open(ctx, from, key, listed)
	if err != nil {
		return nil, err
	}
	if err = p.find(ctx); damaged(err) { // on its way, perhaps
		p.raw.forget()
		err = p.find(ctx)
	}
	if err != nil {
		return nil, p.wrong("open", "", err)
	}
	return p, nil
}

// find finds the footer and the index.
func (p *Pack) find(ctx context.Context) error {
	size := min(p.raw.at.Size, tailSize)
	tail, err := p.raw.read(ctx, p.raw.at.Size-size, size, 0)
	if err != nil {
		return err
	}
	var behind int64
	if p.foot, p.foots, behind = p.form.foot(tail, p.raw.at.Size); behind > 0 {
		if tail, err = p.raw.read(ctx, p.raw.at.Size-behind, behind, 0); err != nil {
			return err
		}
		p.foot, p.foots, _ = p.form.foot(tail, p.raw.at.Size)
	}
	if p.foots < 0 {
		return ErrNoIndex
	}
	p.records, err = segment.OpenAt(p.pieces(ctx), p.foot.packed, object.DisplayKey(p.raw.key), indexMagic, &struct{}{})
	return err
}

// damaged tells that what was read is not what was written.
func damaged(err error) bool {
	return errors.Is(err, segment.ErrDamaged) || errors.Is(err, ErrNoIndex) || errors.Is(err, errIndex)
}

// open finds the object, unless it is known.
func open(ctx context.Context, from place.Place, key string, known *object.Entry) (*Pack, error) {
	form, ok := FormOf(key)
	if !ok {
		return nil, place.NewError(from.Name(), "open", key, place.Unsupported,
			errors.New("a pack's name ends in .tar, .tar.zst or .tar.gz"))
	}
	if known == nil {
		e, err := from.Stat(ctx, object.Ref{Key: key})
		if err != nil {
			return nil, err
		}
		known = &e
	}
	return &Pack{form: form, raw: &ranged{from: from, key: key, at: *known}, close: func() error { return nil }}, nil
}

// pieces is the index as it can be read.
func (p *Pack) pieces(ctx context.Context) *pieces {
	return &pieces{form: p.form, from: p.foot.index, size: p.foot.packed, raw: within{p.raw, ctx}}
}

// wrong is an error of the pack as places tell theirs.
func (p *Pack) wrong(op, key string, err error) error {
	var told *place.Error
	if errors.As(err, &told) {
		return err
	}
	kind := place.Other
	switch {
	case errors.Is(err, errIndex), errors.Is(err, segment.ErrDamaged), errors.Is(err, ErrNoIndex):
		kind = place.Corrupt
	case errors.Is(err, os.ErrNotExist):
		kind = place.NotFound
	}
	return place.NewError(p.raw.from.Name()+"/"+p.raw.key+Inside, op, key, kind, err)
}

// Close lets go of what is held.
func (p *Pack) Close() error { return p.close() }

// Form is how it is compressed.
func (p *Pack) Form() Form { return p.form }

// At is the object that the pack is.
func (p *Pack) At() object.Entry { return p.raw.at }

// Kept is how many bytes of the pack stay as they are when something is added: see [Extend].
func (p *Pack) Kept() int64 { return p.foot.end }

// Sum is the CRC-64/NVME of what [Pack.Kept] counts.
func (p *Pack) Sum() object.Sum { return p.foot.kept() }

// Totals are what it holds.
func (p *Pack) Totals() Totals {
	return Totals{p.foot.members, p.foot.size, p.foot.dropped, p.foot.dead, p.raw.at.Size}
}

// readings is how often a part of the index is read before it counts as damaged.
const readings = 4

// cursor walks the index. What comes damaged is read again.
type cursor struct {
	*segment.Cursor
	p     *Pack
	ctx   context.Context
	last  string // the key it is at
	tries int
}

// cursor begins at a key.
func (p *Pack) cursor(ctx context.Context, from string) *cursor {
	c := &cursor{p: p, ctx: ctx, last: from}
	c.begin(from)
	return c
}

func (c *cursor) begin(from string) {
	records := c.p.records
	if c.p.foot.packed > 0 { // else they are kept beside the pack, not in it
		records = records.From(c.p.pieces(c.ctx))
	}
	c.Cursor = records.Cursor(from)
}

// Next moves to the next record: see [segment.Cursor.Next].
func (c *cursor) Next() bool {
	for {
		if c.Cursor.Next() {
			c.last, c.tries = string(c.Key())+"\x00", 0
			return true
		}
		if c.tries++; !damaged(c.Err()) || c.tries >= readings {
			return false
		}
		c.p.raw.forget()
		c.begin(c.last)
	}
}

// memberAt reads the record under a cursor.
func memberAt(c *cursor) (Member, error) {
	m, err := decode(c.Payload())
	if err == nil {
		m.Name, m.Turn, err = nameOf(string(c.Key()))
	}
	return m, err
}

// newest is the newest version of a name, which may be that it is dropped; nil where none ever was.
func (p *Pack) newest(ctx context.Context, name string) (*Member, error) {
	dir, base := split(name)
	from := dir + "\x00" + base + "\x00"
	c := p.cursor(ctx, from)
	if !c.Next() {
		return nil, c.Err()
	}
	if !strings.HasPrefix(string(c.Key()), from) {
		return nil, nil
	}
	m, err := memberAt(c)
	return &m, err
}

// Find is the member of a name; the error is [place.NotFound] where there is none.
func (p *Pack) Find(ctx context.Context, name string) (Member, error) {
	m, err := p.newest(ctx, name)
	if err == nil && (m == nil || m.Dropped || m.Implied) {
		err = os.ErrNotExist
	}
	if err == nil {
		err = p.resolve(ctx, m)
	}
	if err != nil {
		return Member{}, p.wrong("stat", name, err)
	}
	return *m, nil
}

// resolve gives another name of a file, in an archive that other programs made, what the file has.
func (p *Pack) resolve(ctx context.Context, m *Member) error {
	if m.Kind != Hardlink || p.Indexed() {
		return nil
	}
	at, err := p.newest(ctx, m.Link)
	switch {
	case err != nil:
		return err
	case at == nil || at.Kind != File: // it leads to nothing here
		m.Kind = Special
		return nil
	}
	m.Size, m.Sum, m.Digest, m.span = at.Size, at.Sum, at.Digest, at.span
	return nil
}

// Versions are all versions of a name, newest first, with those that say that it was dropped.
func (p *Pack) Versions(ctx context.Context, name string) (all []Member, err error) {
	dir, base := split(name)
	from := dir + "\x00" + base + "\x00"
	c := p.cursor(ctx, from)
	for c.Next() && strings.HasPrefix(string(c.Key()), from) {
		m, err := memberAt(c)
		if err != nil {
			return nil, p.wrong("list", name, err)
		}
		all = append(all, m)
	}
	if err = c.Err(); err != nil {
		err = p.wrong("list", name, err)
	}
	return all, err
}

// Walk yields what is there below a folder, "" for all, in byte order of the names, folders among them
// and implied ones left out. Shallow stops at the folders in it, and yields implied ones, too.
func (p *Pack) Walk(ctx context.Context, folder string, shallow bool) iter.Seq2[Member, error] {
	return func(yield func(Member, error) bool) {
		p.walk(ctx, strings.TrimSuffix(folder, "/"), walking{shallow, false, func(string) bool { return true }}, yield)
	}
}

// mostNested is how deep folders may lie in each other in an index, whoever wrote it.
const mostNested = 2 * maxDeep

// walking is how a pack is gone through: not into folders, with all versions and what was dropped, and into
// which folders.
type walking struct {
	shallow, states bool
	wanted          func(dir string) bool
}

// walk goes through a folder, and those below that wanted tells of. Folders lie in one another so deep
// that recursion could not hold them.
func (p *Pack) walk(ctx context.Context, folder string, how walking, yield func(Member, error) bool) {
	type level struct {
		c      *cursor
		prefix string
		last   string
	}
	begin := func(dir string) level {
		return level{c: p.cursor(ctx, dir+"\x00"), prefix: dir + "\x00"}
	}
	fail := func(err error) { yield(Member{}, p.wrong("list", folder, err)) }
	for stack := []level{begin(folder)}; len(stack) > 0; {
		l := &stack[len(stack)-1]
		if !l.c.Next() || !strings.HasPrefix(string(l.c.Key()), l.prefix) {
			if err := l.c.Err(); err != nil {
				fail(err)
				return
			}
			stack = stack[:len(stack)-1]
			continue
		}
		m, err := memberAt(l.c)
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			fail(err)
			return
		}
		if m.Name == l.last && (!how.states || m.Kind == Folder) { // an older version
			continue
		}
		l.last = m.Name
		if err := p.resolve(ctx, &m); err != nil {
			fail(err)
			return
		}
		if gone := m.Dropped && !how.states || m.Implied && !how.shallow; !gone && !yield(m, nil) {
			return
		}
		if m.Kind != Folder || how.shallow || len(stack) >= mostNested {
			continue
		}
		if dir := strings.TrimSuffix(m.Name, "/"); how.wanted(dir) {
			stack = append(stack, begin(dir))
		}
	}
}

// table is the rows of the seek table for what is kept.
func (p *Pack) table(ctx context.Context) ([]byte, error) {
	if p.form != Zstd {
		return nil, nil
	}
	before, behind := p.form.around()
	from := p.foots + before + footSize + behind + 8
	rows := p.raw.at.Size - from - seekTableTail
	raw, err := p.raw.read(ctx, from, rows, 0)
	if err != nil {
		return nil, p.wrong("read", "", err)
	}
	var at int64
	for i := 0; i+8 <= len(raw); i += 8 {
		if at == p.foot.end {
			return append([]byte(nil), raw[:i]...), nil
		}
		at += int64(le.Uint32(raw[i:]))
	}
	return nil, p.wrong("read", "", errIndex)
}

// Read reads a member's content, from an offset on, length bytes of it, 0 for all that follows. Where
// it is read whole, it is held against its checksum, and the end is an error if that differs.
func (p *Pack) Read(ctx context.Context, m Member, offset, length int64) (io.ReadCloser, error) {
	if m.Kind != File && m.Kind != Hardlink {
		return nil, p.wrong("read", m.Name, errors.New("it is no file"))
	}
	if offset < 0 || length < 0 || offset > m.Size {
		return nil, p.wrong("read", m.Name, errors.New("there is no such range"))
	}
	whole := offset == 0 && (length == 0 || length >= m.Size)
	if left := m.Size - offset; length == 0 || length > left {
		length = left
	}
	if length == 0 {
		return io.NopCloser(strings.NewReader("")), nil
	}
	s := m.span
	if p.form == Plain {
		s.at, s.skip = s.at+offset, 0
		s.end = s.at + length
	} else {
		s.narrow(offset, length)
	}
	body, _, err := p.raw.from.Read(ctx, p.raw.key,
		place.ReadOptions{Offset: s.at, Length: s.end - s.at, IfMark: p.raw.at.Mark()})
	if err != nil {
		return nil, err
	}
	c := &content{p: p, m: m, body: body, left: length, want: s.end - s.at}
	if whole && m.Sum.Kind != object.NoSum {
		c.sum = m.Sum.Kind.New()
	}
	if err := c.begin(s.skip); err != nil {
		return nil, errors.Join(c.wrong(err), c.Close())
	}
	return c, nil
}

// narrow leaves what holds a range of the content.
func (s *span) narrow(offset, length int64) {
	from := s.skip + offset
	if s.step == 0 {
		s.skip = from
		return
	}
	to := from + length
	if k := min((to+s.step-1)/s.step, int64(len(s.stops))+1); k-1 < int64(len(s.stops)) && k > 0 {
		s.end = s.stops[k-1]
	}
	if k := min(from/s.step, int64(len(s.stops))); k > 0 {
		s.at, from = s.stops[k-1], from-k*s.step
	}
	s.skip = from
}

// content is a member's content on its way out.
type content struct {
	p    *Pack
	m    Member
	body io.ReadCloser
	in   io.ReadCloser
	left int64
	want int64 // bytes of the object that are asked for
	sum  interface {
		io.Writer
		Sum([]byte) []byte
	}
}

// begin opens the frames, and passes over what lies before.
func (c *content) begin(skip int64) (err error) {
	if c.in, err = c.p.form.reader(io.LimitReader(c.body, c.want)); err != nil {
		return err
	}
	_, err = io.CopyN(io.Discard, c.in, skip)
	return err
}

// wrong tells what failed: what the store said, or that the pack is damaged there.
func (c *content) wrong(err error) error {
	var told *place.Error
	if errors.As(err, &told) {
		return err
	}
	if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return place.Wrap(c.p.raw.from.Name(), "read", c.p.raw.key, err)
	}
	return place.NewError(c.p.raw.from.Name()+"/"+c.p.raw.key+Inside, "read", c.m.Name, place.Corrupt, err)
}

// Read reads on.
func (c *content) Read(b []byte) (int, error) {
	if c.left == 0 {
		return 0, c.over()
	}
	n, err := c.in.Read(b[:min(int64(len(b)), c.left)])
	c.left -= int64(n)
	if c.sum != nil {
		c.sum.Write(b[:n])
	}
	switch {
	case c.left == 0:
		return n, c.over()
	case err == io.EOF:
		return n, c.wrong(io.ErrUnexpectedEOF)
	case err != nil:
		return n, c.wrong(err)
	}
	return n, nil
}

// over is the end, if it is the right one.
func (c *content) over() error {
	if c.sum != nil {
		if got := string(c.sum.Sum(nil)); got != c.m.Sum.Value {
			return c.wrong(errors.New("the content is not what was packed"))
		}
	}
	return io.EOF
}

// Close ends the reading.
func (c *content) Close() error {
	if c.in != nil {
		_ = c.in.Close() // it complains about what lies behind, which nobody wanted
	}
	return c.body.Close()
}
