package transfer

import (
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"lumtra/core/object"
)

// Meter measures a run while it goes. The zero value is ready; Snapshot may be
// called at any time from any goroutine.
type Meter struct {
	objects, bytes, failed, retries atomic.Int64
	seenTo, unverified              atomic.Int64
	phase                           atomic.Int32
	throttles, read                 atomic.Int64
	stages                          [stageCount]atomic.Int64 // nanoseconds, summed over streams
	control                         *Control

	mu       sync.Mutex
	began    time.Time
	ended    time.Time
	step     time.Duration
	samples  []Sample
	flights  map[*flight]struct{}
	problems []Problem
	course   course
}

// Sample is a point of the run's curve: totals at a time since the start.
type Sample struct {
	At             time.Duration
	Bytes, Objects int64
	// Read is what the source gave, what had to be read again included.
	Read int64
}

// Stage is what a stream spends its time on.
type Stage uint8

// The stages, in the order content passes them.
const (
	Reading   Stage = iota // the source gives its content
	Hashing                // checksums are computed
	Sending                // the target takes the content
	Answering              // the target has all and has not answered yet
	Throttled              // waiting as long as a store asked for
	Mending                // waiting after a failure before the next attempt
	Limited                // waiting for a limit that someone set
	stageCount
)

// Stages are all stages.
var Stages = [...]Stage{Reading, Hashing, Sending, Answering, Throttled, Mending, Limited}

// String is the stage in a word or two.
func (s Stage) String() string {
	return [...]string{"read", "hash", "send", "await answer", "throttled", "mend", "limit"}[s]
}

// HoldsBack says what it means that a stage takes most of the time.
func (s Stage) HoldsBack() string {
	return [...]string{
		Reading: "the source holds it back: most of the time goes into reading",
		Hashing: "this machine holds it back: most of the time goes into checksums",
		Sending: "the way to the target holds it back: most of the time goes into sending",
		Answering: "the target holds it back: most of the time goes into waiting for its answers; more streams " +
			"may help",
		Throttled: "the store asked to slow down: most of the time goes into waiting as it asked",
		Mending:   "failures hold it back: most of the time goes into waiting before the next try",
		Limited:   "a limit holds it back, not the stores",
	}[s]
}

// spent adds time to a stage.
func (m *Meter) spent(s Stage, d time.Duration) { m.stages[s].Add(int64(d)) }

// Phase is what a run is at.
type Phase int32

// The phases, in their order.
const (
	Carrying Phase = iota
	Removing
	SeeingTo // seeing to the sources, once their copies are proven
)

// String is the phase in a word.
func (p Phase) String() string { return [...]string{"carrying", "deleting", "seeing to the source"}[p] }

func (m *Meter) enter(p Phase) { m.phase.Store(int32(p)) }

// PartState is what is happening to a part.
type PartState uint8

// The states of a part.
const (
	Waiting PartState = iota
	Moving
	Again // moving, after a failure
	Done
)

// Flight is an object on its way.
type Flight struct {
	Key        string
	Size, Sent int64
	Parts      []PartState // nil for an object sent whole
	Tries      int
	Began      time.Time
}

// Problem is a cause of failures with some of the objects it struck.
type Problem struct {
	Cause, Advice string
	Count         int64
	Keys          []string // the first few
	Effects       []int64  // their numbers in the plan
	Detail        string   // the first error in full
}

// Snapshot is a copy of the state of a run.
type Snapshot struct {
	Began, Ended    time.Time
	Objects, Bytes  int64 // finished objects; bytes sent
	Failed, Retries int64
	SeenTo          int64 // sources that something became of
	Unverified      int64 // finished, with nothing to hold their content against
	Phase           Phase
	Course
	Steering Steering
	Samples  []Sample
	Flights  []Flight // longest under way first
	Problems []Problem
}

const (
	firstStep  = 250 * time.Millisecond
	maxSamples = 2048
	keptKeys   = 50
)

func (m *Meter) start(c *Control) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.control = c
	m.began, m.step = time.Now(), firstStep
	m.flights = map[*flight]struct{}{}
	m.samples = append(m.samples[:0], Sample{})
}

// watch samples the totals until stop is closed. The curve of a long run is
// kept in fewer, wider steps.
func (m *Meter) watch(stop <-chan struct{}) {
	tick := time.NewTicker(firstStep)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			m.sample(false)
		case <-stop:
			m.sample(true)
			return
		}
	}
}

func (m *Meter) sample(final bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	s := Sample{time.Since(m.began), m.bytes.Load(), m.objects.Load(), m.read.Load()}
	if final {
		m.ended = time.Now()
	} else if s.At-m.samples[len(m.samples)-1].At < m.step-firstStep/2 {
		return
	}
	if m.samples = append(m.samples, s); len(m.samples) > maxSamples {
		kept := m.samples[:0]
		for i := 0; i < len(m.samples); i += 2 {
			kept = append(kept, m.samples[i])
		}
		m.samples, m.step = kept, m.step*2
	}
}

// Snapshot copies the present state.
func (m *Meter) Snapshot() Snapshot {
	m.mu.Lock()
	defer m.mu.Unlock()
	s := Snapshot{
		Began: m.began, Ended: m.ended,
		Objects: m.objects.Load(), Bytes: m.bytes.Load(), Failed: m.failed.Load(), Retries: m.retries.Load(),
		SeenTo: m.seenTo.Load(), Unverified: m.unverified.Load(), Phase: Phase(m.phase.Load()),
		Samples: slices.Clone(m.samples), Problems: slices.Clone(m.problems),
	}
	s.Throttles = m.throttles.Load()
	s.Arrived, s.Slowest = m.course.copy()
	for i := range s.Stages {
		s.Stages[i] = time.Duration(m.stages[i].Load())
	}
	if m.control != nil {
		s.Steering = m.control.Steering()
	}
	for f := range m.flights {
		s.Flights = append(s.Flights, f.snapshot())
	}
	slices.SortFunc(s.Flights, func(a, b Flight) int { return a.Began.Compare(b.Began) })
	for i := range s.Problems {
		s.Problems[i].Keys, s.Problems[i].Effects = slices.Clone(s.Problems[i].Keys),
			slices.Clone(s.Problems[i].Effects)
	}
	return s
}

// flight is an object on its way, as its streams see it.
type flight struct {
	m     *Meter
	key   string
	size  int64
	began time.Time
	sent  atomic.Int64
	tries atomic.Int32
	mu    sync.Mutex
	parts []PartState
	// digest is of the content as it was last sent, where there is one. It is the
	// stream's that sends it.
	digest object.Sum
}

func (m *Meter) takeOff(key string, size int64, parts int) *flight {
	f := &flight{m: m, key: key, size: size, began: time.Now()}
	if parts > 0 {
		f.parts = make([]PartState, parts)
	}
	m.mu.Lock()
	m.flights[f] = struct{}{}
	m.mu.Unlock()
	return f
}

func (f *flight) land() {
	f.m.mu.Lock()
	delete(f.m.flights, f)
	f.m.mu.Unlock()
}

func (f *flight) setPart(number int, s PartState) {
	f.mu.Lock()
	f.parts[number-1] = s
	f.mu.Unlock()
}

func (f *flight) snapshot() Flight {
	f.mu.Lock()
	defer f.mu.Unlock()
	return Flight{f.key, f.size, f.sent.Load(), slices.Clone(f.parts), int(f.tries.Load()), f.began}
}

// forgive takes the failures of a cause back, since they are tried again.
func (m *Meter) forgive(cause string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.problems = slices.DeleteFunc(m.problems, func(p Problem) bool {
		if p.Cause == cause {
			m.failed.Add(-p.Count)
		}
		return p.Cause == cause
	})
}

// problem files a failure under its cause.
func (m *Meter) problem(effect int64, key, cause, advice, detail string) {
	m.failed.Add(1)
	m.mu.Lock()
	defer m.mu.Unlock()
	i := slices.IndexFunc(m.problems, func(p Problem) bool { return p.Cause == cause })
	if i < 0 {
		i = len(m.problems)
		m.problems = append(m.problems, Problem{Cause: cause, Advice: advice, Detail: detail})
	}
	p := &m.problems[i]
	if p.Count++; len(p.Keys) < keptKeys {
		p.Keys, p.Effects = append(p.Keys, key), append(p.Effects, effect)
	}
}
