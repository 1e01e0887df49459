package transfer

import (
	"fmt"
	"runtime/debug"
	"sync"
	"time"
)

// streams carry out tasks, as many at a time as the control lets them.
type streams struct {
	control *Control
	tasks   chan func()
	over    chan struct{} // closed when no tasks come any more
	all     sync.WaitGroup
	failed  func(error) // told of a panic
}

func newStreams(c *Control, failed func(error)) *streams {
	return &streams{control: c, tasks: make(chan func()), over: make(chan struct{}), failed: failed}
}

// run keeps as many streams as there may be until close is called.
func (s *streams) run() {
	s.all.Go(func() {
		for n := 0; ; {
			state, changed := s.control.watch()
			for ; n < state.allowed(); n++ {
				number := n
				s.all.Go(func() { s.stream(number) })
			}
			select {
			case <-changed:
			case <-s.over:
				return
			}
		}
	})
}

// close waits for the tasks handed out; none may be handed out any more.
func (s *streams) close() {
	close(s.over)
	s.all.Wait()
}

// stream takes tasks while it is one of those that may.
func (s *streams) stream(n int) {
	for {
		state, changed := s.control.watch()
		if state.Paused || state.Quiet || n >= state.allowed() {
			select {
			case <-changed:
				continue
			case <-s.over:
				return
			}
		}
		select {
		case task := <-s.tasks:
			s.guarded(task)
		case <-changed:
		case <-s.over:
			return
		}
	}
}

// guarded runs a task and turns a panic into an error that says where.
func (s *streams) guarded(task func()) {
	defer func() {
		if v := recover(); v != nil {
			s.failed(fmt.Errorf("a fault in Lumtra itself: %v\n%s", v, debug.Stack()))
		}
	}()
	task()
}

// tuner finds how many streams help: more while that makes a run faster, fewer
// when a store asks to slow down.
type tuner struct {
	streams, before int
	last            float64 // work done in the step before
	rest            int     // steps to leave it as it is
	trying          bool
	// rising tells that more have helped each time so far: they double in quick
	// steps.
	rising bool
}

// MostTuned is how many streams a run comes to by itself.
const MostTuned = 128

const (
	tuneStep    = time.Second
	riseStep    = 250 * time.Millisecond
	riseGain    = 1.3
	tuneRest    = 15   // steps between tries
	tuneGain    = 1.08 // what a try must bring to be kept
	objectWorth = 64 << 10
)

// next is the number of streams for the step to come, after one in which so
// much was done and the stores asked so often to slow down.
func (t *tuner) next(work float64, throttled int64) int {
	defer func() { t.last = work }()
	switch {
	case throttled > 0:
		t.trying, t.rising, t.rest = false, false, tuneRest
		t.streams = max(1, t.streams*2/3)
	case t.rising && work < t.last*riseGain:
		t.rising, t.rest = false, 1
		t.streams = t.before
	case t.rising:
		t.before = t.streams
		t.streams = min(2*t.streams, MostTuned)
	case t.trying && work < t.last*tuneGain:
		t.trying, t.rest = false, tuneRest
		t.streams = t.before
	case t.rest > 0:
		t.rest--
	case t.streams < MostTuned:
		t.trying, t.before = true, t.streams
		t.streams = min(t.streams+max(t.streams/2, 1), MostTuned)
	}
	return t.streams
}

// tune lets the tuner set the streams until the run is over, where nobody else
// does.
func (r *run) tune(over <-chan struct{}) {
	tick := time.NewTimer(riseStep)
	defer tick.Stop()
	t := tuner{streams: DefaultStreams, before: DefaultStreams, rising: true}
	bytes, objects, throttled := int64(0), int64(0), int64(0)
	for {
		select {
		case <-over:
			return
		case <-tick.C:
		}
		b, o, th := r.meter.bytes.Load(), r.meter.objects.Load(), r.meter.throttles.Load()
		state := r.control.Steering()
		limited := r.limited.Swap(false)
		if state.Automatic && !state.Paused && !state.Quiet && !limited && (!t.rising || b > bytes) {
			r.control.adapt(t.next(float64(b-bytes)+float64(o-objects)*objectWorth, th-throttled))
		}
		bytes, objects, throttled = b, o, th
		if tick.Reset(tuneStep); t.rising {
			tick.Reset(riseStep)
		}
	}
}
