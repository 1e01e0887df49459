package remote

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"lumtra/service/runs"
	"lumtra/service/workspace"
)

// lockService takes the lock of the one background service of a workspace, which is held
// until the file is closed.
func lockService(ws *workspace.Keeper) (*os.File, error) {
	lock, err := os.OpenFile(ws.Dir.Path("service.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil {
		lock.Close()
		return nil, workspace.BadInput(ErrServed)
	}
	return lock, nil
}

// Serve is the background service. It returns when ctx ends, with the runs
// under way stopped: what has arrived stays, and they can be gone on with.
//
// Answers makes what answers at the socket; what it tells until the caller hangs up ends with the
// context. Beside is run as long as the service is, by nobody else meanwhile; an error of it ends the
// service.
func Serve(ctx context.Context, ws *workspace.Keeper, runner *runs.Runner,
	answers func(context.Context) http.Handler, beside func(context.Context) error) (err error) {
	lock, err := lockService(ws)
	if err != nil {
		return err
	}
	defer lock.Close()
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var also sync.WaitGroup
	defer func() {
		cancel(nil)
		also.Wait()
		if cause := context.Cause(ctx); err == nil && cause != nil && !errors.Is(cause, context.Canceled) {
			err = cause
		}
	}()
	path := ws.Dir.Path(socketName)
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) { // a killed one's
		return err
	}
	listener, err := listenPrivately(path)
	if err != nil {
		return fmt.Errorf("the service's socket: %w", err)
	}
	ws.OpenStandIns()
	web := &http.Server{Handler: answers(ctx), ReadHeaderTimeout: 5 * time.Second}
	ended := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		defer close(ended)
		for _, r := range runner.All() {
			r.Stop()
		}
		quiet, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		if web.Shutdown(quiet) != nil {
			web.Close()
		}
	})
	also.Go(func() {
		if err := beside(ctx); err != nil {
			cancel(err)
		}
	})
	ws.Log.Info("background service begins", "pid", os.Getpid())
	err = web.Serve(listener)
	if !stop() {
		<-ended
	}
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	return err
}
