package folder

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	"golang.org/x/sys/unix"
)

// Attributes are the extended attributes of a file or folder, as far as this process may read them: see
// [place.Describer]. Links have none.
func (f *Folder) Attributes(ctx context.Context, key string) (map[string]string, error) {
	if err := ctx.Err(); err != nil {
		return nil, f.fail("stat", key, err)
	}
	at := f.path(strings.TrimSuffix(key, "/"))
	dir, name := path.Split(at)
	if dir = strings.TrimSuffix(dir, "/"); dir == "" {
		dir = "."
	}
	d, err := f.end.dir(dir, false)
	if err != nil {
		return nil, f.fail("stat", key, err)
	}
	defer d.done()
	// By the folder that is open, so that no link on the way leads elsewhere.
	all, err := attributes(fmt.Sprintf("/proc/self/fd/%d/%s", d.file.Fd(), name))
	if err != nil {
		return nil, f.fail("read the extended attributes", key, err)
	}
	return all, nil
}

func attributes(path string) (map[string]string, error) {
	list, err := grown(func(b []byte) (int, error) { return unix.Llistxattr(path, b) })
	if errors.Is(err, unix.ENOTSUP) {
		return nil, nil
	}
	if err != nil || len(list) == 0 {
		return nil, err
	}
	all := map[string]string{}
	for _, name := range strings.Split(strings.TrimSuffix(string(list), "\x00"), "\x00") {
		value, err := grown(func(b []byte) (int, error) { return unix.Lgetxattr(path, name, b) })
		switch {
		case errors.Is(err, unix.ENODATA), errors.Is(err, unix.EPERM), errors.Is(err, unix.EACCES):
			continue // gone since, or not for us
		case err != nil:
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		all[name] = string(value)
	}
	return all, nil
}

// grown reads with a buffer that is large enough, as often as what is read grows meanwhile.
func grown(read func([]byte) (int, error)) ([]byte, error) {
	for {
		n, err := read(nil)
		if n <= 0 || err != nil {
			return nil, err
		}
		b := make([]byte, n)
		if n, err = read(b); err == nil {
			return b[:n], nil
		}
		if !errors.Is(err, unix.ERANGE) {
			return nil, err
		}
	}
}
