package folder

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"
	"syscall"
	"time"

	"lumtra/core/object"
	"lumtra/core/place"
)

// ours starts the names of our temporary files. Listings leave them out and
// CheckName refuses them, so that a half-written file is never taken for data.
const ours = ".lumtra-"

const (
	maxPart = 4096 // longest path Linux takes (PATH_MAX)
	maxName = 255  // longest file name on the usual filesystems (NAME_MAX)
)

// Options are the choices of a folder endpoint.
type Options struct {
	// Sync makes every file reach the disk (fsync, of file and folder) before
	// a write counts as done. Safe against power loss, and much slower.
	Sync bool
}

// Endpoint is a folder that places lie in.
type Endpoint struct {
	name string
	root *os.Root
	opts Options
	dirs dirs
}

// OpenEndpoint opens the folder dir under the given label. The folder must exist.
func OpenEndpoint(name, dir string, opts Options) (*Endpoint, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		if errors.Is(err, syscall.ENOTDIR) {
			err = fmt.Errorf("%s is not a folder", dir)
		}
		return nil, place.Wrap(name, "open", "", err)
	}
	return &Endpoint{name: name, root: root, opts: opts}, nil
}

// Name is the endpoint's label.
func (e *Endpoint) Name() string { return e.name }

// Close releases the root. Places opened from it fail afterwards.
func (e *Endpoint) Close() error {
	e.dirs.close()
	return e.root.Close()
}

// Open gives the place at a subfolder; "" is the root itself. The subfolder
// need not exist: writing makes it.
func (e *Endpoint) Open(sub string) (place.Place, error) {
	f := &Folder{end: e, base: ".", name: cmp.Or(e.name, "/")}
	if sub = strings.Trim(sub, "/"); sub != "" {
		if err := f.CheckName(sub); err != nil {
			return nil, err
		}
		f.base, f.name = sub, e.name+"/"+sub
	}
	return f, nil
}

// Folder is a [place.Place] over one folder of an endpoint.
type Folder struct {
	end  *Endpoint
	base string // slash path below the root, "." for the root
	name string
}

var (
	_ place.Place       = (*Folder)(nil)
	_ place.PartWriter  = (*Folder)(nil)
	_ place.NameChecker = (*Folder)(nil)
)

// Name is "endpoint/sub/folder".
func (f *Folder) Name() string { return f.name }

// Abilities tells the limits of a folder: of the common filesystems, not of
// the one beneath, which says so itself when asked for more.
func (f *Folder) Abilities() place.Abilities {
	return place.Abilities{
		Protocol: "folder",
		MinPart:  1, MaxPart: 1 << 40, MaxParts: 1 << 20,
		// Writers of one file stand in each other's way in the kernel.
		GoodPart:   64 << 20,
		KeepsTimes: true, KeepsModes: true,
		TimeStep:   time.Nanosecond,
		Conditions: true,
		MakesRoot:  true, Tree: true,
		MaxKey: maxPart - 1,
	}
}

// CheckName refuses keys that no file can have: parts that are empty, "." or
// "..", too long, or reserved for our temporary files, and NUL bytes.
func (f *Folder) CheckName(key string) error {
	why := ""
	switch {
	case key == "":
		why = "the key is empty"
	case len(key) >= maxPart:
		why = fmt.Sprintf("longer than %d bytes", maxPart-1)
	case strings.IndexByte(key, 0) >= 0:
		why = "it holds a NUL byte"
	}
	for rest := key; why == "" && rest != ""; {
		part, after, more := strings.Cut(rest, "/")
		switch {
		case part == "":
			why = `it has an empty part ("//" or a "/" at the start)`
		case part == "." || part == "..":
			why = fmt.Sprintf("a part named %q means another folder", part)
		case len(part) > maxName:
			why = fmt.Sprintf("a part is longer than %d bytes", maxName)
		case strings.HasPrefix(part, ours):
			why = fmt.Sprintf("names starting with %q are Lumtra's own", ours)
		case more && after == "":
			why = `it ends in "/"`
		}
		rest = after
	}
	if why == "" {
		return nil
	}
	return place.NewError(f.name, "check", key, place.BadName, errors.New(why))
}

// path is the key's path below the endpoint's root.
func (f *Folder) path(key string) string { return path.Join(f.base, key) }

// fail turns a system error into the place's own.
func (f *Folder) fail(op, key string, err error) error {
	var e *place.Error
	if err == nil || errors.As(err, &e) {
		return err
	}
	kind := place.KindOf(err)
	var pathErr *fs.PathError
	var linkErr *os.LinkError
	switch {
	case errors.As(err, &pathErr):
		err = pathErr.Err // the key is named already
	case errors.As(err, &linkErr):
		err = linkErr.Err
	}
	switch {
	case errors.Is(err, syscall.ENOTDIR) && (op == "write" || op == "begin"):
		kind, err = place.BadName, errors.New("a file stands where a folder is needed")
	case errors.Is(err, syscall.ENOTDIR):
		kind, err = place.NotFound, errors.New("a file stands where a folder should be")
	case errors.Is(err, syscall.EISDIR):
		kind, err = place.BadName, errors.New("a folder stands where the file should be")
	case strings.Contains(err.Error(), "escapes from parent"):
		kind, err = place.BadName, errors.New("the path leads out of the folder")
	}
	return place.NewError(f.name, op, key, kind, err)
}

// entry describes a file as the place sees it.
func entry(key string, info fs.FileInfo) object.Entry {
	e := object.Entry{Key: key, Size: info.Size(), Modified: info.ModTime(), Mode: info.Mode().Perm(), Latest: true}
	if !info.Mode().IsRegular() {
		e.Kind, e.Size = object.Special, 0
	}
	return e
}
