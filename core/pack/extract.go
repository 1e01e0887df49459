package pack

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"lumtra/core/object"
)

// ExtractOptions say what is taken out, and how.
type ExtractOptions struct {
	// Folder is taken out, "" for all; Wanted chooses members of it, nil takes all.
	Folder string
	Wanted func(*Member) bool
	// Replace has files that are there be replaced; without it they are told as failures.
	Replace bool
	// Owners sets users and groups by their numbers, which takes privileges.
	Owners bool
	// Attributes sets extended attributes, as far as this process may.
	Attributes bool
	// AnyLinks has symbolic links lead wherever they do; without it those that lead out of the folder are
	// told as failures.
	AnyLinks bool
	// Failed is told of each member that could not be taken out; the others are.
	Failed func(m Member, err error)
}

// Extracted counts what was taken out.
type Extracted struct{ Files, Folders, Links, Bytes, Failed int64 }

// Add counts what else was taken out.
func (e *Extracted) Add(more Extracted) {
	e.Files, e.Folders, e.Links = e.Files+more.Files, e.Folders+more.Folders, e.Links+more.Links
	e.Bytes, e.Failed = e.Bytes+more.Bytes, e.Failed+more.Failed
}

// Extract takes members out into a folder of this machine, with all that is known of them. Nothing is
// ever written outside the folder, whatever names and links a pack has.
func Extract(ctx context.Context, p *Pack, to *os.Root, opts ExtractOptions) (out Extracted, err error) {
	x := extracting{p: p, to: to, opts: opts, ctx: ctx, out: &out}
	for m, err := range p.Walk(ctx, opts.Folder, false) {
		if err != nil {
			return out, err
		}
		if opts.Wanted != nil && !opts.Wanted(&m) {
			continue
		}
		if err := x.take(&m); err != nil {
			if ctx.Err() != nil {
				return out, ctx.Err()
			}
			out.Failed++
			if opts.Failed != nil {
				opts.Failed(m, err)
			}
		}
	}
	return out, x.seal()
}

type extracting struct {
	p    *Pack
	to   *os.Root
	opts ExtractOptions
	ctx  context.Context
	out  *Extracted
	// folders get their times and permissions last: what is put into them changes the one, and may be
	// forbidden by the other.
	folders []Member
	// early are files that were taken out under another of their names first.
	early map[string]string
}

func (x *extracting) take(m *Member) error {
	if err := CheckName(m.Name); err != nil {
		return err
	}
	name := strings.TrimSuffix(m.Name, "/")
	if dir := path.Dir(name); dir != "." {
		if err := x.to.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	switch m.Kind {
	case Folder:
		if err := x.to.MkdirAll(name, 0o755); err != nil {
			return err
		}
		x.folders = append(x.folders, *m)
		x.out.Folders++
		return nil
	case Symlink:
		return x.symlink(m)
	case File:
		return x.file(m)
	case Hardlink:
		return x.hardlink(m)
	}
	return errors.New("it is a device, a pipe or the like, which is not taken out")
}

// away has a name be free, or tells that it is not.
func (x *extracting) away(name string) error {
	info, err := x.to.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if !x.opts.Replace || info.IsDir() {
		return fmt.Errorf("something is there already: %w", fs.ErrExist)
	}
	return x.to.Remove(name)
}

func (x *extracting) symlink(m *Member) error {
	inside := path.Join(path.Dir(m.Name), m.Link)
	if !x.opts.AnyLinks && (path.IsAbs(m.Link) || inside == ".." || strings.HasPrefix(inside, "../")) {
		return fmt.Errorf("it is a link that leads out, to %s", object.Display(m.Link))
	}
	if err := x.away(m.Name); err != nil {
		return err
	}
	if err := x.to.Symlink(m.Link, m.Name); err != nil {
		return err
	}
	x.out.Links++
	return x.own(m)
}

func (x *extracting) hardlink(m *Member) error {
	if first, err := x.to.Lstat(m.Link); err == nil && first.Mode().IsRegular() && first.Size() == m.Size &&
		first.ModTime().Equal(m.Modified) {
		if err := x.away(m.Name); err != nil {
			return err
		}
		if x.to.Link(m.Link, m.Name) == nil {
			x.out.Links++
			return nil
		}
	}
	// What it is another name of was not taken out, or comes later.
	if x.early == nil {
		x.early = map[string]string{}
	}
	x.early[m.Link] = m.Name
	return x.file(m)
}

// file writes a file beside its name first: one that is damaged in the pack is not left half.
func (x *extracting) file(m *Member) (err error) {
	if err := x.away(m.Name); err != nil {
		return err
	}
	if first := x.early[m.Name]; first != "" && x.to.Link(first, m.Name) == nil {
		x.out.Links++
		return nil
	}
	r, err := x.p.Read(x.ctx, *m, 0, 0)
	if err != nil {
		return err
	}
	defer r.Close()
	temp := path.Join(path.Dir(m.Name), ".lumtra-"+fmt.Sprintf("%x", time.Now().UnixNano()))
	f, err := x.to.OpenFile(temp, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, x.to.Remove(temp))
		}
	}()
	n, err := x.fill(f, r, m)
	if err == nil {
		err = f.Chmod(fileMode(m.Mode))
	}
	lacks := x.attribute(f, m) // what cannot be set is told; the file stays
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	if err := x.to.Chtimes(temp, m.Modified, m.Modified); err != nil {
		return err
	}
	if err := x.to.Rename(temp, m.Name); err != nil {
		return err
	}
	x.out.Files++
	x.out.Bytes += n
	return errors.Join(lacks, x.own(m))
}

// fill writes the content; what had holes has them again.
func (x *extracting) fill(f *os.File, r io.Reader, m *Member) (int64, error) {
	if !m.Sparse {
		return io.Copy(f, r)
	}
	n, err := io.CopyBuffer(&holes{f: f}, r, make([]byte, 64*hole))
	if err == nil {
		err = f.Truncate(n)
	}
	return n, err
}

// hole is how many bytes of zeros are left out of a file with holes.
const hole = 4096

var zero = []byte{0}

// holes writes to a file what is not zero.
type holes struct {
	f  *os.File
	at int64
}

func (h *holes) Write(p []byte) (n int, err error) {
	for n < len(p) {
		piece := p[n:min(n+hole-int(h.at%hole), len(p))]
		if bytes.Count(piece, zero) < len(piece) {
			if _, err = h.f.WriteAt(piece, h.at); err != nil {
				return n, err
			}
		}
		n, h.at = n+len(piece), h.at+int64(len(piece))
	}
	return n, nil
}

// attribute gives a file or folder its extended attributes, where that is wanted.
func (x *extracting) attribute(f *os.File, m *Member) error {
	if !x.opts.Attributes {
		return nil
	}
	for _, name := range slices.Sorted(maps.Keys(m.Attributes)) {
		if err := unix.Fsetxattr(int(f.Fd()), name, []byte(m.Attributes[name]), 0); err != nil {
			return fmt.Errorf("its extended attribute %s could not be set: %w", object.Display(name), err)
		}
	}
	return nil
}

// own gives a thing its owner, where that is wanted.
func (x *extracting) own(m *Member) error {
	if !x.opts.Owners {
		return nil
	}
	name := strings.TrimSuffix(m.Name, "/")
	if err := x.to.Lchown(name, m.UID, m.GID); err != nil || m.Kind == Symlink {
		return err
	}
	return x.to.Chmod(name, fileMode(m.Mode)) // changing the owner takes set-user-ID away
}

// seal gives the folders their permissions and times, the deepest first.
func (x *extracting) seal() (err error) {
	for _, m := range slices.Backward(x.folders) {
		name := strings.TrimSuffix(m.Name, "/")
		if x.opts.Attributes && len(m.Attributes) > 0 {
			f, failed := x.to.Open(name)
			if failed == nil {
				failed = errors.Join(x.attribute(f, &m), f.Close())
			}
			err = errors.Join(err, failed)
		}
		err = errors.Join(err, x.own(&m), x.to.Chmod(name, fileMode(m.Mode)),
			x.to.Chtimes(name, m.Modified, m.Modified))
	}
	return err
}

// fileMode is a mode as chmod(2) has it as Go does.
func fileMode(mode uint32) fs.FileMode {
	m := fs.FileMode(mode & 0o777)
	for bit, as := range map[uint32]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky} {
		if mode&bit != 0 {
			m |= as
		}
	}
	return m
}
