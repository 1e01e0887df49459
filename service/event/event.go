package event

import (
	"context"
	"iter"
	"slices"
	"sync"
	"time"
)

// Kind is what changed. The names are stable: they go over the socket and into records.
type Kind string

// The kinds.
const (
	// WorkspaceChanged: jobs or endpoints were written, by Lumtra or outside it.
	WorkspaceChanged Kind = "workspace-changed"
	// EndpointTested: an endpoint test has ended. StoreLearned: a store did otherwise than
	// was known; Text says how.
	EndpointTested Kind = "endpoint-tested"
	StoreLearned   Kind = "store-learned"
	// Surveyed: a place of an endpoint was listed.
	Surveyed Kind = "surveyed"
	// PlanMade and PlanDecided: a plan, Number, was made, or a person decided about it.
	PlanMade    Kind = "plan-made"
	PlanDecided Kind = "plan-decided"
	// RunBegan, RunMoved and RunEnded follow a run of plan Number; Text of the last is how it
	// ended.
	RunBegan Kind = "run-began"
	RunMoved Kind = "run-moved"
	RunEnded Kind = "run-ended"
	// ProofMade: proof Number of a job was made.
	ProofMade Kind = "proof-made"
	// ActBegan and ActEnded: something was begun by hand, Text, and has ended.
	ActBegan Kind = "act-began"
	ActEnded Kind = "act-ended"
	// StartMoved: a start of a job by itself came to a state; Text says which, and Number the plan
	// it carries out.
	StartMoved Kind = "start-moved"
	// ServiceChanged: a background service has come or gone.
	ServiceChanged Kind = "service-changed"
)

// Event is one change.
type Event struct {
	Kind Kind      `json:"event"`
	At   time.Time `json:"at"`
	// Job, Endpoint and Number name what it is about, where it is about one.
	Job      string `json:"job,omitempty"`
	Endpoint string `json:"endpoint,omitempty"`
	Number   int    `json:"number,omitempty"`
	Text     string `json:"text,omitempty"`
}

// Hub hands events on. The zero Hub is ready; its methods may be called from many
// goroutines.
type Hub struct {
	// Now is the clock that events without a time are given; nil is the machine's.
	Now func() time.Time

	mu   sync.Mutex
	next int
	to   map[int]func(Event)
}

// Publish hands an event to all that subscribe, one after the other, and returns when they
// have taken it.
func (h *Hub) Publish(e Event) {
	if e.At.IsZero() {
		if e.At = time.Now(); h.Now != nil {
			e.At = h.Now()
		}
	}
	h.mu.Lock()
	numbers := make([]int, 0, len(h.to))
	for n := range h.to {
		numbers = append(numbers, n)
	}
	slices.Sort(numbers)
	all := make([]func(Event), len(numbers))
	for i, n := range numbers {
		all[i] = h.to[n]
	}
	h.mu.Unlock()
	for _, f := range all {
		f(e)
	}
}

// Subscribe has f called with every event from now on, until cancel is called. f is called
// by whoever publishes, and must not take long.
func (h *Hub) Subscribe(f func(Event)) (cancel func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.to == nil {
		h.to = map[int]func(Event){}
	}
	n := h.next
	h.next++
	h.to[n] = f
	return func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.to, n)
	}
}

// Listeners is how many subscribe.
func (h *Hub) Listeners() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.to)
}

// Listen gives the events from now on, until ctx ends. For a listener that is slow, those of
// one kind about one thing become one, the newest: it is told of every change, not every
// time, and what waits for it stays small.
func (h *Hub) Listen(ctx context.Context) iter.Seq[Event] {
	q := &queue{wake: make(chan struct{}, 1)}
	cancel := h.Subscribe(q.put)
	context.AfterFunc(ctx, cancel) // also where nobody ranges over them
	return func(yield func(Event) bool) {
		defer cancel()
		for {
			select {
			case <-ctx.Done():
				return
			case <-q.wake:
			}
			for _, e := range q.take() {
				if ctx.Err() != nil || !yield(e) {
					return
				}
			}
		}
	}
}

// queue holds what a listener has not taken yet.
type queue struct {
	wake chan struct{}

	mu      sync.Mutex
	waiting []Event
}

func (q *queue) put(e Event) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.waiting = slices.DeleteFunc(q.waiting, func(o Event) bool {
		return o.Kind == e.Kind && o.Job == e.Job && o.Endpoint == e.Endpoint && o.Number == e.Number
	})
	q.waiting = append(q.waiting, e)
	select {
	case q.wake <- struct{}{}:
	default:
	}
}

func (q *queue) take() []Event {
	q.mu.Lock()
	defer q.mu.Unlock()
	all := q.waiting
	q.waiting = nil
	return all
}
