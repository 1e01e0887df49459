package transfer

import (
	"slices"
	"sync"
)

// Control steers a run while it goes. The zero value is ready; its methods may
// be called from any goroutine, before and during the run. One control is for
// one run.
type Control struct {
	mu       sync.Mutex
	state    Steering
	ceilings map[string]int
	again    []string
	changed  chan struct{} // closed and replaced at each change
	ended    chan struct{} // closed by Finish
}

// Steering is how a run is being steered.
type Steering struct {
	// Paused was asked for by a person, Quiet by the hours of the job.
	Paused, Quiet bool
	// Finishing tells that what is under way is the last.
	Finishing bool
	// Streams is how many requests may be under way; Automatic tells that the
	// run finds the number itself.
	Streams   int
	Automatic bool
	// Ceiling is the most streams that what the run shares with others leaves
	// it; 0 for no such limit.
	Ceiling int
}

// allowed is how many streams may work.
func (s *Steering) allowed() int {
	if s.Ceiling > 0 {
		return min(s.Streams, s.Ceiling)
	}
	return s.Streams
}

// MaxStreams is the most streams a run can have.
const MaxStreams = 1024

// change changes the state and wakes those that wait for that.
func (c *Control) change(f func(*Steering)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.ready()
	before := c.state
	if f(&c.state); c.state == before {
		return
	}
	if c.state.Finishing && !before.Finishing {
		close(c.ended)
	}
	close(c.changed)
	c.changed = make(chan struct{})
}

func (c *Control) ready() {
	if c.changed == nil {
		c.changed, c.ended = make(chan struct{}), make(chan struct{})
	}
}

// Pause begins no further requests; those under way come to their end.
func (c *Control) Pause() { c.change(func(s *Steering) { s.Paused = true }) }

// Resume goes on after Pause.
func (c *Control) Resume() { c.change(func(s *Steering) { s.Paused = false }) }

// SetQuiet is Pause and Resume for the hours of a job.
func (c *Control) SetQuiet(quiet bool) { c.change(func(s *Steering) { s.Quiet = quiet }) }

// Finish ends the run when the requests under way have ended: parts that have
// arrived stay, for the next run of the plan to go on with.
func (c *Control) Finish() { c.change(func(s *Steering) { s.Finishing = true }) }

// TryAgain has what failed of a cause tried again when the rest is done.
func (c *Control) TryAgain(cause string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !slices.Contains(c.again, cause) {
		c.again = append(c.again, cause)
	}
}

// takeAgain gives the causes asked for since the last call.
func (c *Control) takeAgain() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	all := c.again
	c.again = nil
	return all
}

// SetStreams sets how many requests may be under way, from 1 to [MaxStreams]; 0
// leaves it to the run.
func (c *Control) SetStreams(n int) {
	c.change(func(s *Steering) {
		if s.Automatic = n <= 0; !s.Automatic {
			s.Streams = min(n, MaxStreams)
		}
	})
}

// SetCeiling sets the most streams that something shared, by its name, leaves to
// the run; 0 lifts it.
func (c *Control) SetCeiling(name string, n int) {
	c.change(func(s *Steering) {
		if c.ceilings == nil {
			c.ceilings = map[string]int{}
		}
		c.ceilings[name] = n
		s.Ceiling = 0
		for _, n := range c.ceilings {
			if n > 0 && (s.Ceiling == 0 || n < s.Ceiling) {
				s.Ceiling = n
			}
		}
	})
}

// Steering is the present state.
func (c *Control) Steering() Steering {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.state
}

// adapt sets the number of streams while that is left to the run.
func (c *Control) adapt(n int) {
	c.change(func(s *Steering) {
		if s.Automatic {
			s.Streams = n
		}
	})
}

// begin sets what holds when nothing was asked for before the run.
func (c *Control) begin(streams int) {
	c.change(func(s *Steering) {
		if s.Streams == 0 {
			if s.Streams, s.Automatic = streams, streams <= 0; s.Automatic {
				s.Streams = DefaultStreams
			}
		}
	})
}

// finished is closed when the run is to end.
func (c *Control) finished() <-chan struct{} {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.ready()
	return c.ended
}

// watch returns the state and a channel that is closed when it changes.
func (c *Control) watch() (Steering, <-chan struct{}) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.ready()
	return c.state, c.changed
}
