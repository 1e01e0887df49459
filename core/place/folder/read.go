package folder

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"sync"

	"golang.org/x/sys/unix"

	"lumtra/core/object"
	"lumtra/core/place"
)

// Stat describes one file, without following a link.
func (f *Folder) Stat(ctx context.Context, ref object.Ref) (object.Entry, error) {
	if err := ctx.Err(); err != nil {
		return object.Entry{}, f.fail("stat", ref.Key, err)
	}
	if err := f.CheckName(ref.Key); err != nil {
		return object.Entry{}, place.NewError(f.name, "stat", ref.Key, place.NotFound, errors.Unwrap(err))
	}
	info, err := f.end.root.Lstat(f.path(ref.Key))
	if err != nil {
		return object.Entry{}, f.fail("stat", ref.Key, err)
	}
	if info.IsDir() {
		return object.Entry{}, place.NewError(f.name, "stat", ref.Key, place.NotFound, errors.New("it is a folder"))
	}
	e := entry(ref.Key, info)
	if ref.IfMark != "" && e.Mark() != ref.IfMark {
		return object.Entry{}, place.NewError(f.name, "stat", ref.Key, place.Changed, nil)
	}
	return e, nil
}

// Read opens a file. A file that grows, shrinks or is written to while being
// read gives a Changed error in place of its end.
func (f *Folder) Read(ctx context.Context, key string, opts place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	no := func(err error) (io.ReadCloser, object.Entry, error) {
		return nil, object.Entry{}, f.fail("read", key, err)
	}
	if err := ctx.Err(); err != nil {
		return no(err)
	}
	if err := f.CheckName(key); err != nil {
		return no(place.NewError(f.name, "read", key, place.NotFound, errors.Unwrap(err)))
	}
	// Not blocking: a named pipe must not hold us.
	fd, err := f.open(key, unix.O_RDONLY|unix.O_NONBLOCK)
	if err != nil {
		return no(err)
	}
	var st unix.Stat_t
	err = unix.Fstat(fd, &st)
	e := statEntry(key, &st)
	switch {
	case err != nil:
	case st.Mode&unix.S_IFMT == unix.S_IFDIR:
		err = place.NewError(f.name, "read", key, place.NotFound, errors.New("it is a folder"))
	case st.Mode&unix.S_IFMT != unix.S_IFREG:
		err = place.NewError(f.name, "read", key, place.Unsupported, errors.New("it is not a regular file"))
	case opts.IfMark != "" && e.Mark() != opts.IfMark:
		err = place.NewError(f.name, "read", key, place.Changed, nil)
	case opts.Offset > st.Size:
		err = place.NewError(f.name, "read", key, place.Changed, fmt.Errorf("it has only %d bytes", st.Size))
	}
	if err != nil {
		unix.Close(fd)
		return no(err)
	}
	left := st.Size - opts.Offset
	if opts.Length > 0 {
		left = min(left, opts.Length)
	}
	return &reader{f: f, fd: fd, entry: e, at: opts.Offset, left: left}, e, nil
}

// open opens the key's file. What it gives is a file of the system's: the
// wrapping of an os.File costs as much again as reading a small one.
func (f *Folder) open(key string, flags int) (int, error) {
	folder, name := path.Split(f.path(key))
	folder = path.Clean(folder)
	for again := false; ; again = true {
		d, err := f.end.dir(folder, false)
		if err != nil {
			return -1, err
		}
		// Not through a link: that is another's content. Interrupted calls are
		// made again, as os does.
		fd := -1
		for {
			fd, err = unix.Openat(int(d.file.Fd()), name, flags|unix.O_CLOEXEC|unix.O_NOFOLLOW, 0)
			if err != unix.EINTR {
				break
			}
		}
		d.done()
		switch {
		case err == nil:
			return fd, nil
		case errors.Is(err, fs.ErrNotExist) && !again: // the folder may be another by now
			f.end.dirs.forget(folder)
		default:
			return -1, err
		}
	}
}

// reader reads a range of a file and looks at its end whether the file is
// still the one that was opened. It is not for concurrent use, but may be closed
// while it is read: the transport of a request may still do that.
type reader struct {
	f        *Folder
	entry    object.Entry
	at, left int64

	mu sync.Mutex
	fd int // -1 once it is closed
}

func (r *reader) Read(p []byte) (int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.fd < 0 {
		return 0, r.f.fail("read", r.entry.Key, os.ErrClosed)
	}
	if r.left == 0 {
		return 0, r.end()
	}
	if len(p) == 0 {
		return 0, nil
	}
	p = p[:min(int64(len(p)), r.left, 1<<30)]
	n, err := unix.Pread(r.fd, p, r.at)
	for err == unix.EINTR {
		n, err = unix.Pread(r.fd, p, r.at)
	}
	switch {
	case err != nil:
		return 0, r.f.fail("read", r.entry.Key, err)
	case n == 0:
		return 0, place.NewError(r.f.name, "read", r.entry.Key, place.Changed,
			errors.New("it became shorter while being read"))
	}
	r.at += int64(n)
	r.left -= int64(n)
	return n, nil
}

// end is io.EOF, or what happened to the file meanwhile.
func (r *reader) end() error {
	var st unix.Stat_t
	if err := unix.Fstat(r.fd, &st); err != nil {
		return r.f.fail("read", r.entry.Key, err)
	}
	if now := statEntry(r.entry.Key, &st); !now.SameState(&r.entry) {
		return place.NewError(r.f.name, "read", r.entry.Key, place.Changed,
			errors.New("it was written to while being read"))
	}
	return io.EOF
}

// Close closes the file.
func (r *reader) Close() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.fd < 0 {
		return nil
	}
	fd := r.fd
	r.fd = -1
	return unix.Close(fd)
}
