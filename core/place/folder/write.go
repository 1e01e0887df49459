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

	"golang.org/x/sys/unix"

	"lumtra/core/object"
	"lumtra/core/place"
)

// Write puts the content into a temporary file beside the target and renames it.
func (f *Folder) Write(ctx context.Context, key string, body io.Reader, size int64,
	opts place.WriteOptions) (object.Entry, error) {
	if err := f.CheckName(key); err != nil {
		return object.Entry{}, err
	}
	t, err := f.temporary(key)
	if err != nil {
		return object.Entry{}, f.fail("write", key, err)
	}
	defer t.close()
	sums, err := f.fill(ctx, key, t.file, body, size, opts.Sum)
	if err != nil {
		return object.Entry{}, f.fail("write", key, err)
	}
	e, err := f.land(key, t, opts)
	e.Sums = sums
	return e, f.fail("write", key, err)
}

// temp is a file of ours beside the one it is to become.
type temp struct {
	dir    *dir
	name   string // in dir
	file   *os.File
	landed bool
}

// close removes the file unless it has landed.
func (t *temp) close() {
	t.file.Close()
	if !t.landed {
		t.dir.root.Remove(t.name)
	}
	t.dir.done()
}

// create makes a file of ours in the folder the key lies in, and that folder.
func (f *Folder) create(key, name string, flags int) (*temp, error) {
	folder := path.Dir(f.path(key))
	for again := false; ; again = true {
		d, err := f.end.dir(folder, true)
		if err != nil {
			return nil, err
		}
		// Nobody else reads what is not whole yet, and nothing is waited for: what lies
		// there under the name may be a pipe.
		file, err := d.root.OpenFile(name, os.O_WRONLY|os.O_CREATE|unix.O_NOFOLLOW|unix.O_NONBLOCK|flags, 0o600)
		if err == nil {
			return &temp{dir: d, name: name, file: file}, nil
		}
		d.done()
		if again || !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		f.end.dirs.forget(folder) // it was removed meanwhile
	}
}

// temporary makes the file a key's content is written to first. Its name
// follows from the key, so that what a killed run left behind is taken over by
// the next try and not left for ever; a lock tells whether someone else, alive,
// is writing to it, who is then left alone.
func (f *Folder) temporary(key string) (*temp, error) {
	h := fnv.New64a()
	h.Write([]byte(key))
	name := fmt.Sprintf("%s%016x.tmp", ours, h.Sum64())
	t, err := f.create(key, name, os.O_EXCL)
	fresh := err == nil
	if errors.Is(err, fs.ErrExist) {
		if t, err = f.create(key, name, 0); err == nil && !mine(t.file) {
			t.landed = true // not ours to remove, nor to write into
			t.close()
			return f.create(key, ours+rand.Text()[:16]+".tmp", os.O_EXCL)
		}
	}
	if err != nil {
		return f.create(key, ours+rand.Text()[:16]+".tmp", os.O_EXCL)
	}
	if unix.Flock(int(t.file.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil {
		if fresh {
			return t, nil
		}
		// Renamed or removed between opening and locking, it is not ours.
		there, err := t.dir.root.Lstat(name)
		mine, err2 := t.file.Stat()
		if err == nil && err2 == nil && os.SameFile(there, mine) {
			return t, t.file.Truncate(0)
		}
	}
	t.landed = true // someone else's: not ours to remove
	t.close()
	return f.create(key, ours+rand.Text()[:16]+".tmp", os.O_EXCL)
}

// mine tells whether a file that lies under a temporary name can be one that we left:
// a regular file of this user's, under no other name, that nobody else may write to.
func mine(file *os.File) bool {
	var st unix.Stat_t
	if unix.Fstat(int(file.Fd()), &st) != nil {
		return false
	}
	return st.Mode&unix.S_IFMT == unix.S_IFREG && st.Nlink == 1 && int(st.Uid) == os.Geteuid() && st.Mode&0o022 == 0
}

var buffers = sync.Pool{New: func() any { b := make([]byte, 256<<10); return &b }}

// fill copies exactly size bytes to w, summing as they pass, and holds the
// result against the expected sum.
func (f *Folder) fill(ctx context.Context, key string, w io.Writer, body io.Reader, size int64,
	want object.Sum) ([]object.Sum, error) {
	summed := place.SumsItself(body)
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
		return nil, place.NewError(f.name, "write", key, place.Corrupt,
			fmt.Errorf("the content has %d bytes or more, not %d", done, size))
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
func (f *Folder) land(key string, t *temp, opts place.WriteOptions) (object.Entry, error) {
	mode := 0o666 &^ umask() // as any new file's
	if opts.Mode != 0 {
		if mode = fs.FileMode(opts.Mode).Perm(); opts.Masked {
			mode &^= umask()
		}
	}
	if err := t.file.Chmod(mode); err != nil {
		return object.Entry{}, err
	}
	if err := f.end.settle(t.file); err != nil {
		return object.Entry{}, err
	}
	if !opts.Original.IsZero() {
		// Access time is left as it is.
		times := []unix.Timespec{{Nsec: unix.UTIME_OMIT},
			{Sec: opts.Original.Unix(), Nsec: int64(opts.Original.Nanosecond())}}
		if err := unix.UtimesNanoAt(int(t.dir.file.Fd()), t.name, times, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			return object.Entry{}, err
		}
	}
	info, err := t.file.Stat()
	if err != nil {
		return object.Entry{}, err
	}
	// A full disk or a failed network mount may only show here.
	if err := t.file.Close(); err != nil {
		return object.Entry{}, err
	}
	if err := f.conclude(key, t, opts); err != nil {
		return object.Entry{}, err
	}
	t.landed = true
	if err := f.end.settle(t.dir.file); err != nil {
		return object.Entry{}, err
	}
	return entry(key, info), nil
}

// conclude moves a temporary file to its name beside it under the write's
// condition.
func (f *Folder) conclude(key string, t *temp, opts place.WriteOptions) error {
	name := path.Base(f.path(key))
	dirfd := int(t.dir.file.Fd())
	for again := false; ; again = true {
		var err error
		switch opts.Condition {
		case place.IfAbsent:
			// In one step, where the filesystem can.
			err = unix.Renameat2(dirfd, t.name, dirfd, name, unix.RENAME_NOREPLACE)
			if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.ENOTSUP) {
				folder := path.Dir(f.path(key))
				return f.rename(path.Join(folder, t.name), path.Join(folder, name), key, opts)
			}
		case place.IfStill:
			info, statErr := t.dir.root.Lstat(name)
			if statErr != nil || entry(key, info).Mark() != opts.Mark {
				return place.NewError(f.name, "write", key, place.Changed, nil)
			}
			fallthrough
		default:
			err = unix.Renameat(dirfd, t.name, dirfd, name)
		}
		if err == nil {
			return nil
		}
		// A folder of that name with nothing in it is no object, and gives way.
		if info, statErr := t.dir.root.Lstat(name); !again && statErr == nil && info.IsDir() {
			f.removeEmpty(f.path(key))
			continue
		}
		if errors.Is(err, fs.ErrExist) {
			return place.NewError(f.name, "write", key, place.Exists, nil)
		}
		return err
	}
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
		return place.NewError(f.name, "delete", ref.Key, place.Changed, nil)
	}
	return f.fail("delete", ref.Key, f.end.root.Remove(f.path(ref.Key)))
}
