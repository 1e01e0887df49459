package folder

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"

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
	return entry(ref.Key, info), nil
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
	file, err := f.open(key, os.O_RDONLY|unix.O_NONBLOCK)
	if err != nil {
		return no(err)
	}
	info, err := file.Stat()
	switch {
	case err != nil:
	case info.IsDir():
		err = place.NewError(f.name, "read", key, place.NotFound, errors.New("it is a folder"))
	case !info.Mode().IsRegular():
		err = place.NewError(f.name, "read", key, place.Unsupported, errors.New("it is not a regular file"))
	case opts.IfMark != "" && entry(key, info).Mark() != opts.IfMark:
		err = place.NewError(f.name, "read", key, place.Changed, nil)
	case opts.Offset > info.Size():
		err = place.NewError(f.name, "read", key, place.Changed, fmt.Errorf("it has only %d bytes", info.Size()))
	}
	if err != nil {
		file.Close()
		return no(err)
	}
	left := info.Size() - opts.Offset
	if opts.Length > 0 {
		left = min(left, opts.Length)
	}
	if opts.Offset > 0 {
		if _, err := file.Seek(opts.Offset, io.SeekStart); err != nil {
			file.Close()
			return no(err)
		}
	}
	e := entry(key, info)
	return &reader{f: f, file: file, entry: e, left: left}, e, nil
}

// open opens the key's file.
func (f *Folder) open(key string, flags int) (*os.File, error) {
	at := f.path(key)
	folder, name := path.Split(at)
	for again := false; ; again = true {
		d, err := f.end.dir(path.Clean(folder), false)
		if err == nil {
			var file *os.File
			file, err = d.root.OpenFile(name, flags, 0)
			d.done()
			if err == nil {
				return file, nil
			}
		}
		switch {
		case errors.Is(err, fs.ErrNotExist) && !again: // the folder may be another by now
			f.end.dirs.forget(path.Clean(folder))
		case errors.Is(err, fs.ErrNotExist):
			return nil, err
		default: // a link that leads elsewhere inside the root, for one
			return f.end.root.OpenFile(at, flags, 0)
		}
	}
}

// reader reads a range of a file and looks at its end whether the file is
// still the one that was opened.
type reader struct {
	f     *Folder
	file  *os.File
	entry object.Entry
	left  int64
}

func (r *reader) Read(p []byte) (int, error) {
	if r.left == 0 {
		return 0, r.end()
	}
	n, err := r.file.Read(p[:min(int64(len(p)), r.left)])
	r.left -= int64(n)
	switch {
	case err == io.EOF:
		err = place.NewError(r.f.name, "read", r.entry.Key, place.Changed, errors.New("it became shorter while being read"))
	case err != nil:
		err = r.f.fail("read", r.entry.Key, err)
	}
	return n, err
}

// end is io.EOF, or what happened to the file meanwhile.
func (r *reader) end() error {
	info, err := r.file.Stat()
	if err != nil {
		return r.f.fail("read", r.entry.Key, err)
	}
	if entry(r.entry.Key, info).Mark() != r.entry.Mark() {
		return place.NewError(r.f.name, "read", r.entry.Key, place.Changed, errors.New("it was written to while being read"))
	}
	return io.EOF
}

func (r *reader) Close() error { return r.file.Close() }
