package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"time"

	"golang.org/x/term"

	"lumtra/core/transfer"
	"lumtra/service/runs"
	"lumtra/service/workroom"
)

// teller shows how far something is: on one changing line of a terminal, else in a line or
// an event of its own now and then.
type teller struct {
	say   func(text string)
	every time.Duration
	json  bool
}

// pipedEvery is how often a pipe hears how far something is.
const pipedEvery = 10 * time.Second

// teller finds out how to tell how far something is.
func (a *app) teller() teller {
	if a.out.json {
		return teller{nil, a.pipedEvery(), true}
	}
	f, ok := a.errOut.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return teller{func(text string) {
			if text != "" {
				fmt.Fprintln(a.errOut, text)
			}
		}, a.pipedEvery(), false}
	}
	return teller{func(text string) {
		if width, _, err := term.GetSize(int(f.Fd())); err == nil && len([]rune(text)) >= width {
			text = string([]rune(text)[:max(width-2, 0)]) + "…" // a second line could not be taken away
		}
		io.WriteString(f, "\r\x1b[K"+text)
	}, 200 * time.Millisecond, false}
}

func (a *app) pipedEvery() time.Duration {
	if a.every != 0 {
		return a.every
	}
	return pipedEvery
}

// during has tell called now and then until the function it returns is called, which waits
// until the last call is over.
func during(every time.Duration, tell func()) (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	gone := make(chan struct{})
	go func() {
		defer close(gone)
		tick := time.NewTicker(every)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				tell()
			case <-ctx.Done():
				return
			}
		}
	}()
	return func() { cancel(); <-gone }
}

// progress tells how far a survey, a plan or a proof is, until the function it returns is called.
func (a *app) progress(act *workroom.Activity) (stop func()) {
	t := a.teller()
	end := during(t.every, func() {
		name, _ := act.Stage()
		if !t.json {
			t.say(name + ": " + activityText(act))
			return
		}
		a.out.say("progress", map[string]any{"stage": name, "source_objects": act.Source.Objects.Load(),
			"target_objects": act.Target.Objects.Load(), "compared_objects": act.Compared.Objects.Load(),
			"compared_bytes": act.Compared.Bytes.Load()}, "")
	})
	return func() {
		if end(); !t.json {
			t.say("")
		}
	}
}

func activityText(act *workroom.Activity) string {
	if n := act.Compared.Objects.Load(); n > 0 {
		return fmt.Sprintf("%s, %s", plural(n, "object", "objects"), bytesText(act.Compared.Bytes.Load()))
	}
	return fmt.Sprintf("%s at the source, %s at the target", plural(act.Source.Objects.Load(), "object", "objects"),
		countText(act.Target.Objects.Load()))
}

// follow tells how far a run is, as often as it suits who reads it.
func (a *app) follow(r runs.Run) (stop func()) {
	t := a.teller()
	before := r.State()
	end := during(t.every, func() {
		state := r.State()
		if t.json {
			a.sayState(r.Job(), state, &before)
		} else {
			t.say("running: " + runningText(&state, &before, time.Now()))
		}
		before = state
	})
	return func() {
		if end(); !t.json {
			t.say("")
		}
	}
}

// runningText is how far a run is: how much of it, how fast, until when, and what holds it
// back since it was looked at last.
func runningText(s, before *runs.State, now time.Time) string {
	if s.Phase == transfer.SeeingTo {
		return fmt.Sprintf("%s of %s handled at the source", countText(s.SeenTo),
			plural(s.Afterwards.Count, "object", "objects"))
	}
	text := fmt.Sprintf("%s of %s, %s of %s (%d %%)", countText(s.Before+s.Objects),
		plural(s.Planned.Count, "object", "objects"), bytesText(s.BeforeBytes+s.Bytes), bytesText(s.Planned.Bytes),
		percent(s))
	if s.Phase == transfer.Removing {
		return text + ", deleting"
	}
	text += fmt.Sprintf(", %s/s", bytesText(int64(s.Lately())))
	if soon, late, ok := s.Expect(now); ok {
		text += ", " + leftText(soon.Sub(now), late.Sub(now)) + " left"
	}
	if s.Failed > 0 {
		text += fmt.Sprintf(", %s failed", countText(s.Failed))
	}
	if s.Steering.Paused {
		return text + "; paused"
	}
	if most, known := s.HeldBack(before); known {
		text += "; " + most.HoldsBack()
	}
	return text
}

// percent is how much of a run's bytes has arrived, or of its objects where it has none.
func percent(s *runs.State) int {
	done, all := s.BeforeBytes+s.Bytes, s.Planned.Bytes
	if all == 0 {
		done, all = s.Before+s.Objects, s.Planned.Count
	}
	if all == 0 {
		return 100
	}
	return int(min(max(100*float64(done)/float64(all), 0), 100))
}

// leftText is a span of time as two ends, or as one where they agree.
func leftText(soon, late time.Duration) string {
	a, b := span(soon), span(late)
	if late > 99*time.Hour {
		b = "days"
	}
	if a == b {
		return "about " + a
	}
	return a + " to " + b
}
