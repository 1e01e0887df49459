package pack

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"

	"lumtra/core/object"
	"lumtra/core/segment"
)

// Options say how a pack is made.
type Options struct {
	Form Form
	// Level is how hard to compress: see [Form]; 0 for the usual.
	Level int
	// Workers is how many frames are compressed at once; 0 for as many as there are processors. The
	// bytes are the same.
	Workers int
	// Digest is computed of each member beside its CRC; NoSum for none.
	Digest object.SumKind
	// AsIs tells of names whose content does not compress; nil where none is known.
	AsIs func(name string) bool
	// Dir is where the records of the index are kept until it is whole, and what a change has begun in the store is
	// noted; with "" the first is where temporary files are, and the second nowhere.
	Dir string
}

// Content is a member's, as [Writer.Add] takes it: what is read of it is all there is.
type Content struct {
	io.Reader
	// Data is all of it where it is in memory; Reader is nil then.
	Data []byte
	// Sum and Digest are known where the content was read before; zero where not.
	Sum, Digest object.Sum
}

// Totals are what a pack holds.
type Totals struct {
	// Members and Bytes are there, Dropped and Dead are there no more and still take room.
	Members, Bytes, Dropped, Dead int64
	// Size is the whole object's.
	Size int64
}

// Writer makes a pack as a stream: each byte goes out once, in order. It is not for concurrent use.
type Writer struct {
	opts   Options
	form   Form
	out    io.Writer
	ctx    context.Context
	cancel context.CancelFunc
	frames *framer
	tar    *tar.Writer
	// stream counts the bytes of the stream of members, from the pack's start on.
	stream int64
	// base is how much of the object was there before.
	base int64

	old    *Pack
	foot   footer
	shared map[string]*span // of files that may have other names
	folder string           // the last one known to be in the index, with "/" at its end
	failed error
	buffer []byte

	mu    sync.Mutex // spool and bad are also used where frames come out
	spool *spool
	bad   error
	sum   hash.Hash
	size  int64 // of the object so far
}

// NewWriter begins a pack that goes to out.
func NewWriter(ctx context.Context, out io.Writer, opts Options) (*Writer, error) {
	return newWriter(ctx, out, opts, nil, footer{}, nil)
}

// Extend begins an addition to a pack: what it makes is what comes behind the first [Pack.Kept] bytes
// of that, which the caller puts before it.
func Extend(ctx context.Context, out io.Writer, old *Pack, opts Options) (*Writer, error) {
	opts.Form = old.form
	table, err := old.table(ctx)
	if err != nil {
		return nil, err
	}
	return newWriter(ctx, out, opts, old, old.foot, table)
}

// newWriter begins behind what foot tells of, whose frames have rows in table; old has the index of that,
// nil where it is made anew.
func newWriter(ctx context.Context, out io.Writer, opts Options, old *Pack, foot footer, table []byte) (*Writer,
	error) {
	code, err := opts.Form.codec(opts.Level)
	if err != nil {
		return nil, err
	}
	if opts.Workers == 0 {
		opts.Workers = runtime.GOMAXPROCS(0)
	}
	w := &Writer{opts: opts, form: opts.Form, out: out, old: old, sum: object.CRC64NVME.New()}
	if w.spool, err = newSpool(opts.Dir); err != nil {
		return nil, err
	}
	w.foot, w.base, w.size, w.stream = foot, foot.end, foot.end, foot.stream
	w.ctx, w.cancel = context.WithCancel(ctx)
	w.frames = newFramer(w.ctx, opts.Form, code, opts.Workers, w.size, table, w.emit)
	w.tar = tar.NewWriter(counting{w})
	return w, nil
}

// counting counts the stream of members.
type counting struct{ w *Writer }

func (c counting) Write(p []byte) (int, error) {
	n, err := c.w.frames.Write(p)
	c.w.stream += int64(n)
	return n, err
}

// emit writes bytes of the object.
func (w *Writer) emit(p []byte) error {
	w.sum.Write(p)
	n, err := w.out.Write(p)
	w.size += int64(n)
	return err
}

// Add puts a member behind those there are; content is nil for all but files. One of a name that is
// there already is its next version. The member that comes back has its sums.
//
// When content fails, or is not as long as was said, the pack can not go on: Close tells of it.
func (w *Writer) Add(m Member, content *Content) (Member, error) {
	if w.failed != nil {
		return m, w.failed
	}
	h, err := m.header()
	if err != nil {
		return m, err
	}
	if err := w.folders(m.Name); err != nil {
		return m, err
	}
	if m.Turn, err = w.turn(m.Name); err != nil {
		return m, err
	}
	w.frames.asIs = w.opts.AsIs != nil && w.opts.AsIs(m.Name)
	if m.Kind != File {
		h.Size = 0
	}
	if err = w.tar.WriteHeader(h); err == nil {
		err = w.content(&m, content)
	}
	w.frames.asIs = false
	if err != nil {
		w.failed = fmt.Errorf("%s: %w", object.DisplayKey(m.Name), err)
		return m, w.failed
	}
	w.foot.members++
	w.foot.size += m.Size
	return m, nil
}

// content writes a member's content, and has its record made once its frames are out.
func (w *Writer) content(m *Member, content *Content) error {
	if m.Kind == Hardlink {
		return w.link(m)
	}
	done := w.locate(m)
	if m.Kind == File && m.Size > 0 {
		if content == nil {
			return errors.New("a file needs its content")
		}
		sums := newSums(content, w.opts.Digest)
		n, err := w.copy(content, m.Size, sums)
		if err == nil && n < m.Size {
			err = io.ErrUnexpectedEOF
		}
		if err != nil {
			return err
		}
		m.Sum, m.Digest = sums.get(content)
	} else if m.Kind == File {
		m.Sum, m.Digest = newSums(&Content{}, w.opts.Digest).get(&Content{})
	}
	done(*m)
	return w.tar.Flush()
}

// copy writes at most size bytes of a content, and sums them up.
func (w *Writer) copy(content *Content, size int64, sums *sums) (int64, error) {
	if content.Reader == nil {
		data := content.Data[:min(int64(len(content.Data)), size)]
		if _, err := sums.Write(data); err != nil {
			return 0, err
		}
		n, err := w.tar.Write(data)
		return int64(n), err
	}
	if w.buffer == nil {
		w.buffer = make([]byte, 128<<10)
	}
	// Hidden: else the buffer would not be used.
	to := struct{ io.Writer }{w.tar}
	return io.CopyBuffer(to, io.TeeReader(io.LimitReader(content.Reader, size), sums), w.buffer)
}

// link has another name of a file lead to the content of that.
func (w *Writer) link(m *Member) error {
	at := w.shared[m.Link]
	if at == nil && w.old != nil {
		was, err := w.old.Find(w.ctx, m.Link)
		if err != nil {
			return err
		}
		at = &was.span
	}
	if at == nil {
		return fmt.Errorf("it is another name of %s, which is not in the pack", object.DisplayKey(m.Link))
	}
	one := *m
	w.frames.behind(func(int64) { // where the content lies is known by then
		one.span = *at
		w.record(one)
	})
	return w.tar.Flush()
}

// locate notes where the content that comes now will lie. What it returns is called once the content
// is written.
func (w *Writer) locate(m *Member) func(Member) {
	start, size, s := w.stream, m.Size, &span{}
	if m.Kind != File {
		size = 0
	}
	if m.Shared {
		if w.shared == nil {
			w.shared = map[string]*span{}
		}
		w.shared[m.Name] = s
	}
	if w.form == Plain {
		return func(m Member) {
			s.at, s.end = start, start+size
			m.span = *s
			w.record(m)
		}
	}
	s.skip = w.frames.here(func(at int64) { s.at = at })
	frames := (s.skip + size + FrameSize - 1) / FrameSize
	stride, n := max(1, (frames+mostStops)/(mostStops+1)), int64(0)
	s.step = stride * FrameSize
	w.frames.fresh = func(x *frame) {
		if n++; n%stride == 0 && n < frames {
			x.begins = append(x.begins, func(at int64) { s.stops = append(s.stops, at) })
		}
	}
	return func(m Member) {
		w.frames.fresh = nil
		w.frames.behind(func(end int64) {
			s.end = end
			m.span = *s
			w.record(m)
		})
	}
}

// record puts a member into the index.
func (w *Writer) record(m Member) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if err := w.spool.add(&m); err != nil && w.bad == nil {
		w.bad = err
	}
}

// folders has the index know the folders that a name lies in.
func (w *Writer) folders(name string) error {
	dir, _ := split(name)
	for dir != "" && !strings.HasPrefix(w.folder, dir+"/") {
		w.record(Member{Name: dir + "/", Kind: Folder, Mode: 0o755, Implied: true})
		dir, _ = split(dir)
	}
	if dir, _ = split(name); dir != "" {
		w.folder = dir + "/"
	}
	return nil
}

// turn is the version that a name gets.
func (w *Writer) turn(name string) (int, error) {
	if w.old == nil {
		return 0, nil
	}
	was, err := w.old.newest(w.ctx, name)
	switch {
	case err != nil:
		return 0, err
	case was == nil || was.Implied:
		return 0, nil
	}
	if !was.Dropped {
		w.gone(was)
	}
	return was.Turn + 1, nil
}

// gone counts a member that is there no more.
func (w *Writer) gone(was *Member) {
	w.foot.members--
	w.foot.size -= was.Size
	w.foot.dropped++
	w.foot.dead += was.Size
}

// errNotThere means that there is no member of a name.
var errNotThere = fmt.Errorf("there is no such member: %w", os.ErrNotExist)

// Drop marks a member of the pack that is added to as gone. Its bytes stay until the pack is written
// anew.
func (w *Writer) Drop(name string) error {
	if w.old == nil {
		return errors.New("nothing is there yet that could be dropped")
	}
	was, err := w.old.newest(w.ctx, name)
	if err != nil {
		return err
	}
	if was == nil || was.Dropped || was.Implied {
		return errNotThere
	}
	w.gone(was)
	m := *was
	m.Turn, m.Dropped = was.Turn+1, true
	w.record(m)
	return nil
}

// Close ends the pack: the end of the archive, the index, and what tells where it lies.
func (w *Writer) Close() (Totals, error) {
	totals, err := w.end()
	return totals, errors.Join(err, w.abandon())
}

// Abandon ends a pack that is not to be finished.
func (w *Writer) Abandon() { _ = w.abandon() }

func (w *Writer) abandon() error {
	w.cancel()
	if w.frames != nil {
		_ = w.frames.close()
		w.frames = nil
	}
	return w.spool.close()
}

func (w *Writer) end() (Totals, error) {
	if w.failed != nil {
		return Totals{}, w.failed
	}
	if err := w.frames.cut(); err != nil {
		return Totals{}, err
	}
	w.foot.stream = w.stream
	w.frames.here(func(at int64) { // the end of the archive has a frame of its own
		whole := object.CombineCRC64(w.foot.kept(), object.SumOf(object.CRC64NVME, w.sum), at-w.base)
		w.foot.setSum(whole)
		w.foot.end = at
	})
	if err := w.tar.Close(); err != nil {
		return Totals{}, err
	}
	frames := w.frames
	w.frames = nil
	if err := frames.close(); err != nil {
		return Totals{}, err
	}
	if w.bad != nil {
		return Totals{}, w.bad
	}
	if err := w.index(frames.table); err != nil {
		return Totals{}, err
	}
	return Totals{w.foot.members, w.foot.size, w.foot.dropped, w.foot.dead, w.size}, nil
}

// index writes the index and the footer; table is the seek table's rows.
func (w *Writer) index(table []byte) error {
	path := filepath.Join(w.spool.dir, "index")
	made, err := segment.CreateScratch(path, indexMagic)
	if err != nil {
		return err
	}
	defer made.Abandon()
	var older sorted
	if w.old != nil {
		older = w.old.cursor(w.ctx, "")
	}
	if err := w.spool.merged(older, made.Add); err != nil {
		return err
	}
	if err := made.Finish(struct{}{}); err != nil {
		return err
	}
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	w.foot.index, w.foot.packed = w.size, 0
	chunk, wrapped := make([]byte, chunkSize), []byte(nil)
	rows := func(n int) {
		if w.form == Zstd {
			table = appendRow(table, int64(n), 0)
		}
	}
	for {
		n, err := io.ReadFull(file, chunk)
		if n > 0 {
			wrapped = w.form.wrap(wrapped[:0], chunk[:n])
			rows(len(wrapped))
			w.foot.packed += int64(n)
			if err := w.emit(wrapped); err != nil {
				return err
			}
		}
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			break
		}
		if err != nil {
			return err
		}
	}
	wrapped = w.form.wrap(wrapped[:0], w.foot.encode())
	rows(len(wrapped))
	if err := w.emit(wrapped); err != nil || w.form != Zstd {
		return err
	}
	return w.emit(seekFrame(table))
}

// seekFrame is the table of all frames, as other programs look for it.
func seekFrame(rows []byte) []byte {
	b := le.AppendUint32(nil, seekTable)
	b = le.AppendUint32(b, uint32(len(rows)+seekTableTail))
	b = append(b, rows...)
	b = le.AppendUint32(b, uint32(len(rows)/8))
	b = append(b, 0) // no checksums of frames: each has its own
	return le.AppendUint32(b, seekMagic)
}

// sums sum up a content on its way, as far as its sums are not known.
type sums struct {
	crc, digest hash.Hash
	kind        object.SumKind
}

func newSums(c *Content, kind object.SumKind) *sums {
	s := &sums{kind: kind}
	if c.Sum.Kind == object.NoSum {
		s.crc = object.CRC64NVME.New()
	}
	if kind != object.NoSum && c.Digest.Kind == object.NoSum {
		s.digest = kind.New()
	}
	return s
}

func (s *sums) Write(p []byte) (int, error) {
	if s.crc != nil {
		s.crc.Write(p)
	}
	if s.digest != nil {
		s.digest.Write(p)
	}
	return len(p), nil
}

func (s *sums) get(c *Content) (crc, digest object.Sum) {
	crc = c.Sum
	if s.crc != nil {
		crc = object.SumOf(object.CRC64NVME, s.crc)
	}
	if digest = c.Digest; s.digest != nil {
		digest = object.SumOf(s.kind, s.digest)
	}
	return crc, digest
}
