package agenda

import (
	"context"
	"fmt"
	"time"

	"github.com/dustin/go-humanize"

	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/schedule"
	"lumtra/service/runs"
)

// steer has a run go by its job's priority and window, as long as it is under way.
func (a *Agenda) steer(ctx context.Context, j *job.Job, r runs.Run) {
	if p := runs.Priority(j.When.Priority); p != "" && p != runs.Usual {
		a.say(j, r.Steer(runs.Steer{Priority: p}))
	}
	if _, until := j.Schedule.Open(a.ws.Now()); until.IsZero() || j.Schedule.AtWindowEnd() == schedule.GoesOn {
		return
	}
	a.working.Go(func() { a.heed(ctx, j, r) })
}

// heed pauses a run when its window ends and has it go on when the next opens, or ends it.
func (a *Agenda) heed(ctx context.Context, j *job.Job, r runs.Run) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	was := true
	for {
		select {
		case <-r.Done():
			return
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		open, _ := j.Schedule.Open(a.ws.Now())
		if open == was {
			continue
		}
		was = open
		if j.Schedule.AtWindowEnd() == schedule.Stops {
			a.say(j, r.Steer(runs.Steer{End: "finish"}))
			return
		}
		pause := !open
		a.say(j, r.Steer(runs.Steer{Pause: &pause}))
	}
}

// say logs what could not be done.
func (a *Agenda) say(j *job.Job, err error) {
	if err != nil {
		a.ws.Log.Warn("a run could not be steered by its job's window", "job", j.Name, "error", err)
	}
}

// runWords are how a run went, in a few words.
func runWords(r *history.Run) string {
	text := object.Count(r.Objects, "object") + ", " + humanize.IBytes(uint64(max(r.Bytes, 0)))
	if r.Failed > 0 {
		text += fmt.Sprintf(", %d failed", r.Failed)
	}
	if r.Note != "" {
		text += ": " + r.Note
	}
	return text
}
