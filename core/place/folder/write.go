package folder

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"hash"
	"hash/fnv"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"lumtra/core/object"
	"lumtra/core/place"
)

// Write puts the content into a temporary file beside the target and renames it.
func (f *Folder) Write(ctx context.Context, key string, body io.Reader, size int64, opts place.WriteOptions) (object.Entry, error) {
	if err := f.CheckName(key); err != nil {
		return object.Entry{}, err
	}
	temp, file, err := f.temporary(key)
	if err != nil {
		return object.Entry{}, f.fail("write", key, err)
	}
	defer f.end.root.Remove(temp) // does nothing once it is renamed
	defer file.Close()
	sums, err := f.fill(ctx, key, file, body, size, opts.Sum)
	if err != nil {
		return object.Entry{}, f.fail("write", key, err)
	}
	e, err := f.land(key, temp, file, opts)
	e.Sums = sums
	return e, f.fail("write", key, err)
}

// create makes a file of ours in the folder the key lies in, and that folder.
func (f *Folder) create(key, name string, flags int) (string, *os.File, error) {
	dir := path.Dir(f.path(key))
	temp := path.Join(dir, name)
	file, err := f.end.root.OpenFile(temp, os.O_WRONLY|os.O_CREATE|flags, 0o666)
	if errors.Is(err, fs.ErrNotExist) && dir != "." {
		if err := f.end.root.MkdirAll(dir, 0o777); err != nil {
			return "", nil, err
		}
		file, err = f.end.root.OpenFile(temp, os.O_WRONLY|os.O_CREATE|flags, 0o666)
	}
	return temp, file, err
}

// temporary makes the file a key's content is written to first. Its name
// follows from the key, so that what a killed run left behind is taken over by
// the next try and not left for ever; a lock tells whether someone else, alive,
// is writing to it, who is then left alone.
func (f *Folder) temporary(key string) (string, *os.File, error) {
	h := fnv.New64a()
	h.Write([]byte(key))
	temp, file, err := f.create(key, fmt.Sprintf("%s%016x.tmp", ours, h.Sum64()), 0)
	if err != nil {
		return temp, file, err
	}
	if unix.Flock(int(file.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil {
		// Renamed or removed between opening and locking, it is not ours.
		there, err := f.end.root.Lstat(temp)
		mine, err2 := file.Stat()
		if err == nil && err2 == nil && os.SameFile(there, mine) {
			return temp, file, file.Truncate(0)
		}
	}
	file.Close()
	return f.create(key, ours+rand.Text()[:16]+".tmp", os.O_EXCL)
}

var buffers = sync.Pool{New: func() any { b := make([]byte, 256<<10); return &b }}

// fill copies exactly size bytes to w, summing as they pass, and holds the
// result against the expected sum.
func (f *Folder) fill(ctx context.Context, key string, w io.Writer, body io.Reader, size int64, want object.Sum) ([]object.Sum, error) {
	summed, _ := body.(place.Summed)
	var crc hash.Hash
	var sinks []io.Writer
	if summed == nil {
		crc = object.CRC64NVME.New()
		sinks = append(sinks, crc)
	}
	var other hash.Hash
	if want.Kind != object.NoSum && want.Kind != object.CRC64NVME {
		other = want.Kind.New()
		sinks = append(sinks, other)
	}
	buf := buffers.Get().(*[]byte)
	defer buffers.Put(buf)
	// The extra byte tells a body that is longer than it said.
	from := &io.LimitedReader{R: body, N: size + 1}
	var done int64
	for {
		n, err := from.Read(*buf)
		if n > 0 {
			for _, s := range sinks {
				s.Write((*buf)[:n])
			}
			if _, err := w.Write((*buf)[:n]); err != nil {
				return nil, err
			}
			done += int64(n)
		}
		if err == io.EOF {
			break
		}
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return nil, err
		}
	}
	if done != size {
		return nil, place.NewError(f.name, "write", key, place.Corrupt, fmt.Errorf("the content has %d bytes or more, not %d", done, size))
	}
	var sums []object.Sum
	if summed != nil {
		sums = append(sums, summed.Sum())
	} else {
		sums = append(sums, object.SumOf(object.CRC64NVME, crc))
	}
	if other != nil {
		sums = append(sums, object.SumOf(want.Kind, other))
	}
	if got, _ := (object.Entry{Sums: sums}).Sum(want.Kind); want.Kind != object.NoSum && got != want {
		return nil, place.NewError(f.name, "write", key, place.Corrupt, fmt.Errorf("%s, expected %s", got, want))
	}
	return sums, nil
}

// land gives a filled temporary file its times and permissions and, when the
// condition holds, its name.
func (f *Folder) land(key, temp string, file *os.File, opts place.WriteOptions) (object.Entry, error) {
	root, final := f.end.root, f.path(key)
	if opts.Mode != 0 {
		if err := file.Chmod(fs.FileMode(opts.Mode).Perm()); err != nil {
			return object.Entry{}, err
		}
	}
	if f.end.opts.Sync {
		if err := file.Sync(); err != nil {
			return object.Entry{}, err
		}
	}
	if !opts.Original.IsZero() {
		// Access time is left as it is.
		if err := root.Chtimes(temp, time.Time{}, opts.Original); err != nil {
			return object.Entry{}, err
		}
	}
	info, err := file.Stat()
	if err != nil {
		return object.Entry{}, err
	}
	// A full disk or a failed network mount may only show here.
	if err := file.Close(); err != nil {
		return object.Entry{}, err
	}
	if err := f.rename(temp, final, key, opts); err != nil {
		return object.Entry{}, err
	}
	if f.end.opts.Sync {
		if err := f.syncDir(path.Dir(final)); err != nil {
			return object.Entry{}, err
		}
	}
	return entry(key, info), nil
}

// rename moves the file to its name under the write's condition.
func (f *Folder) rename(temp, final, key string, opts place.WriteOptions) error {
	root := f.end.root
	// A folder of that name with nothing in it is no object, and gives way.
	if info, err := root.Lstat(final); err == nil && info.IsDir() {
		f.removeEmpty(final)
	}
	switch opts.Condition {
	case place.IfAbsent:
		// A hard link fails where a name exists, in one step.
		err := root.Link(temp, final)
		switch {
		case err == nil:
			return root.Remove(temp)
		case errors.Is(err, fs.ErrExist):
			return place.NewError(f.name, "write", key, place.Exists, nil)
		}
		// No hard links on this filesystem: look, then rename.
		if _, err := root.Lstat(final); err == nil {
			return place.NewError(f.name, "write", key, place.Exists, nil)
		}
	case place.IfStill:
		info, err := root.Lstat(final)
		if err != nil || entry(key, info).Mark() != opts.Mark {
			return place.NewError(f.name, "write", key, place.Changed, nil)
		}
	}
	return root.Rename(temp, final)
}

// removeEmpty removes a folder that holds folders at most. One that holds
// anything else stays, perhaps without some of its empty folders.
func (f *Folder) removeEmpty(dir string) {
	d, err := f.end.root.Open(dir)
	if err != nil {
		return
	}
	children, err := d.ReadDir(-1)
	d.Close()
	if err != nil || slices.ContainsFunc(children, func(c fs.DirEntry) bool { return !c.IsDir() }) {
		return
	}
	for _, c := range children {
		f.removeEmpty(path.Join(dir, c.Name()))
	}
	f.end.root.Remove(dir)
}

func (f *Folder) syncDir(dir string) error {
	d, err := f.end.root.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// Remove removes files. The folders they lay in stay.
func (f *Folder) Remove(ctx context.Context, refs ...object.Ref) []error {
	errs := make([]error, len(refs))
	for i, ref := range refs {
		errs[i] = f.remove(ctx, ref)
	}
	return errs
}

func (f *Folder) remove(ctx context.Context, ref object.Ref) error {
	e, err := f.Stat(ctx, ref)
	switch {
	case place.KindOf(err) == place.NotFound && err != nil:
		return nil
	case err != nil:
		return err
	case ref.IfMark != "" && e.Mark() != ref.IfMark:
		return place.NewError(f.name, "remove", ref.Key, place.Changed, nil)
	}
	return f.fail("remove", ref.Key, f.end.root.Remove(f.path(ref.Key)))
}
