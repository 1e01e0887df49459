package places

import (
	"context"
	"sync"

	"lumtra/service"
	"lumtra/service/browse"
	"lumtra/service/workspace"
)

// sums counts what lies below prefixes, a few at a time, for those on screen
// first. What was counted is kept until it is known to have changed.
type sums struct {
	ctx context.Context
	s   *service.Service

	mu      sync.Mutex
	off     bool
	known   map[workspace.At]*browse.Counter
	running map[workspace.At]context.CancelFunc
	waiting []workspace.At
}

// atOnce is how many prefixes are counted at a time.
const atOnce = 2

func newSums(ctx context.Context, s *service.Service) *sums {
	return &sums{ctx: ctx, s: s, known: map[workspace.At]*browse.Counter{},
		running: map[workspace.At]context.CancelFunc{}}
}

// want says which prefixes are on screen; they are counted, others wait.
func (c *sums) want(shown []workspace.At) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.waiting = c.waiting[:0]
	for _, at := range shown {
		if c.known[at] == nil {
			c.waiting = append(c.waiting, at)
		}
	}
	c.next()
}

// next starts what waits, as far as there is room. The caller holds the lock.
func (c *sums) next() {
	for !c.off && len(c.running) < atOnce && len(c.waiting) > 0 && c.ctx.Err() == nil {
		at := c.waiting[0]
		c.waiting = c.waiting[1:]
		ctx, stop := context.WithCancel(c.ctx)
		counter := &browse.Counter{}
		c.known[at], c.running[at] = counter, stop
		go func() {
			defer stop()
			c.s.Count(ctx, at, counter)
			c.mu.Lock()
			defer c.mu.Unlock()
			delete(c.running, at)
			if ctx.Err() != nil && c.known[at] == counter {
				delete(c.known, at) // half a count is none
			}
			c.next()
		}()
	}
}

// of is what is known of a prefix.
func (c *sums) of(at workspace.At) browse.Sums {
	c.mu.Lock()
	defer c.mu.Unlock()
	if x := c.known[at]; x != nil {
		return x.Sums()
	}
	return browse.Sums{}
}

// has tells whether a prefix was counted or is being counted.
func (c *sums) has(at workspace.At) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.known[at] != nil
}

func (c *sums) busy() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(c.running) > 0
}

// toggle stops counting, or lets it go on. It tells whether it is on.
func (c *sums) toggle() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.off = !c.off; c.off {
		for _, stop := range c.running {
			stop()
		}
	}
	c.next()
	return !c.off
}

// forget drops what is known of a level, of all it lies in, and of all in it.
func (c *sums) forget(at workspace.At) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for known := range c.known {
		if known.Endpoint == at.Endpoint && (known.Bucket == at.Bucket || known.Bucket == "" || at.Bucket == "") {
			if stop := c.running[known]; stop != nil {
				stop()
			}
			delete(c.known, known)
		}
	}
}
