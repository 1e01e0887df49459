package state

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// Inside is where the state of a workspace lay once.
const Inside = ".lumtra"

// notTaken lies in a state folder and does not go along: what a person has confirmed
// counts only where they have.
var notTaken = []string{Trusted, "service.sock"}

// Trusted is the file with what a person has let a workspace use.
const Trusted = "trusted.jsonl"

// TakeOver moves state that lies inside a workspace to dir, where there is none yet, and
// tells whether it did. State that is amiss (see [Open]) or in use stays, and is told.
func TakeOver(workspace, dir string) (moved bool, err error) {
	old := filepath.Join(workspace, Inside)
	info, err := os.Lstat(old)
	// What lies in no folder is not there: that the workspace is none is told where it is read.
	none := errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ENOTDIR)
	if _, there := os.Lstat(dir); none || there == nil {
		return false, nil
	}
	defer func() {
		if err != nil {
			err = fmt.Errorf("the state in %s is not taken over to %s: %w; if it is not yours, remove it", old, dir,
				err)
		}
	}()
	if err != nil {
		return false, err
	}
	if !info.IsDir() {
		return false, fmt.Errorf("%w: it is no folder", ErrUnsafe)
	}
	if err := Open(old); err != nil {
		return false, err
	}
	free, err := idle(old)
	defer free()
	if err != nil {
		return false, err
	}
	for _, name := range notTaken {
		if err := os.RemoveAll(filepath.Join(old, name)); err != nil {
			return false, err
		}
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o700); err != nil {
		return false, err
	}
	if err = os.Rename(old, dir); !errors.Is(err, unix.EXDEV) {
		return err == nil, err
	}
	// On another file system: whole under another name first, so that a crash leaves
	// the old one in force.
	temp := dir + ".new"
	if err := errors.Join(os.RemoveAll(temp), os.CopyFS(temp, os.DirFS(old)), private(old, temp),
		os.Rename(temp, dir)); err != nil {
		return false, err
	}
	return true, os.RemoveAll(old)
}

// private takes away what a copy lets others do, and gives it the times of the old.
func private(old, copied string) error {
	return filepath.WalkDir(copied, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		mode := fs.FileMode(0o600)
		if d.IsDir() {
			mode = 0o700
		}
		rel, err := filepath.Rel(copied, path)
		if err != nil {
			return err
		}
		info, err := os.Lstat(filepath.Join(old, rel))
		if err != nil {
			return err
		}
		return errors.Join(os.Chmod(path, mode), os.Chtimes(path, info.ModTime(), info.ModTime()))
	})
}

// idle holds what a process locks that works with the state, until free is called. The
// error names a lock that is held.
func idle(dir string) (free func(), err error) {
	var held []*os.File
	free = func() {
		for _, f := range held {
			f.Close()
		}
	}
	locks, err := fs.Glob(os.DirFS(dir), "jobs/*/lock")
	if err != nil {
		return free, err
	}
	for _, name := range append(locks, "service.lock") {
		f, err := os.OpenFile(filepath.Join(dir, name), os.O_RDWR, 0)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return free, err
		}
		held = append(held, f)
		if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
			who := "the job " + path.Base(path.Dir(name))
			if name == "service.lock" {
				who = "the background service"
			}
			return free, fmt.Errorf("a process works with it (%s); end it first", who)
		}
	}
	return free, nil
}
