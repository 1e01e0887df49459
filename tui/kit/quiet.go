package kit

import (
	"fmt"
	"time"

	"lumtra/core/object"
)

// patience is how long something may take before a person is told what is waited for.
const patience = 3 * time.Second

// WaitingFor tells what is waited for, how long already and how to end it; "" as long as a
// person would not ask.
func WaitingFor(whom string, since, now time.Time, ends string) string {
	if since.IsZero() || now.Sub(since) < patience {
		return ""
	}
	return fmt.Sprintf("waiting for %s to answer, %s; %s", object.Display(whom), Span(now.Sub(since)), ends)
}

// Quiet notes since when a count has stood still.
type Quiet struct {
	n     int64
	since time.Time
}

// Note takes in the count as it is now. A count that begins anew counts as one that moves.
func (q *Quiet) Note(n int64, now time.Time) {
	if q.since.IsZero() || n != q.n {
		q.n, q.since = n, now
	}
}

// Since is when the count moved last, zero when it was never seen.
func (q *Quiet) Since() time.Time { return q.since }
