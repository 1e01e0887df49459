package transfer

import (
	"context"
	"sync"
)

// budget bounds the attempts that follow failed ones, for the run as a whole: a
// store in trouble must not get more requests for it, whatever each single
// object's patience. What comes through earns; each new attempt costs. When the
// budget is spent, new attempts go one at a time, until one comes through. The
// zero value is full.
type budget struct {
	mu    sync.Mutex
	spent float64
	// alone is held by the one attempt there may be when all is spent.
	alone  bool
	change chan struct{} // closed when it may be worth looking again
}

const (
	// budgetSize is how many attempts more than earned there may be.
	budgetSize = 64
	// earned is what a request that comes through earns: a store that fails one
	// in three is still asked at full speed.
	earned = 0.5
)

// take waits until there may be another attempt. The function it returns is to
// be called when that is over; nil means that ctx ended first.
func (b *budget) take(ctx context.Context) (done func()) {
	for {
		b.mu.Lock()
		if b.spent+1 <= budgetSize {
			b.spent++
			b.mu.Unlock()
			return func() {}
		}
		if !b.alone {
			b.alone = true
			b.mu.Unlock()
			return b.leave
		}
		if b.change == nil {
			b.change = make(chan struct{})
		}
		change := b.change
		b.mu.Unlock()
		select {
		case <-change:
		case <-ctx.Done():
			return nil
		}
	}
}

func (b *budget) leave() {
	b.mu.Lock()
	b.alone = false
	b.wake()
	b.mu.Unlock()
}

// earn notes a request that came through.
func (b *budget) earn() {
	b.mu.Lock()
	if b.spent > 0 {
		b.spent = max(b.spent-earned, 0)
		b.wake()
	}
	b.mu.Unlock()
}

// wake has those that wait look again. The caller holds the lock.
func (b *budget) wake() {
	if b.change != nil {
		close(b.change)
		b.change = nil
	}
}
