package folder

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"strings"
	"time"

	"lumtra/core/object"
	"lumtra/core/place"
)

var (
	_ place.FolderMaker     = (*Folder)(nil)
	_ place.Mover           = (*Folder)(nil)
	_ place.AttributeSetter = (*Folder)(nil)
)

// SetAttributes gives a file another time or other permissions.
func (f *Folder) SetAttributes(ctx context.Context, ref object.Ref, original time.Time, mode uint32) (object.Entry,
	error) {
	e, err := f.Stat(ctx, ref)
	switch {
	case err != nil:
		return e, err
	case e.Kind == object.Special:
		return e, place.NewError(f.name, "set facts", ref.Key, place.BadName, errors.New("it is not a file"))
	case ref.IfMark != "" && e.Mark() != ref.IfMark:
		return e, place.NewError(f.name, "set facts", ref.Key, place.Changed, nil)
	}
	if mode != 0 {
		if err := f.end.root.Chmod(f.path(ref.Key), fs.FileMode(mode).Perm()); err != nil {
			return e, f.fail("set facts", ref.Key, err)
		}
	}
	if !original.IsZero() {
		if err := f.end.root.Chtimes(f.path(ref.Key), time.Time{}, original); err != nil {
			return e, f.fail("set facts", ref.Key, err)
		}
	}
	return f.Stat(ctx, object.Ref{Key: ref.Key})
}

// MakeFolder makes a subfolder and those it lies in.
func (f *Folder) MakeFolder(ctx context.Context, key string) error {
	name := strings.TrimSuffix(key, "/")
	if err := f.CheckName(name); err != nil {
		return err
	}
	if _, err := f.end.root.Lstat(f.path(name)); err == nil {
		return place.NewError(f.name, "make folder", key, place.Exists, nil)
	}
	return f.fail("make folder", key, f.end.root.MkdirAll(f.path(name), 0o777))
}

// RemoveFolder removes an empty subfolder.
func (f *Folder) RemoveFolder(ctx context.Context, key string) error {
	name := strings.TrimSuffix(key, "/")
	if err := f.CheckName(name); err != nil {
		return err
	}
	err := f.end.root.Remove(f.path(name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return f.fail("delete folder", key, err)
}

// Move renames a file, and makes the folder it goes into.
func (f *Folder) Move(ctx context.Context, src object.Ref, key string) (object.Entry, error) {
	if err := f.CheckName(key); err != nil {
		return object.Entry{}, err
	}
	e, err := f.Stat(ctx, src)
	if err != nil {
		return e, err
	}
	if src.IfMark != "" && e.Mark() != src.IfMark {
		return e, place.NewError(f.name, "move", src.Key, place.Changed, nil)
	}
	if dir := path.Dir(f.path(key)); dir != "." {
		if err := errors.Join(f.end.root.MkdirAll(dir, 0o777), f.end.settlePath(dir)); err != nil {
			return e, f.fail("move", key, err)
		}
	}
	// A file's name is given to another under the same condition as a write's.
	if err := f.rename(f.path(src.Key), f.path(key), key, place.WriteOptions{Condition: place.IfAbsent}); err != nil {
		return e, f.fail("move", key, err)
	}
	for _, dir := range []string{path.Dir(f.path(key)), path.Dir(f.path(src.Key))} {
		if err := f.end.settleDir(dir); err != nil {
			return e, f.fail("move", key, err)
		}
	}
	e.Key = key
	return e, nil
}
