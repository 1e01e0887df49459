package client

import (
	"encoding/json"
	"time"
)

// About is the service.
type About struct {
	Version   string    `json:"version"`
	Pid       int       `json:"pid"`
	Began     time.Time `json:"began"`
	Workspace string    `json:"workspace"`
}

// Endpoint is where objects lie; nothing in it is secret.
type Endpoint struct {
	Name    string `json:"name"`
	Kind    string `json:"kind"`
	Address string `json:"address,omitempty"`
}

// Job is a job as its file says, with when it starts next.
type Job struct {
	Name   string `json:"name"`
	Source string `json:"source"`
	Target string `json:"target"`
	// Starts says in plain words when it starts by itself; Next is its next time.
	Starts string    `json:"starts"`
	Next   time.Time `json:"next,omitzero"`
	// Running tells that a run is under way; Plan is the number of its newest plan, 0 for none.
	Running bool `json:"running"`
	Plan    int  `json:"plan,omitempty"`
}

// Total is how many objects an effect has, and their bytes.
type Total struct {
	Count int64 `json:"count"`
	Bytes int64 `json:"bytes"`
}

// Plan is a numbered plan.
type Plan struct {
	Job    string    `json:"job"`
	Number int       `json:"number"`
	Made   time.Time `json:"made"`
	// Totals are by effect: add, change, remove, conflict, same, …
	Totals map[string]Total `json:"totals"`
	// Held says why a person has to approve it first; Notes are what bears on it.
	Held     []string `json:"held,omitempty"`
	Approved bool     `json:"approved"`
	Notes    []string `json:"notes,omitempty"`
	// Warnings are what the job gives up of what is promised.
	Warnings []string `json:"warnings,omitempty"`
}

// Run is a run that is over, or under way.
type Run struct {
	Job     string    `json:"job"`
	Plan    int       `json:"plan"`
	Began   time.Time `json:"began"`
	Ended   time.Time `json:"ended,omitzero"`
	End     string    `json:"end"`
	Objects int64     `json:"objects"`
	Bytes   int64     `json:"bytes"`
	Failed  int64     `json:"failed"`
	// Of are all objects and bytes that the plan moves.
	OfObjects int64  `json:"of_objects"`
	OfBytes   int64  `json:"of_bytes"`
	Note      string `json:"note,omitempty"`
}

// Progress is a run as it goes, or as it ended.
type Progress struct {
	Run Run `json:"run"`
	// Over tells that it has ended; Error is then what made going on senseless.
	Over  bool   `json:"over"`
	Error *Error `json:"error,omitempty"`
	// Paused, Streams and Priority are how it is steered; Limit is the bandwidth in force in words: free,
	// quiet, or a rate such as 80 MB/s.
	Paused   bool   `json:"paused,omitempty"`
	Streams  int    `json:"streams,omitempty"`
	Priority string `json:"priority,omitempty"`
	Limit    string `json:"limit,omitempty"`
	// Detail is what a window of the service's own version draws. Version 1 promises nothing of it.
	Detail json.RawMessage `json:"detail,omitempty"`
}

// Proof is what a comparison of both sides found.
type Proof struct {
	Job     string           `json:"job"`
	Number  int              `json:"number"`
	Method  string           `json:"method"`
	Began   time.Time        `json:"began"`
	Ended   time.Time        `json:"ended"`
	Holds   bool             `json:"holds"`
	Objects map[string]int64 `json:"objects"`
	Gaps    int64            `json:"gaps"`
}

// Start is a start of a job by itself, as it went.
type Start struct {
	Job   string    `json:"job"`
	Slot  time.Time `json:"slot"`
	Cause string    `json:"cause"`
	State string    `json:"state"`
	Plan  int       `json:"plan,omitempty"`
	Note  string    `json:"note,omitempty"`
}

// Coming is a start that will be; Seconds is how long its run takes, by past ones, 0 for not known.
type Coming struct {
	Job     string    `json:"job"`
	At      time.Time `json:"at"`
	Seconds float64   `json:"seconds,omitempty"`
}

// Event is something that changed.
type Event struct {
	Event    string    `json:"event"`
	At       time.Time `json:"at"`
	Job      string    `json:"job,omitempty"`
	Endpoint string    `json:"endpoint,omitempty"`
	Number   int       `json:"number,omitempty"`
	Text     string    `json:"text,omitempty"`
}

// Make says how a plan is made.
type Make struct {
	// Fresh is how old, in seconds, a kept survey may be; 0 surveys both sides anew.
	Fresh float64 `json:"fresh,omitempty"`
}

// Prove says how both sides are compared; what is left out is as the job says.
type Prove struct {
	// Method is size, stored-checksum or read-back; Digest is sha256 or blake3.
	Method string `json:"method,omitempty"`
	Digest string `json:"digest,omitempty"`
}

// Begin says which plan to run: 0 is the newest.
type Begin struct {
	Plan int `json:"plan,omitempty"`
	// Cause tries only what failed of this cause in earlier runs of the plan.
	Cause string `json:"cause,omitempty"`
	// Despite names checks that would hold the run back, and are not to.
	Despite []string `json:"despite,omitempty"`
}

// Steer changes a run under way; what is left out stays.
type Steer struct {
	Pause     *bool  `json:"pause,omitempty"`
	Streams   *int   `json:"streams,omitempty"`
	Bandwidth string `json:"bandwidth,omitempty"`
	// Priority is low, usual or high; Again is a cause whose failures are tried again when the rest is
	// done; End is finish or now.
	Priority string `json:"priority,omitempty"`
	Again    string `json:"again,omitempty"`
	End      string `json:"end,omitempty"`
}

// Error is why something was not done.
type Error struct {
	// Kind is input, missing, held, blocked, undecided, nothing, busy, planning, cancelled, token or
	// other; Text is for people.
	Kind string `json:"kind"`
	Text string `json:"text"`
}

// Error is its text.
func (e *Error) Error() string { return e.Text }
