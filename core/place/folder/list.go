package folder

import (
	"context"
	"errors"
	"io/fs"
	"iter"
	"os"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"lumtra/core/object"
	"lumtra/core/place"
)

// List walks the folder in byte order of keys. That is not the order of names:
// a folder "a" sorts as "a/", behind the file "a-b". Memory grows with the
// largest single folder, not with the tree.
func (f *Folder) List(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		dirKey := prefix[:strings.LastIndexByte(prefix, '/')+1]
		if dirKey != "" && f.CheckName(strings.TrimSuffix(dirKey, "/")) != nil {
			return // nothing can lie there
		}
		dir, err := f.end.root.OpenFile(f.path(dirKey), os.O_RDONLY|unix.O_DIRECTORY, 0)
		if err != nil {
			if dirKey != "" && (errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ENOTDIR)) {
				return // a prefix nothing has
			}
			yield(object.Entry{}, f.fail("list", dirKey, err))
			return
		}
		w := walk{f: f, ctx: ctx, prefix: prefix, opts: opts, yield: yield}
		w.folder(dir, dirKey)
	}
}

// walk is one listing under way.
type walk struct {
	f      *Folder
	ctx    context.Context
	prefix string
	opts   place.ListOptions
	yield  func(object.Entry, error) bool
	seen   int
}

// folder lists one open folder, which it closes, and those below. It returns
// false when the listing is over.
func (w *walk) folder(dir *os.File, dirKey string) bool {
	defer dir.Close()
	children, err := dir.ReadDir(-1)
	if err != nil && !w.yield(object.Entry{}, w.f.fail("list", dirKey, err)) {
		return false
	}
	names := make([]string, 0, len(children)) // a subfolder's name ends in "/"
	for _, c := range children {
		name := c.Name()
		if strings.HasPrefix(name, ours) {
			continue
		}
		if c.IsDir() {
			name += "/"
		}
		if key := dirKey + name; strings.HasPrefix(key, w.prefix) || strings.HasPrefix(w.prefix, key) {
			names = append(names, name)
		}
	}
	children = nil
	slices.Sort(names)
	conn, err := dir.SyscallConn()
	if err != nil {
		return w.yield(object.Entry{}, w.f.fail("list", dirKey, err))
	}
	for _, name := range names {
		if w.seen++; w.seen&255 == 0 && w.ctx.Err() != nil {
			w.yield(object.Entry{}, w.f.fail("list", "", w.ctx.Err()))
			return false
		}
		key := dirKey + name
		if strings.HasSuffix(name, "/") {
			if !w.below(dir, key, name[:len(name)-1]) {
				return false
			}
			continue
		}
		if key <= w.opts.After {
			continue
		}
		var st unix.Stat_t
		var statErr error
		if err := conn.Control(func(fd uintptr) {
			statErr = unix.Fstatat(int(fd), name, &st, unix.AT_SYMLINK_NOFOLLOW)
		}); err != nil {
			statErr = err
		}
		switch {
		case errors.Is(statErr, fs.ErrNotExist): // removed since the folder was read
		case statErr != nil:
			if !w.yield(object.Entry{}, w.f.fail("list", key, statErr)) {
				return false
			}
		case !w.yield(statEntry(key, &st), nil):
			return false
		}
	}
	return true
}

// below lists the subfolder with the given key ("…/name/") of dir.
func (w *walk) below(dir *os.File, key, name string) bool {
	if key <= w.opts.After && !strings.HasPrefix(w.opts.After, key) {
		return true // all of it lies before the start
	}
	if w.opts.Shallow && strings.HasPrefix(key, w.prefix) {
		return key <= w.opts.After || w.yield(object.Entry{Key: key, Kind: object.Prefix}, nil)
	}
	// One name, relative to an open folder, links not followed: it cannot lead out.
	fd, err := unix.Openat(int(dir.Fd()), name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return true
	case err != nil:
		return w.yield(object.Entry{}, w.f.fail("list", key, err))
	}
	return w.folder(os.NewFile(uintptr(fd), name), key)
}

func statEntry(key string, st *unix.Stat_t) object.Entry {
	e := object.Entry{
		Key: key, Size: st.Size, Latest: true,
		Modified: time.Unix(st.Mtim.Unix()),
		Mode:     fs.FileMode(st.Mode & 0o777),
	}
	if st.Mode&unix.S_IFMT != unix.S_IFREG {
		e.Kind, e.Size = object.Special, 0
	}
	return e
}
