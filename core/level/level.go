package level

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"os"
	"sync"
	"time"

	"lumtra/core/object"
)

// Ahead is how many rows are listed beyond what somebody wanted to see.
const Ahead = 2000

// Lister yields the rows of a level in order; see [place.Place.List].
type Lister func(ctx context.Context) iter.Seq2[object.Entry, error]

// State is how far a level has come.
type State struct {
	// Rows are those that can be looked at now.
	Rows int
	// Ended tells that the listing is over; Paused that it waits until somebody
	// wants to see more.
	Ended, Paused bool
	// Err is what the listing met: why it ended early, or what it left out.
	Err error
	// Objects and Bytes are sums over the rows that are objects.
	Objects, Bytes int64
}

// Level is one level being listed. Its methods may be called from many
// goroutines; none of them waits for the listing.
type Level struct {
	rows *rowFile
	stop context.CancelFunc
	done chan struct{}
	seen chan struct{} // closed when there is something to see

	mu    sync.Mutex
	state State
	want  int
	wake  *sync.Cond
}

// Open begins to list a level into a temporary file in dir.
func Open(ctx context.Context, dir string, list Lister) (*Level, error) {
	rows, err := newRowFile(dir)
	if err != nil {
		return nil, fmt.Errorf("a file for the listing: %w", err)
	}
	ctx, stop := context.WithCancel(ctx)
	l := &Level{rows: rows, stop: stop, done: make(chan struct{}), seen: make(chan struct{}), want: Ahead}
	l.wake = sync.NewCond(&l.mu)
	context.AfterFunc(ctx, l.wake.Broadcast)
	go func() {
		defer close(l.done)
		l.fill(ctx, list)
	}()
	return l, nil
}

// fill lists until the end, pausing where nobody looks yet.
func (l *Level) fill(ctx context.Context, list Lister) {
	var failed error
	last := time.Now()
	seen := sync.OnceFunc(func() { close(l.seen) })
	defer seen()
	publish := func() {
		rows := l.rows.flush()
		if rows > 0 {
			defer seen()
		}
		l.mu.Lock()
		l.state.Rows = rows
		l.mu.Unlock()
		last = time.Now()
	}
	n, objects, bytes := 0, int64(0), int64(0)
	next := Ahead // where it may have to wait
	for e, err := range list(ctx) {
		if err != nil {
			failed = errors.Join(failed, err)
			continue
		}
		if err := l.rows.append(&e); err != nil {
			failed = err
			break
		}
		if n++; e.Kind == object.Object {
			objects, bytes = objects+1, bytes+e.Size
		}
		if n%frameRows == 0 || time.Since(last) > 50*time.Millisecond {
			publish()
		}
		if n%64 != 0 && n < next { // not for every row
			continue
		}
		l.mu.Lock()
		next = l.want
		l.state.Objects, l.state.Bytes = objects, bytes
		if n >= l.want && ctx.Err() == nil {
			l.mu.Unlock()
			publish()
			l.mu.Lock()
			for l.state.Paused = true; n >= l.want && ctx.Err() == nil; {
				l.wake.Wait()
			}
			l.state.Paused = false
		}
		l.mu.Unlock()
		if ctx.Err() != nil {
			break
		}
	}
	publish()
	l.mu.Lock()
	defer l.mu.Unlock()
	l.state.Objects, l.state.Bytes = objects, bytes
	l.state.Ended, l.state.Err = true, failed
}

// Done is closed when nothing is listed any more.
func (l *Level) Done() <-chan struct{} { return l.done }

// State tells how far the level has come.
func (l *Level) State() State {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.state
}

// Settle waits until there are rows to see, the listing is over, or the time is.
func (l *Level) Settle(wait time.Duration) {
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-l.seen:
	case <-timer.C:
	}
}

// Want says that somebody looks at rows up to n, so that the listing goes on
// beyond it; a negative n wants all there are.
func (l *Level) Want(n int) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if n < 0 {
		l.want = 1 << 60
	} else {
		l.want = max(l.want, n+Ahead)
	}
	l.wake.Broadcast()
}

// Halt ends a listing of all where it is; what is wanted later lists on.
func (l *Level) Halt() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.want = l.state.Rows
}

// Row gives row i, which is below State().Rows.
func (l *Level) Row(i int) (object.Entry, error) { return l.rows.row(i) }

// All yields the rows there are now, in order.
func (l *Level) All() iter.Seq2[int, *object.Entry] {
	n := l.State().Rows
	return func(yield func(int, *object.Entry) bool) { l.rows.scan(n, yield) }
}

// Close ends the listing, waits for it and removes the file.
func (l *Level) Close() error {
	l.stop()
	<-l.done
	return l.rows.close()
}

// dirFile makes a file that has no name, so that nothing is left behind.
func dirFile(dir string) (*os.File, error) {
	f, err := os.CreateTemp(dir, "level-*")
	if err != nil {
		return nil, err
	}
	return f, os.Remove(f.Name())
}
