package life

import (
	"context"
	"sync"
)

// Life is a span of time in which things go on. Its methods may be called from many
// goroutines.
type Life struct {
	ctx    context.Context // ends with it
	cancel context.CancelFunc

	mu    sync.Mutex
	over  bool
	under sync.WaitGroup
}

// New begins a life; End ends it.
func New() *Life {
	l := &Life{}
	l.ctx, l.cancel = context.WithCancel(context.Background())
	return l
}

// Begin notes that something goes on: it gives a context that ends with ctx or with the
// life, and what to call at the end. It is false when the life is over; then nothing is to
// be called.
func (l *Life) Begin(ctx context.Context) (_ context.Context, done func(), ok bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.over {
		return ctx, func() {}, false
	}
	l.under.Add(1)
	ctx, stop := context.WithCancel(ctx)
	forget := context.AfterFunc(l.ctx, stop)
	return ctx, sync.OnceFunc(func() { forget(); stop(); l.under.Done() }), true
}

// Go runs f in a goroutine that End waits for; what f is given ends with the life. It is
// false when the life is over, and f does not run then.
func (l *Life) Go(f func(ctx context.Context)) bool {
	ctx, done, ok := l.Begin(context.Background())
	if ok {
		go func() {
			defer done()
			f(ctx)
		}()
	}
	return ok
}

// End ends all that goes on and waits for it. Nothing begins any more.
func (l *Life) End() {
	l.mu.Lock()
	l.over = true
	l.mu.Unlock()
	l.cancel()
	l.under.Wait()
}
