package runs

import (
	"time"

	"lumtra/core/history"
	"lumtra/core/pace"
	"lumtra/core/plan"
	"lumtra/core/transfer"
)

// Run is a plan being carried out, in this process or another. Its methods may be called
// from many goroutines.
type Run interface {
	// Job is the name of the job.
	Job() string
	// State is the run as it is now.
	State() State
	// Steer changes how it goes on.
	Steer(x Steer) error
	// Stop ends it at once; what has arrived whole stays.
	Stop()
	// Done is closed when it has ended.
	Done() <-chan struct{}
	// Wait waits for the end and tells how it went. The error is what made going on
	// senseless; failed objects are in the result.
	Wait() (history.Run, error)
}

// State is a run at a moment.
type State struct {
	transfer.Snapshot
	Plan int
	// Before and BeforeBytes are what earlier runs of the plan had finished,
	// Planned what all of it is, Afterwards the sources to be seen to.
	Before, BeforeBytes int64
	Planned, Afterwards plan.Total
	Started             time.Time
	Priority            Priority
	// Limit is the bandwidth in force for this run and whatever shares it, until
	// the given time if that is not zero; Limiter says whose it is: "job",
	// "by hand", or an endpoint's name.
	Limit   pace.Limit
	Until   time.Time
	Limiter string
	// Far tells that the background service carries it out.
	Far bool
	// Notes are what was found on the way, in words.
	Notes []string
}

// Priority is how much of a shared limit a run gets.
type Priority string

// The priorities. A higher one gets four times as much as the next lower while
// both want it.
const (
	Low   Priority = "low"
	Usual Priority = "usual"
	High  Priority = "high"
)

// Priorities are all, from low to high.
var Priorities = []Priority{Low, Usual, High}

func (p Priority) weight() int { return map[Priority]int{Low: 1, Usual: 4, High: 16}[p] }

// Steer is a change to a run under way. What is nil or "" stays.
type Steer struct {
	Pause *bool `json:"pause,omitempty"`
	// Streams is how many requests may be under way; 0 leaves it to the run.
	Streams *int `json:"streams,omitempty"`
	// Bandwidth is a rate such as "80 MB/s", "free", or "hours" for what the job
	// says.
	Bandwidth string   `json:"bandwidth,omitempty"`
	Priority  Priority `json:"priority,omitempty"`
	// Again is a cause whose failures are tried again when the rest is done.
	Again string `json:"again,omitempty"`
	// End is "finish" to end when the parts under way have arrived, "now" to drop
	// them.
	End string `json:"end,omitempty"`
}
