package schedule

import (
	"fmt"
	"time"
)

// Overlap is what becomes of a start that comes while its job is still at work.
type Overlap string

// What becomes of it. One that is queued starts when the job is free; "queue-one" keeps one
// waiting, whatever comes.
const (
	SkipIt   Overlap = "skip"
	QueueOne Overlap = "queue-one"
	QueueAll Overlap = "queue-all"
)

// missedPolicy says what becomes of starts whose time passed while nobody could start them.
type missedPolicy struct {
	skip   bool
	within time.Duration // 0 is however late
}

func parseMissed(text string) (missedPolicy, error) {
	switch text {
	case "", "run":
		return missedPolicy{}, nil
	case "skip":
		return missedPolicy{skip: true}, nil
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		return missedPolicy{}, &Wrong{"missed", 0, fmt.Sprintf("missed is %q; it is \"run\", \"skip\", or how late a "+
			"start may be, such as \"6h\"", text)}
	}
	return missedPolicy{within: d}, nil
}

// Verdict is what becomes of a start.
type Verdict string

// The verdicts.
const (
	Begin Verdict = "begin"
	Queue Verdict = "queue"
	Skip  Verdict = "skip"
)

// Missed says what becomes of starts that were missed, in order, at the moment when they are found:
// of those that would run only the last does, once.
func (x *Schedule) Missed(starts []Start, now time.Time) (run *Start, skipped []Start) {
	for i := range starts {
		late := now.Sub(starts[i].At)
		if x.missed.skip || x.missed.within > 0 && late >= x.missed.within {
			skipped = append(skipped, starts[i])
			continue
		}
		if run != nil {
			skipped = append(skipped, *run)
		}
		run = &starts[i]
	}
	return run, skipped
}

// Overlapping says what becomes of a start while the job is at work and so many starts of it wait.
func (x *Schedule) Overlapping(working bool, waiting int) Verdict {
	switch {
	case !working && waiting == 0:
		return Begin
	case x.overlap == QueueAll, x.overlap == QueueOne && waiting == 0:
		return Queue
	}
	return Skip
}
