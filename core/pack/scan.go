package pack

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/segment"
)

// kept is what a kept index says of the pack that it is of.
type kept struct {
	Mark    string
	Totals  Totals
	End     int64
	Damaged string // why nothing behind could be read, "" where all was
	Twice   bool   // it was found damaged there twice, and so not on its way
}

// Scan finds what is in an archive that has no index, by reading all of it once, and keeps that in a
// file of this machine; kept ones are used as long as the archive is the same. What lies behind a place
// that is damaged is not found.
func Scan(ctx context.Context, from place.Place, key, path string, opts Options) (*Pack, error) {
	p, err := open(ctx, from, key, nil)
	if err != nil {
		return nil, err
	}
	var k kept
	if p.records, err = segment.Open(path, indexMagic, &k); err == nil {
		if k.Mark == p.raw.at.Mark() && (k.Damaged == "" || k.Twice) {
			return p.keptBy(&k), nil
		}
		if err := p.records.Close(); err != nil { // of another state of the archive
			return nil, place.OwnError("read", path, err)
		}
	}
	if err = p.scan(ctx, path, k, opts); err != nil {
		return nil, p.wrong("read", "", err)
	}
	if p.records, err = segment.Open(path, indexMagic, &k); err != nil {
		return nil, place.OwnError("read", path, err)
	}
	return p.keptBy(&k), nil
}

// keptBy is the pack with an index that is kept beside it.
func (p *Pack) keptBy(k *kept) *Pack {
	p.foot = footer{end: k.End, members: k.Totals.Members, size: k.Totals.Bytes, dropped: k.Totals.Dropped,
		dead: k.Totals.Dead}
	p.foots, p.close, p.damage = -1, p.records.Close, k.Damaged
	return p
}

// Indexed tells that the pack has an index of its own, and can be added to.
func (p *Pack) Indexed() bool { return p.foot.packed > 0 }

// Damage is why nothing behind a place in an archive without an index could be read; "" where all was.
func (p *Pack) Damage() string { return p.damage }

// scan reads the archive and writes what is in it into a file. was is what an earlier scan came to.
func (p *Pack) scan(ctx context.Context, path string, was kept, opts Options) error {
	s, err := newSpool(opts.Dir)
	if err != nil {
		return err
	}
	defer s.close()
	k := kept{Mark: p.raw.at.Mark(), End: p.raw.at.Size}
	in, err := p.form.reader(p.raw.stream(ctx, 0, p.raw.at.Size))
	if err == nil {
		err = errors.Join(p.scanTo(ctx, s, in, &k, opts), in.Close())
	}
	var told *place.Error
	switch {
	case errors.As(err, &told), ctx.Err() != nil:
		return err
	case err != nil:
		k.Damaged = err.Error()
		k.Twice = was == kept{Mark: k.Mark, Totals: k.Totals, End: k.End, Damaged: k.Damaged}
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil { // nothing may have been surveyed yet
		return place.OwnError("make", filepath.Dir(path), err)
	}
	w, err := segment.Create(path, indexMagic)
	if err != nil {
		return place.OwnError("write", path, err)
	}
	defer w.Abandon()
	if err := s.merged(nil, w.Add); err != nil {
		return place.OwnError("write", path, err)
	}
	return place.OwnError("write", path, w.Finish(k))
}

// counted counts what is read of a stream, and the zeros at its end.
type counted struct {
	io.Reader
	ctx   context.Context
	n     int64
	zeros int // how many it ended with, so far
}

// block is what a tar archive consists of, in bytes.
const block = 512

func (c *counted) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil { // little of an archive may become very much
		return 0, err
	}
	n, err := c.Reader.Read(p)
	c.n += int64(n)
	if c.zeros += n; n > 0 {
		if last := len(bytes.TrimRight(p[:n], "\x00")); last > 0 {
			c.zeros = n - last
		}
	}
	return n, err
}

func (p *Pack) scanTo(ctx context.Context, s *spool, in io.Reader, k *kept, opts Options) error {
	stream := &counted{Reader: in, ctx: ctx}
	seed, turns := maphash.MakeSeed(), map[uint64]int{}
	border := int64(0) // where the next header begins, as far as is known
	for r := tar.NewReader(stream); ; {
		h, err := r.Next()
		if err == io.EOF && (stream.n <= border || stream.zeros < block) { // POSIX has blocks of zeros there
			return errors.New("it ends without the mark of its end: it may have been cut off")
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		m := memberOf(h)
		if m.Name, m.Link = plainName(m.Name), plainLink(&m); m.Name == "" || m.Name == "./" { // the top itself
			continue
		}
		if CheckName(m.Name) != nil { // it is told of, and never taken out
			m.Name, m.Kind, m.Size = unsafeName(m.Name), Special, 0
		}
		id := maphash.String(seed, m.Name)
		m.Turn = turns[id]
		turns[id]++
		m.span = span{at: 0, end: p.raw.at.Size, skip: stream.n}
		if p.form == Plain {
			m.span = span{at: stream.n, end: stream.n + m.Size}
		}
		if sparseHead(h) && m.Kind == File { // its bytes are not as they lie there, and may be very many
			m.Kind = Special
		}
		if m.Kind == File {
			sums := newSums(&Content{}, opts.Digest)
			if _, err := io.Copy(sums, r); err != nil {
				return err
			}
			m.Sum, m.Digest = sums.get(&Content{})
		}
		border = (stream.n + block - 1) / block * block
		if err := addWithFolders(s, &m); err != nil {
			return err
		}
		k.Totals.Members++
		if m.Kind == File {
			k.Totals.Bytes += m.Size
		}
	}
}

// sparseHead tells that an archive has only some of a file's bytes, and says where they belong: in GNU's own form,
// or by pax records as GNU tar writes them ("GNU.sparse.…").
func sparseHead(h *tar.Header) bool {
	if h.Typeflag == tar.TypeGNUSparse {
		return true
	}
	for key := range h.PAXRecords {
		if strings.HasPrefix(key, "GNU.sparse.") {
			return true
		}
	}
	return false
}

// plainName is a name without what other programs put before it: "./".
func plainName(name string) string {
	for strings.HasPrefix(name, "./") && name != "./" {
		name = strings.TrimLeft(name[2:], "/")
	}
	return name
}

func plainLink(m *Member) string {
	if m.Kind == Hardlink {
		return plainName(m.Link)
	}
	return m.Link
}

// unsafeName is what a name that may lead away is called here: one part, that leads nowhere.
func unsafeName(name string) string {
	if len(name) > maxName/8 {
		name = fmt.Sprintf("%s… %x", name[:maxName/8], sha256.Sum256([]byte(name)))
	}
	name = strings.ReplaceAll(url.PathEscape(name), "\x00", "%00")
	if strings.Trim(name, ".") == "" {
		name = strings.ReplaceAll(name, ".", "%2E")
	}
	return name
}

// addWithFolders puts a member into the index, and the folders that it lies in.
func addWithFolders(s *spool, m *Member) error {
	top, _ := split(m.Name)
	for dir := top; dir != "" && !strings.HasPrefix(s.folder, dir+"/"); dir, _ = split(dir) {
		if err := s.add(&Member{Name: dir + "/", Kind: Folder, Mode: 0o755, Implied: true}); err != nil {
			return err
		}
	}
	s.folder = top + "/"
	return s.add(m)
}

// Check reads every member and tells of each that is not what was packed. It gives how many were read,
// and how many were wrong.
func (p *Pack) Check(ctx context.Context, wrong func(m Member, err error)) (good, bad int64, err error) {
	for m, err := range p.Walk(ctx, "", false) {
		if err != nil {
			return good, bad, err
		}
		if m.Kind != File && m.Kind != Hardlink {
			continue
		}
		err := p.checkOne(ctx, m)
		switch {
		case ctx.Err() != nil:
			return good, bad, ctx.Err()
		case err != nil:
			bad++
			wrong(m, err)
		default:
			good++
		}
	}
	return good, bad, nil
}

func (p *Pack) checkOne(ctx context.Context, m Member) error {
	r, err := p.Read(ctx, m, 0, 0)
	if err != nil {
		return err
	}
	defer r.Close()
	var digest object.Sum
	sums := newSums(&Content{Sum: m.Sum}, m.Digest.Kind)
	if _, err = io.Copy(sums, r); err == nil {
		if _, digest = sums.get(&Content{Sum: m.Sum}); digest != m.Digest {
			err = errors.New("the digest is not that of what was packed")
		}
	}
	return err
}
