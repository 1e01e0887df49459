package runs

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"sync"
	"time"

	"lumtra/core/history"
	"lumtra/core/pace"
	"lumtra/core/transfer"
	"lumtra/service/event"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// Runner lets runs begin, and knows those under way in this process. Its methods may be
// called from many goroutines; what is under way ends with the workspace's life.
type Runner struct {
	ws   *workspace.Keeper
	room *workroom.Room

	mu     sync.Mutex
	runs   map[string]*local
	last   map[string]*local // the last run of each job that ended here
	limits map[string]*endpointLimit
}

// New makes a runner for the jobs of a workspace.
func New(ws *workspace.Keeper, room *workroom.Room) *Runner {
	x := &Runner{ws: ws, room: room, runs: map[string]*local{}, last: map[string]*local{},
		limits: map[string]*endpointLimit{}}
	ws.Events.Subscribe(x.learned)
	return x
}

// learned notes, with each run under way at an endpoint, what was learned of its store.
func (x *Runner) learned(e event.Event) {
	if e.Kind != event.StoreLearned {
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, r := range x.runs {
		if r.at[e.Endpoint] {
			r.note(fmt.Sprintf("%s does not do all that its API says (%s), and is asked in another way from here on",
				e.Endpoint, e.Text))
		}
	}
}

// Start begins to carry out a saved plan in this process and returns at once. It is refused
// where something stands in its way, see [workroom.Room.Ready].
func (x *Runner) Start(ctx context.Context, name string, opts workroom.RunOptions) (Run, error) {
	db, err := x.ws.History()
	if err != nil {
		return nil, err
	}
	ready, err := x.room.Ready(ctx, name, opts)
	if err != nil {
		return nil, err
	}
	// A run goes on when the call that began it is over.
	runCtx, stop := context.WithCancel(context.WithoutCancel(ctx))
	r := x.newLocal(ready, opts, stop)
	leave := x.join(r, ready.Job)
	r.apply(r.began)
	if err := db.Begin(ctx, &r.result); err != nil {
		stop()
		leave()
		return nil, errors.Join(err, ready.Withdraw())
	}
	runCtx, over, ok := x.ws.Life.Begin(runCtx)
	if !ok {
		stop()
		leave()
		r.result.End, r.result.Ended = history.Stopped, x.ws.Now()
		return nil, errors.Join(context.Canceled, db.Save(context.WithoutCancel(ctx), &r.result), ready.Withdraw())
	}
	x.mu.Lock()
	x.runs[name] = r
	x.mu.Unlock()
	x.tell(r, event.RunBegan, "")
	go func() {
		defer over()
		defer stop()
		defer x.ended(r)
		defer ready.Close()
		x.room.DropOldUploads(runCtx, ready)
		defer leave()
		timeCtx, stopTime := context.WithCancel(runCtx)
		var timing sync.WaitGroup
		timing.Go(func() { r.keepTime(timeCtx) })
		timing.Go(func() { x.tellMoves(timeCtx, r) })
		x.carryOut(runCtx, r, ready, db)
		stopTime()
		timing.Wait()
	}()
	return r, nil
}

func (x *Runner) newLocal(ready *workroom.Ready, opts workroom.RunOptions, stop context.CancelFunc) *local {
	j, info := ready.Job, ready.Plan.Info
	planned := info.Totals.Work()
	r := &local{job: j.Name, now: x.ws.Now, plan: info, began: x.ws.Now(), meter: &transfer.Meter{},
		control: &transfer.Control{},
		limiter: pace.NewLimiter(0), hours: j.Limits.Hours, despite: opts.Despite, at: workroom.EndpointsOf(j),
		notes:  ready.Notes,
		before: ready.Before, beforeBytes: ready.BeforeBytes, planned: planned, stop: stop, done: make(chan struct{}),
		kick: make(chan struct{}, 1), priority: Usual}
	r.result = history.Run{Job: j.Name, Plan: info.Number, Began: r.began, End: history.Running, Before: ready.Before,
		Expected:       ready.Expected,
		PlannedObjects: planned.Count, PlannedBytes: planned.Bytes, Gaps: info.Source.Missed + info.Target.Missed,
		Pid: os.Getpid()}
	return r
}

// ended takes a run out of those under way.
func (x *Runner) ended(r *local) {
	x.mu.Lock()
	delete(x.runs, r.job)
	x.last[r.job] = r
	x.mu.Unlock()
	x.tell(r, event.RunEnded, string(r.result.End)) // before anybody who waits goes on
	close(r.done)
}

func (x *Runner) tell(r *local, kind event.Kind, text string) {
	x.ws.Events.Publish(event.Event{Kind: kind, Job: r.job, Number: r.plan.Number, Text: text})
}

// movesEvery is how often it is told that a run has moved on.
const movesEvery = 200 * time.Millisecond

// tellMoves tells that a run moves on, until ctx ends.
func (x *Runner) tellMoves(ctx context.Context, r *local) {
	tick := time.NewTicker(movesEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			x.tell(r, event.RunMoved, "")
		case <-ctx.Done():
			return
		}
	}
}

// Under is the job's run under way here; nil if there is none.
func (x *Runner) Under(job string) Run {
	x.mu.Lock()
	defer x.mu.Unlock()
	if r := x.runs[job]; r != nil {
		return r
	}
	return nil
}

// All are the runs under way here, by job.
func (x *Runner) All() map[string]Run {
	x.mu.Lock()
	defer x.mu.Unlock()
	all := make(map[string]Run, len(x.runs))
	for name, r := range x.runs {
		all[name] = r
	}
	return all
}

// Last is the job's run that ended here last; nil if none has.
func (x *Runner) Last(job string) Run {
	x.mu.Lock()
	defer x.mu.Unlock()
	if r := x.last[job]; r != nil {
		return r
	}
	return nil
}

// HandOver has the runs under way here go on elsewhere: each stops when its parts under way
// have arrived, and is begun there from where it stands, steered as it was.
func (x *Runner) HandOver(begin func(job string, opts workroom.RunOptions) (Run, error)) error {
	x.mu.Lock()
	here := slices.Collect(maps.Values(x.runs))
	x.mu.Unlock()
	var errs []error
	for _, r := range here {
		err := r.Steer(Steer{End: "finish"})
		if err == nil {
			_, err = r.Wait()
		}
		if err == nil && r.result.End == history.Stopped {
			var there Run
			there, err = begin(r.job, workroom.RunOptions{Number: r.plan.Number, Despite: r.despite})
			switch {
			case err == nil:
				err = there.Steer(r.steered())
			case errors.Is(err, workroom.ErrNothingToDo): // the last of it arrived as it was being stopped
				err = nil
			}
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}
