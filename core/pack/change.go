package pack

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"lumtra/core/cut"
	"lumtra/core/object"
	"lumtra/core/place"
)

// Change makes a pack, or adds to and drops from the one that is there, by what do does with its writer;
// most is how many bytes that may be. An error of do leaves everything as it was.
func Change(ctx context.Context, to place.Place, key string, most int64, opts Options,
	do func(*Writer) error) error {
	old, err := Open(ctx, to, key)
	if place.KindOf(err) == place.NotFound && err != nil {
		old, err = nil, nil
	}
	if err != nil {
		return err
	}
	return put(ctx, opts.Dir, to, key, old, false, most, func(out io.Writer) (w *Writer, err error) {
		if old == nil {
			opts.Form, _ = FormOf(key)
			w, err = NewWriter(ctx, out, opts)
		} else {
			w, err = Extend(ctx, out, old, opts)
		}
		if err != nil {
			return nil, err
		}
		if err := do(w); err != nil {
			w.Abandon()
			return nil, err
		}
		return w, nil
	})
}

// errNothing has nothing be written.
var errNothing = errors.New("nothing to do")

// Drop marks members of a pack as gone, at once: what they take stays until [Rewrite]. Those that are
// not there are passed over; dropped tells how many were.
func Drop(ctx context.Context, to place.Place, key string, names []string, opts Options) (dropped int, err error) {
	err = Change(ctx, to, key, 0, opts, func(w *Writer) error {
		for _, name := range names {
			err := w.Drop(name)
			if err != nil && !errors.Is(err, errNotThere) {
				return err
			}
			if err == nil {
				dropped++
			}
		}
		if dropped == 0 {
			return errNothing
		}
		return nil
	})
	if errors.Is(err, errNothing) {
		err = nil
	}
	return dropped, err
}

// put has what make packs be the pack of a name. Where the store's own copy of what is kept came out
// wrong, that passes through here.
func put(ctx context.Context, dir string, to place.Place, key string, old *Pack, anew bool, most int64,
	make func(io.Writer) (*Writer, error)) error {
	steps, err := newByHand(ctx, dir, to, key)
	if err != nil {
		return err
	}
	defer steps.close()
	err = putOnce(steps, to, key, old, anew, false, most, make)
	if errors.Is(err, ErrOtherBytes) {
		err = putOnce(steps, to, key, old, anew, true, most, make)
	}
	return err
}

func putOnce(steps *byHand, to place.Place, key string, old *Pack, anew, through bool, most int64,
	make func(io.Writer) (*Writer, error)) error {
	up := NewUpload(steps.ctx, to, key, steps, place.WriteOptions{})
	up.Through = through
	give := func(err error) error { return errors.Join(err, up.GiveUp()) }
	if err := up.Begin(old, anew, cut.For(0, place.Can(to).Abilities, false), most); err != nil {
		return give(err)
	}
	w, err := make(up)
	if err != nil {
		return give(err)
	}
	if _, err := w.Close(); err != nil {
		return give(err)
	}
	if err := up.Finish(); err != nil {
		return give(err)
	}
	return nil
}

// Rewrite writes a pack anew, without what was dropped or has a newer version, and gives the room that
// took back; an archive that another program made gets an index by it, found by [Scan] with what is
// kept. Where the store copies ranges and tells their checksums, what stays is copied there, unless a level is
// asked for; else content passes through here, and is held against its checksums on the way.
func Rewrite(ctx context.Context, to place.Place, key string, opts Options, kept string) (Rewritten, error) {
	old, err := Open(ctx, to, key)
	if errors.Is(err, ErrNoIndex) && kept != "" {
		if old, err = Scan(ctx, to, key, kept, opts); err == nil && old.Damage() != "" {
			err = errors.Join(old.wrong("read", "", fmt.Errorf("what lies behind cannot be read: %s", old.Damage())),
				old.Close())
		}
	}
	if err != nil {
		return Rewritten{}, err
	}
	defer old.Close()
	why := ""
	if opts.Level == 0 && old.Indexed() && old.foot.dropped > 0 {
		done, err := old.compact(ctx, to, key, opts)
		if !errors.Is(err, errThrough) && !errors.Is(err, ErrOtherBytes) {
			return done, err
		}
		why = strings.TrimSuffix(err.Error(), ": "+errThrough.Error())
	}
	opts.Form = old.form
	if opts.Digest == object.NoSum { // of those that have none yet; the others keep theirs
		opts.Digest = object.SHA256
	}
	err = put(ctx, opts.Dir, to, key, old, true, 0, func(out io.Writer) (*Writer, error) {
		w, err := NewWriter(ctx, out, opts)
		if err != nil {
			return nil, err
		}
		if err := old.copyTo(ctx, w); err != nil {
			w.Abandon()
			return nil, err
		}
		return w, nil
	})
	if err != nil {
		return Rewritten{}, err
	}
	now, err := to.Stat(ctx, object.Ref{Key: key})
	return Rewritten{Sent: now.Size, Why: why}, err
}

// copyTo packs what is there in another pack: first what has one version, in the order of the stream,
// in one pass; then the newest of what has several.
func (p *Pack) copyTo(ctx context.Context, w *Writer) error {
	stream, err := p.form.reader(p.raw.stream(ctx, 0, p.foot.end))
	if err != nil {
		return p.wrong("read", "", err)
	}
	defer stream.Close()
	for in := tar.NewReader(stream); ; {
		h, err := in.Next()
		if err == io.EOF || errors.Is(err, io.ErrUnexpectedEOF) && h == nil { // the end of what is kept
			break
		}
		if err != nil {
			return p.wrong("read", "", err)
		}
		m, err := p.newest(ctx, plainName(h.Name))
		if err == nil && m != nil {
			err = p.resolve(ctx, m)
		}
		if err != nil {
			return err
		}
		if m == nil || m.Dropped || m.Turn > 0 {
			continue
		}
		if err := p.copyOne(w, *m, in); err != nil {
			return err
		}
	}
	return p.copyNewest(ctx, w)
}

// copyNewest packs what has several versions.
func (p *Pack) copyNewest(ctx context.Context, w *Writer) error {
	for m, err := range p.Walk(ctx, "", false) {
		if err != nil {
			return err
		}
		if m.Turn == 0 {
			continue
		}
		var body io.Reader
		if m.Kind == File && m.Size > 0 {
			r, err := p.Read(ctx, m, 0, 0)
			if err != nil {
				return err
			}
			err = p.copyOne(w, m, r)
			if err := errors.Join(err, r.Close()); err != nil {
				return err
			}
			continue
		}
		if err := p.copyOne(w, m, body); err != nil {
			return err
		}
	}
	return nil
}

// copyOne packs one member again.
func (p *Pack) copyOne(w *Writer, m Member, body io.Reader) error {
	was := m.Sum
	if m.Kind == Hardlink && !w.has(m.Link) { // what it is another name of is gone, or comes later
		m.Kind = File
		r, err := p.Read(w.ctx, m, 0, 0)
		if err != nil {
			return err
		}
		defer r.Close()
		body = r
	}
	m.Turn, m.Link = 0, linkOf(&m)
	// Which files have other names is not known of what another program made.
	m.Shared = m.Shared || m.Kind == File && !p.Indexed() && len(w.shared) < mostShared
	m, err := w.Add(m, &Content{Reader: body, Digest: m.Digest})
	if err == nil && m.Kind == File && was.Kind != object.NoSum && was != m.Sum {
		err = p.wrong("read", m.Name, fmt.Errorf("%s came, and was packed with %s: %w", m.Sum, was, errIndex))
	}
	return err
}

// mostShared is how many files of an archive that another program made may turn out to have other names;
// those of further ones become files of their own.
const mostShared = 100_000

func linkOf(m *Member) string {
	if m.Kind == File {
		return ""
	}
	return m.Link
}

// has tells that a file of a name was packed by this writer.
func (w *Writer) has(name string) bool { return w.shared[name] != nil }

// Rewrite writes the pack anew: see [Rewrite].
func (p *Place) Rewrite(ctx context.Context, opts Options) (Rewritten, error) {
	defer p.Renew()
	opts.Dir = p.keeping.Dir
	return Rewrite(ctx, p.outer, p.key, opts, p.keeping.index(p.key))
}
