package probe

import (
	"time"

	"lumtra/core/object"
	"lumtra/core/place"
)

// Outcome is how one step came out.
type Outcome string

// The outcomes.
const (
	Fine    Outcome = "fine"
	Refused Outcome = "denied"        // tried, and not allowed or failed
	Absent  Outcome = "not supported" // the endpoint cannot do this; nothing is wrong
	Untried Outcome = "not tested"
)

// UnmarshalText reads the outcome, also as older builds wrote it.
func (o *Outcome) UnmarshalText(text []byte) error {
	switch *o = Outcome(text); *o {
	case "refused":
		*o = Refused
	case "absent":
		*o = Absent
	case "untried":
		*o = Untried
	}
	return nil
}

// Check is one step of a test.
type Check struct {
	Name    string  `json:"name"`
	Outcome Outcome `json:"outcome"`
	// Found says what was seen; Mend what a person can do about a refusal.
	Found string        `json:"found"`
	Mend  string        `json:"mend,omitempty"`
	Took  time.Duration `json:"took"`
}

// Report is what a test found out.
type Report struct {
	Endpoint string    `json:"endpoint"`
	Bucket   string    `json:"bucket,omitempty"`
	At       time.Time `json:"at"`
	Checks   []Check   `json:"checks"`
	// Wrote tells that writing was tried, so that what only that tells is known.
	Wrote bool `json:"wrote"`

	// Latency is the median time of a small request. Skew is how far the
	// store's clock is ahead of this one. Up and Down are bytes a second, over
	// one stream. Zero means not measured.
	Latency time.Duration `json:"latency,omitempty"`
	// Clock is how far the times of objects that were written were from this machine's; nil where that was not
	// found out.
	Clock *place.Clock  `json:"clock,omitempty"`
	Skew  time.Duration `json:"skew,omitempty"`
	Up    float64       `json:"up,omitempty"`
	Down  float64       `json:"down,omitempty"`

	Versioning place.Versioning `json:"versioning,omitempty"`
	// VerifiesSums, Conditions and Parts tell what was seen to work.
	VerifiesSums bool `json:"verifies-sums"`
	Conditions   bool `json:"conditions"`
	Parts        bool `json:"parts"`
	// Facts are what was found out by trying; nil where nothing was tried.
	Facts *place.Facts `json:"facts,omitempty"`
	// Clean tells that nothing of the test is left, or was made.
	Clean bool `json:"-"`
	// Promises are kept in these ways, by what was found.
	Promises []place.Promise `json:"promises,omitempty"`
}

// Refused counts the steps that were.
func (r *Report) Refused() int {
	n := 0
	for _, c := range r.Checks {
		if c.Outcome == Refused {
			n++
		}
	}
	return n
}

// Check finds a step by its name; the zero Check if it was not reached.
func (r *Report) Check(name string) Check {
	for _, c := range r.Checks {
		if c.Name == name || name == "delete" && c.Name == "remove" { // as older builds called it
			return c
		}
	}
	return Check{}
}

// Apply puts what was found in place of what the protocol promises.
func (r *Report) Apply(a place.Abilities) place.Abilities {
	if a.Clock != (place.Clock{}) {
		a.Clock = r.clock()
	}
	if !r.Wrote {
		return a
	}
	if !a.Tree && (r.Facts == nil && !r.VerifiesSums || r.Facts != nil &&
		r.Facts.Answers[place.KeepsSum] != place.Works) {
		a.StoredSums = object.NoSum
	}
	a.Conditions = a.Conditions && r.Conditions
	if !r.Parts {
		a.MinPart, a.MaxPart, a.MaxParts = 0, 0, 0
	}
	return a
}

// clock is how far times may be off: as it was found, or else by the clock that answers told, and a second for
// how it is rounded.
func (r *Report) clock() place.Clock {
	if r.Clock != nil {
		return *r.Clock
	}
	return place.Clock{Early: time.Second - min(r.Skew, 0), Late: time.Second + max(r.Skew, 0)}
}
