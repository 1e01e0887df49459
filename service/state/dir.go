package state

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"lumtra/core/pack"

	"golang.org/x/sys/unix"
)

// Dir is the state folder of a workspace. Its methods say where things lie in it and make
// the folder around them; what they hold is for others.
type Dir string

// Errors of locks that others hold, in this process or another.
var (
	// ErrBusy means that the job is running.
	ErrBusy = errors.New("the job is running already")
	// ErrPlanning means that the job's places are being surveyed.
	ErrPlanning = errors.New("the job is being planned or proven already")
)

// Path is the path of something in the folder.
func (d Dir) Path(elem ...string) string {
	return filepath.Join(append([]string{string(d)}, elem...)...)
}

// Folder is the path of a folder in the folder; it is made if need be.
func (d Dir) Folder(elem ...string) (string, error) {
	path := d.Path(elem...)
	return path, os.MkdirAll(path, 0o700)
}

// Job is where a job's state lies, or a folder of it, which is made if need be.
func (d Dir) Job(name string, sub ...string) (string, error) {
	return d.Folder(append([]string{"jobs", name}, sub...)...)
}

// LockRun takes the right to run a job until unlock is called, or fails with [ErrBusy].
func (d Dir) LockRun(job string) (unlock func() error, err error) {
	return d.lock(job, "lock", ErrBusy)
}

// LockPlanning takes the right to survey and compare a job's sides until unlock is called,
// or fails with [ErrPlanning].
func (d Dir) LockPlanning(job string) (unlock func() error, err error) {
	return d.lock(job, "planning", ErrPlanning)
}

// LockMemory takes the right to change what a job remembers until unlock is called. It waits
// for others, who have it for as long as reading some files takes.
func (d Dir) LockMemory(job string) (unlock func() error, err error) {
	f, err := d.lockFile(job, "remembering")
	if err != nil {
		return nil, err
	}
	for {
		if err = unix.Flock(int(f.Fd()), unix.LOCK_EX); err != unix.EINTR {
			break
		}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f.Close, nil
}

func (d Dir) lock(job, file string, busy error) (unlock func() error, err error) {
	f, err := d.lockFile(job, file)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return nil, busy
	}
	return f.Close, nil
}

func (d Dir) lockFile(job, file string) (*os.File, error) {
	dir, err := d.Job(job)
	if err != nil {
		return nil, err
	}
	return os.OpenFile(filepath.Join(dir, file), os.O_CREATE|os.O_RDWR, 0o600)
}

// Sweep removes temporary files that killed processes left in the folder. What is younger
// than a day may still be in use, and what somebody has a lock of is.
func (d Dir) Sweep(now time.Time) {
	for _, pattern := range []string{"survey-*", pack.ScratchFolders, "level-*", ".*-*", "*/.*-*", "jobs/*/.*-*",
		"jobs/*/plans/.*-*"} {
		left, _ := fs.Glob(os.DirFS(string(d)), pattern) // the folder's own name is no pattern
		for _, name := range left {
			path := d.Path(name)
			if info, err := os.Lstat(path); err == nil && now.Sub(info.ModTime()) > 24*time.Hour && !held(path) {
				os.RemoveAll(path)
			}
		}
	}
}

// held tells that somebody has a lock of a file or folder.
func held(path string) bool {
	f, err := os.OpenFile(path, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	return errors.Is(unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB), unix.EWOULDBLOCK)
}

// Rename gives what is kept of a job to its new name. What a job of that name, long gone,
// left behind is put away first.
func (d Dir) Rename(was, name string) error {
	if err := d.PutAway(name); err != nil {
		return err
	}
	if err := os.Rename(d.Path("jobs", was), d.Path("jobs", name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// PutAway gives what is kept of a job that is no longer there another name, so that a new
// job of the name does not inherit it.
func (d Dir) PutAway(job string) error {
	dir := d.Path("jobs", job)
	if _, err := os.Lstat(dir); err != nil {
		return nil
	}
	for n := 1; ; n++ {
		to := fmt.Sprintf("%s.removed-%d", dir, n)
		if _, err := os.Lstat(to); errors.Is(err, fs.ErrNotExist) {
			return os.Rename(dir, to)
		}
	}
}
