package workspace

import (
	"context"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"github.com/fsnotify/fsnotify"
)

// Times of watching: how long files that change are left alone, since editors write in several steps,
// and how often they are looked at whatever was told.
const (
	watchSettle = 20 * time.Millisecond
	watchSweep  = 30 * time.Second
)

// Watch takes in what is changed in the workspace's files, until ctx ends.
func (s *Keeper) Watch(ctx context.Context) {
	sweep := time.NewTicker(watchSweep)
	defer sweep.Stop()
	var told chan fsnotify.Event
	var wrong chan error
	if w, err := fsnotify.NewWatcher(); err != nil {
		s.Log.Warn("changed files are only found by looking", "error", err)
	} else {
		defer w.Close()
		for _, dir := range []string{s.opts.Workspace, filepath.Join(s.opts.Workspace, "jobs")} {
			if err := w.Add(dir); err != nil {
				s.Log.Warn("changed files are only found by looking", "folder", dir, "error", err)
			}
		}
		told, wrong = w.Events, w.Errors
	}
	asked := make(chan os.Signal, 1)
	signal.Notify(asked, syscall.SIGUSR1)
	defer signal.Stop(asked)
	settle := time.NewTimer(0)
	defer settle.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-told:
			settle.Reset(watchSettle)
		case <-wrong: // more than it could keep: all is looked at
			settle.Reset(watchSettle)
		case <-asked:
			s.Log.Info("the workspace is read again, as somebody asked")
			s.Reread()
		case <-settle.C:
			s.Reread()
		case <-sweep.C:
			s.Reread()
		}
	}
}
