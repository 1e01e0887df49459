package folder

import (
	"cmp"
	"context"
	"io/fs"
	"iter"
	"os"
	"os/user"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"lumtra/core/place"
)

// names are those of users and groups by their numbers, "u:0" and "g:0".
var names sync.Map

// named finds a name once.
func named(key string, find func() (string, error)) string {
	if name, ok := names.Load(key); ok {
		return name.(string)
	}
	name, err := find()
	if err != nil { // nobody has the number
		name = ""
	}
	names.Store(key, name)
	return name
}

// Describe tells what the file system keeps of a file or a link, or of a folder, whose key ends in "/":
// see [place.Describer].
func (f *Folder) Describe(ctx context.Context, key string) (place.File, error) {
	if err := ctx.Err(); err != nil {
		return place.File{}, f.fail("stat", key, err)
	}
	path := f.path(strings.TrimSuffix(key, "/"))
	st, link, err := f.look(path)
	if err != nil {
		return place.File{}, f.fail("stat", key, err)
	}
	x := place.File{Modified: time.Unix(st.Mtim.Unix()), Mode: st.Mode & 0o7777, Size: st.Size, Link: link,
		UID: int(st.Uid), GID: int(st.Gid), Folder: st.Mode&unix.S_IFMT == unix.S_IFDIR}
	x.Special = !x.Folder && link == "" && st.Mode&unix.S_IFMT != unix.S_IFREG
	uid, gid := strconv.Itoa(x.UID), strconv.Itoa(x.GID)
	x.User = named("u:"+uid, func() (string, error) {
		u, err := user.LookupId(uid)
		if err != nil {
			return "", err
		}
		return u.Username, nil
	})
	x.Group = named("g:"+gid, func() (string, error) {
		g, err := user.LookupGroupId(gid)
		if err != nil {
			return "", err
		}
		return g.Name, nil
	})
	x.Sparse = !x.Folder && !x.Special && link == "" && st.Blocks*512 < st.Size
	if st.Nlink > 1 && !x.Folder && !x.Special && link == "" {
		x.Inode = [2]uint64{st.Dev, st.Ino}
	}
	return x, nil
}

// look asks for what is at a path, and where it leads if it is a link, by way of the folder that was used a
// moment ago.
func (f *Folder) look(at string) (st unix.Stat_t, link string, err error) {
	dir, name := path.Split(at)
	d, err := f.end.dir(cmp.Or(strings.TrimSuffix(dir, "/"), "."), false)
	if err != nil {
		return st, "", err
	}
	defer d.done()
	if name == "" || name == "." {
		return st, "", unix.Fstat(int(d.file.Fd()), &st)
	}
	if err = unix.Fstatat(int(d.file.Fd()), name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return st, "", err
	}
	if st.Mode&unix.S_IFMT == unix.S_IFLNK {
		link, err = d.root.Readlink(name)
	}
	return st, link, err
}

// Beside yields the keys of folders, with "/" at their end, and of links, in byte order.
func (f *Folder) Beside(ctx context.Context, folder string) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) { f.beside(ctx, folder, yield) }
}

func (f *Folder) beside(ctx context.Context, dirKey string, yield func(string, error) bool) bool {
	if err := ctx.Err(); err != nil {
		return yield("", f.fail("list", dirKey, err))
	}
	dir, err := f.end.root.OpenFile(f.path(dirKey), os.O_RDONLY|syscall.O_DIRECTORY, 0)
	if err != nil {
		return yield("", f.fail("list", dirKey, err))
	}
	children, err := dir.ReadDir(-1)
	dir.Close()
	if err != nil {
		return yield("", f.fail("list", dirKey, err))
	}
	var found []string
	for _, c := range children {
		switch name := c.Name(); {
		case strings.HasPrefix(name, ours):
		case c.IsDir():
			found = append(found, name+"/")
		case c.Type()&fs.ModeSymlink != 0:
			found = append(found, name)
		}
	}
	slices.Sort(found)
	for _, name := range found {
		if !yield(dirKey+name, nil) {
			return false
		}
		if strings.HasSuffix(name, "/") && !f.beside(ctx, dirKey+name, yield) {
			return false
		}
	}
	return true
}
