package arrive

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"github.com/fsnotify/fsnotify"
)

// Folder watches a folder of this machine.
type Folder struct {
	Root  string
	Rules Rules
	// Every is how often it is looked through for what the system did not tell: of network mounts,
	// or more than it could keep.
	Every time.Duration
	// Since is from when on what changed counts as new, where the folder is first looked through.
	Since time.Time
	// Came is called when something has arrived, with how many files; one call for what came in a
	// burst.
	Came func(files int)

	waiting map[string]seen
	came    int
	first   time.Time // when the first of those came
}

// seen is a file as it was seen last.
type seen struct {
	size    int64
	changed time.Time
	since   time.Time // since when it is so
}

// lookEvery is how often what waits is looked at; burst how long more is waited for.
const (
	lookEvery = 250 * time.Millisecond
	burst     = time.Second
)

// Watch watches until ctx ends. A folder that is not there is waited for.
func (w *Folder) Watch(ctx context.Context) {
	w.waiting = map[string]seen{}
	var told chan fsnotify.Event
	var wrong chan error
	watcher, err := fsnotify.NewWatcher()
	if err == nil {
		defer watcher.Close()
		told, wrong = watcher.Events, watcher.Errors
	}
	w.sweep(watcher, w.Since)
	swept := time.Now()
	sweep, look := time.NewTicker(w.Every), time.NewTicker(lookEvery)
	defer sweep.Stop()
	defer look.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case e := <-told:
			w.hear(watcher, e)
		case <-wrong: // more than it could keep
			w.sweep(watcher, swept.Add(-w.Every))
			swept = time.Now()
		case <-sweep.C:
			since := swept.Add(-w.Rules.Settle - time.Second)
			swept = time.Now()
			w.sweep(watcher, since)
		case <-look.C:
			w.look(time.Now())
		}
	}
}

// hear takes in what the system told of.
func (w *Folder) hear(watcher *fsnotify.Watcher, e fsnotify.Event) {
	if e.Op == fsnotify.Chmod {
		return
	}
	info, err := os.Lstat(e.Name)
	switch {
	case err != nil:
		delete(w.waiting, e.Name)
	case info.IsDir():
		// What came into it before it was watched is looked for.
		w.walk(watcher, e.Name, time.Time{})
	default:
		w.note(e.Name, info, time.Now())
	}
}

// sweep looks through the folder for what has changed since a moment.
func (w *Folder) sweep(watcher *fsnotify.Watcher, since time.Time) { w.walk(watcher, w.Root, since) }

func (w *Folder) walk(watcher *fsnotify.Watcher, dir string, since time.Time) {
	now := time.Now()
	_ = filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // it is gone, or not ours to read: a run tells
		}
		if d.IsDir() {
			if watcher != nil {
				_ = watcher.Add(name) // else it is found by looking
			}
			return nil
		}
		if info, err := d.Info(); err == nil && !changed(info).Before(since) {
			w.note(name, info, now)
		}
		return nil
	})
}

// changed is when a file was changed last, or came to its name, as the system tells (ctime); a file
// that was moved in keeps the time of its content.
func changed(info fs.FileInfo) time.Time {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return time.Unix(s.Ctim.Unix())
	}
	return info.ModTime()
}

// note has a file wait until it stands still.
func (w *Folder) note(name string, info fs.FileInfo, now time.Time) {
	rel, err := filepath.Rel(w.Root, name)
	if err != nil || !info.Mode().IsRegular() || w.Rules.NameWaits(filepath.ToSlash(rel)) {
		return
	}
	if w.Rules.Marker != "" && filepath.Base(name) != w.Rules.Marker {
		return // the marker tells
	}
	was, known := w.waiting[name]
	if known && was.size == info.Size() && was.changed.Equal(info.ModTime()) {
		return
	}
	w.waiting[name] = seen{info.Size(), info.ModTime(), now}
}

// look tells of what stands still.
func (w *Folder) look(now time.Time) {
	for name, was := range w.waiting {
		if now.Sub(was.since) < w.Rules.Settle {
			continue
		}
		info, err := os.Lstat(name)
		switch {
		case err != nil:
			delete(w.waiting, name)
		case info.Size() != was.size || !info.ModTime().Equal(was.changed):
			w.waiting[name] = seen{info.Size(), info.ModTime(), now}
		case OpenForWriting(name): // looked at again a little later
			w.waiting[name] = seen{was.size, was.changed, now.Add(lookEvery - w.Rules.Settle)}
		default:
			delete(w.waiting, name)
			if w.came == 0 {
				w.first = now
			}
			w.came++
		}
	}
	if w.came > 0 && (len(w.waiting) == 0 || now.Sub(w.first) >= burst) {
		n := w.came
		w.came = 0
		w.Came(n)
	}
}
