package pace

import (
	"container/heap"
	"context"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"
)

// Limiter lets bytes through at a rate that can change at any time, and shares
// them among those that want some by their weights. The zero value is not
// ready; use [NewLimiter]. Its methods may be called from many goroutines.
type Limiter struct {
	free    atomic.Bool // no limit: nobody needs the lock to know
	mu      sync.Mutex
	bucket  *rate.Limiter // its limit is the rate; Inf for none
	queue   waiters
	virtual float64       // the start of what was let through last
	changed chan struct{} // closed and replaced when the rate changes
}

// NewLimiter makes a limiter; a rate of 0 bytes a second is no limit.
func NewLimiter(bytesPerSecond float64) *Limiter {
	l := &Limiter{bucket: rate.NewLimiter(rate.Inf, 1), changed: make(chan struct{})}
	l.free.Store(true)
	l.SetRate(bytesPerSecond)
	return l
}

// burst is how far ahead of its rate a limiter may get, in seconds.
const burst = 0.05

// SetRate changes the rate at once, for those that wait too.
func (l *Limiter) SetRate(bytesPerSecond float64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	limit := rate.Limit(bytesPerSecond)
	if bytesPerSecond <= 0 {
		limit = rate.Inf
	}
	if limit == l.bucket.Limit() {
		return
	}
	l.free.Store(limit == rate.Inf)
	// A bucket of its own: what was promised at another rate is void.
	l.bucket = rate.NewLimiter(limit, max(1, int(bytesPerSecond*burst)))
	l.bucket.AllowN(time.Now(), l.bucket.Burst()) // begins empty
	close(l.changed)
	l.changed = make(chan struct{})
}

// rate is the rate in bytes a second, 0 for no limit.
func (l *Limiter) rate() float64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.bucket.Limit() == rate.Inf {
		return 0
	}
	return float64(l.bucket.Limit())
}

// Share is the part that one taker has in a limiter. Those with twice the
// weight get twice the bytes while both want them.
type Share struct {
	l      *Limiter
	weight float64
	last   float64 // virtual end of what it took last
}

// Join makes a share; a weight below 1 counts as 1.
func (l *Limiter) Join(weight int) *Share { return &Share{l: l, weight: float64(max(weight, 1))} }

// SetWeight changes the weight from the next bytes on.
func (s *Share) SetWeight(weight int) {
	s.l.mu.Lock()
	defer s.l.mu.Unlock()
	s.weight = float64(max(weight, 1))
}

// Most is how many bytes to take at a time at most, so that one piece takes no
// longer than a moment: a tenth of a second's worth, and at least one.
func (s *Share) Most() int {
	if s.l.free.Load() {
		return 1 << 20
	}
	if r := s.l.rate(); r > 0 {
		return max(1, int(min(r/10, 1<<20)))
	}
	return 1 << 20
}

// Take waits until n bytes may pass. It returns the time it waited, and the
// context's error if that ends first.
func (s *Share) Take(ctx context.Context, n int) (time.Duration, error) {
	l := s.l
	if l.free.Load() {
		return 0, nil
	}
	l.mu.Lock()
	if l.bucket.Limit() == rate.Inf && len(l.queue) == 0 {
		l.mu.Unlock()
		return 0, nil
	}
	// Start-time fair queueing: the one whose turn began earliest in virtual
	// time, where heavier shares age more slowly, goes first.
	w := &waiter{n: n, start: max(l.virtual, s.last), turn: make(chan struct{}, 1)}
	s.last = w.start + float64(n)/s.weight
	heap.Push(&l.queue, w)
	began := time.Now()
	for {
		// The first of the queue waits for the bucket, the others for their turn.
		var after <-chan time.Time
		var timer *time.Timer
		if l.queue[0] == w {
			wait := l.due(w)
			if wait == 0 {
				l.leave(w)
				l.virtual = w.start
				l.mu.Unlock()
				return time.Since(began), nil
			}
			timer = time.NewTimer(wait)
			after = timer.C
		}
		changed := l.changed
		l.mu.Unlock()
		select {
		case <-after:
		case <-w.turn:
		case <-changed:
		case <-ctx.Done():
		}
		if timer != nil {
			timer.Stop()
		}
		l.mu.Lock()
		if ctx.Err() != nil {
			l.leave(w)
			l.mu.Unlock()
			return time.Since(began), ctx.Err()
		}
	}
}

// leave takes a waiter out of the queue and tells the one that is first then.
func (l *Limiter) leave(w *waiter) {
	heap.Remove(&l.queue, w.at)
	if len(l.queue) > 0 {
		select {
		case l.queue[0].turn <- struct{}{}:
		default:
		}
	}
}

// due takes as much of the waiter's bytes as the bucket has and tells how long
// the rest takes.
func (l *Limiter) due(w *waiter) time.Duration {
	if l.bucket.Limit() == rate.Inf {
		return 0
	}
	now := time.Now()
	have := min(int(l.bucket.TokensAt(now)), w.n-w.had)
	if have > 0 && l.bucket.AllowN(now, have) {
		w.had += have
	}
	left := w.n - w.had
	if left == 0 {
		return 0
	}
	piece := min(left, l.bucket.Burst())
	missing := float64(piece) - l.bucket.TokensAt(now)
	return max(time.Duration(missing/float64(l.bucket.Limit())*float64(time.Second)), 50*time.Microsecond)
}

// waiter is one that wants bytes.
type waiter struct {
	n, had int
	start  float64
	at     int           // in the queue
	turn   chan struct{} // told when it may be the first
}

// waiters is a heap, the earliest start first.
type waiters []*waiter

func (q waiters) Len() int           { return len(q) }
func (q waiters) Less(a, b int) bool { return q[a].start < q[b].start }
func (q waiters) Swap(a, b int)      { q[a], q[b] = q[b], q[a]; q[a].at, q[b].at = a, b }
func (q *waiters) Push(w any) {
	x := w.(*waiter)
	x.at = len(*q)
	*q = append(*q, x)
}
func (q *waiters) Pop() any {
	old := *q
	w := old[len(old)-1]
	*q = old[:len(old)-1]
	return w
}
