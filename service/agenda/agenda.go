package agenda

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/starts"
	"lumtra/service/cycle"
	"lumtra/service/event"
	"lumtra/service/runs"
	"lumtra/service/state"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// lookEvery is how often the clock is looked at, whatever was planned: clocks are set, and timers
// stand still while a machine sleeps.
const lookEvery = 20 * time.Second

// Agenda carries out the starts of a workspace's jobs.
type Agenda struct {
	ws    *workspace.Keeper
	room  *workroom.Room
	runs  *runs.Runner
	cycle *cycle.Cycle
	book  *starts.Book
	desk  *Desk

	wake    chan struct{}
	begun   chan struct{}
	turned  atomic.Int64 // when it looked at the clock last, in seconds
	working sync.WaitGroup

	mu sync.Mutex
	// own are the plans that starts carry out, so that what is told of their runs is not taken for
	// a person's.
	own map[plan]bool
}

// plan is a plan of a job.
type plan struct {
	job    string
	number int
}

// Open opens the book of a workspace, and a desk on it.
func Open(ctx context.Context, ws *workspace.Keeper, room *workroom.Room, runner *runs.Runner) (*Agenda, error) {
	book, err := starts.Open(ws.Dir.Path(starts.FileName))
	if err != nil {
		return nil, err
	}
	desk, err := NewDesk(ctx, book, ws.Now())
	if err != nil {
		return nil, errors.Join(err, book.Close())
	}
	return &Agenda{ws: ws, room: room, runs: runner, cycle: cycle.New(room, runner.Start), book: book, desk: desk,
		wake: make(chan struct{}, 1), begun: make(chan struct{}), own: map[plan]bool{}}, nil
}

// Close closes the book. Run has ended.
func (a *Agenda) Close() error { return a.book.Close() }

// Alive tells that the clock was looked at lately.
func (a *Agenda) Alive() bool {
	return time.Now().Unix()-a.turned.Load() < int64(3*lookEvery/time.Second)
}

// Begun is closed once all jobs have been looked at for the first time.
func (a *Agenda) Begun() <-chan struct{} { return a.begun }

// Desk is the agenda's desk.
func (a *Agenda) Desk() *Desk { return a.desk }

// keptStarts is how long ended starts stay in the book.
const keptStarts = 400 * 24 * time.Hour

// Run starts jobs at their times until ctx ends; what is at work then ends with it, and is gone on
// with by whoever keeps the book next.
func (a *Agenda) Run(ctx context.Context) error {
	defer a.working.Wait()
	heard := a.ws.Events.Listen(ctx)
	a.ws.Life.Go(func(context.Context) {
		for e := range heard {
			a.hear(ctx, e)
		}
	})
	if err := a.book.Prune(ctx, a.ws.Now().Add(-keptStarts)); err != nil && ctx.Err() == nil {
		return err
	}
	timer := time.NewTimer(0)
	defer timer.Stop()
	for first := true; ; first = false {
		select {
		case <-ctx.Done():
			return nil
		case <-timer.C:
		case <-a.wake:
		}
		wait, err := a.turn(ctx)
		a.turned.Store(time.Now().Unix())
		if first {
			close(a.begun)
		}
		if err != nil && ctx.Err() == nil {
			a.ws.Log.Error("the book of starts could not be kept", "error", err)
			wait = lookEvery
		}
		timer.Reset(wait)
	}
}

// turn takes the workspace as it is, begins what is due, and says how long nothing will be.
func (a *Agenda) turn(ctx context.Context) (wait time.Duration, err error) {
	now := a.ws.Now()
	w := a.ws.Workspace()
	if err := a.desk.Sync(ctx, w.Jobs, limits(w), now); err != nil {
		return 0, err
	}
	begin, ended, err := a.desk.Due(ctx, now)
	for _, r := range ended {
		a.tell(r)
	}
	for _, r := range begin {
		a.tell(r)
		a.working.Go(func() { a.work(ctx, r) })
	}
	wait = lookEvery
	if next := a.desk.Next(); !next.IsZero() {
		wait = min(wait, max(next.Sub(now), 0))
	}
	return wait, err
}

func limits(w *job.Workspace) Limits {
	l := Limits{All: w.Service.Most(), Endpoints: map[string]int{}}
	for name, e := range w.Endpoints {
		l.Endpoints[name] = e.Runs
	}
	return l
}

// kick has the next turn be at once.
func (a *Agenda) kick() {
	select {
	case a.wake <- struct{}{}:
	default:
	}
}

// hear takes in what changed.
func (a *Agenda) hear(ctx context.Context, e event.Event) {
	switch e.Kind {
	case event.WorkspaceChanged:
		a.kick()
	case event.RunEnded:
		if a.disown(plan{e.Job, e.Number}) {
			return
		}
		if err := a.desk.RanByHand(ctx, e.Job, e.Number, stateOf(history.End(e.Text)), a.ws.Now()); err != nil &&
			ctx.Err() == nil {
			a.ws.Log.Error("the book of starts could not be kept", "job", e.Job, "error", err)
		}
		a.kick()
	}
}

// disown forgets a plan as its own; it tells whether it was.
func (a *Agenda) disown(p plan) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	was := a.own[p]
	delete(a.own, p)
	return was
}

// planned notes which plan a start carries out, before that is begun.
func (a *Agenda) planned(ctx context.Context, r starts.Row, number int) starts.Row {
	a.mu.Lock()
	a.own[plan{r.Job, number}] = true
	a.mu.Unlock()
	r, err := a.desk.Planned(ctx, r, number, a.ws.Now())
	if err != nil {
		a.ws.Log.Error("the book of starts could not be kept", "job", r.Job, "error", err)
	}
	return r
}

// LastArrival is when something came for a job last; the zero time where nothing has.
func (a *Agenda) LastArrival(ctx context.Context, name string) time.Time {
	rows, err := a.book.Since(ctx, name, time.Time{}, mostKept)
	if err != nil {
		return time.Time{}
	}
	for i := range rows {
		if rows[i].Cause == starts.ByArrival {
			return rows[i].Slot
		}
	}
	return time.Time{}
}

// Came has jobs start because something came for them.
func (a *Agenda) Came(ctx context.Context, note string, jobs ...string) error {
	err := a.desk.Came(ctx, starts.ByArrival, note, a.ws.Now(), jobs...)
	a.kick()
	return err
}

// tell publishes that a start has come to a state.
func (a *Agenda) tell(r starts.Row) {
	a.ws.Events.Publish(event.Event{Kind: event.StartMoved, Job: r.Job, Number: r.Plan, Text: r.Words()})
	a.ws.Log.Info("start", "job", r.Job, "slot", r.Slot, "cause", r.Cause, "state", r.State, "plan", r.Plan, "note",
		r.Note)
}

// stateOf is what a run's end makes of its start.
func stateOf(end history.End) starts.State {
	switch end {
	case history.Clean:
		return starts.Done
	case history.Stopped:
		return starts.Stopped
	}
	return starts.Failed
}

// retryBusy is how long a start waits for a job that somebody else is planning or running.
const retryBusy = 15 * time.Second

// work brings a start all the way, and writes down how it went. What ctx cuts short stays at work in
// the book.
func (a *Agenda) work(ctx context.Context, r starts.Row) {
	defer a.kick()
	end := a.carryOut(ctx, r)
	if end.State == starts.AtWork || ctx.Err() != nil {
		return
	}
	if err := a.desk.Ended(ctx, end, a.ws.Now()); err != nil {
		a.ws.Log.Error("the book of starts could not be kept", "job", r.Job, "error", err)
		return
	}
	a.tell(end)
}

// carryOut is the cycle of one start; it gives the start as it ended.
func (a *Agenda) carryOut(ctx context.Context, r starts.Row) starts.Row {
	defer func() {
		if p := recover(); p != nil {
			a.ws.Log.Error("a start failed on an error of Lumtra's own", "job", r.Job, "panic", fmt.Sprint(p))
		}
	}()
	j := a.desk.Job(r.Job)
	if j == nil {
		r.State, r.Note = starts.Skipped, "there is no such job any more"
		return r
	}
	went := &went{}
	policy := a.policy(ctx, j, &r, went)
	if policy.Number != 0 {
		r = a.planned(ctx, r, policy.Number)
	}
	tell := func(s cycle.Step) {
		switch s := s.(type) {
		case cycle.Planned:
			r = a.planned(ctx, r, s.Number)
		case cycle.Resuming:
			r = a.planned(ctx, r, s.Number)
		case cycle.Running:
			went.began = true
			a.steer(ctx, j, s.Run)
		case cycle.Ran:
			went.run = &s.Run
		case cycle.Proved:
			went.proof = s.Proof
		}
	}
	var err error
	switch {
	case went.run == nil:
		err = a.cycle.Go(ctx, r.Job, policy, tell)
	case policy.Prove != nil:
		err = a.cycle.Prove(ctx, r.Job, r.Plan, *policy.Prove, tell)
	}
	if !went.began {
		a.disown(plan{r.Job, r.Plan})
	}
	return a.ended(ctx, j, r, went, err)
}

// went is how the steps of a start went.
type went struct {
	began bool
	run   *history.Run
	proof *workroom.Proof
}

// policy is how a start goes. One that was interrupted goes on with its plan; where that was carried
// out to its end, and only the book did not hear of it, it went so, and at most its proof is left to make.
func (a *Agenda) policy(ctx context.Context, j *job.Job, r *starts.Row, went *went) cycle.Policy {
	p := cycle.Policy{Anew: r.Plan == 0}
	if j.When.Prove {
		p.Prove = &workroom.ProveOptions{}
	}
	if j.When.Unattended == job.Waits {
		p.Hold = true
	}
	if r.Plan == 0 {
		return p
	}
	past, err := a.room.Runs(ctx, r.Job, time.Time{}, 20)
	if err != nil {
		return p
	}
	for i := range past {
		if past[i].Plan != r.Plan {
			continue
		}
		if past[i].End == history.Clean {
			went.run = &past[i]
			if made, err := a.room.LatestProof(r.Job); err == nil && made != nil && made.Plan == r.Plan {
				went.proof, p.Prove = made, nil
			}
			return p
		}
		p.Number, p.Hold = r.Plan, false
		return p
	}
	// Planned, and not begun: what is there may have changed since.
	p.Anew = true
	return p
}

// ended is a start after its cycle.
func (a *Agenda) ended(ctx context.Context, j *job.Job, r starts.Row, went *went, err error) starts.Row {
	r.Until = time.Time{}
	did := "nothing to do"
	if went.run != nil {
		did = runWords(went.run)
	}
	switch idle := errors.Is(err, workroom.ErrNothingToDo); {
	case ctx.Err() != nil: // it is gone on with
		return r
	case (err == nil || idle) && went.proof != nil && !went.proof.Holds():
		r.State, r.Note = starts.Failed, did+"; but what is there is not what should be: the proof tells"
	case idle:
		r.State, r.Note = starts.Done, did
	case errors.Is(err, workroom.ErrHeld), errors.Is(err, workroom.ErrBlocked), errors.Is(err, workroom.ErrUndecided),
		errors.Is(err, cycle.ErrWaits):
		r.State, r.Note = starts.Waiting, err.Error()
		if t := j.When.ApprovalTime(); t > 0 {
			r.Until = a.ws.Now().Add(t)
		}
	case errors.Is(err, state.ErrBusy), errors.Is(err, state.ErrPlanning):
		r.State, r.Due, r.Note = starts.Queued, a.ws.Now().Add(retryBusy), "somebody else is at this job"
	case err != nil:
		r.State, r.Note = starts.Failed, err.Error()
	case went.run == nil:
		r.State, r.Note = starts.Failed, "it was not told how it went"
	default:
		r.State, r.Note = stateOf(went.run.End), did
		if open, until := j.Schedule.Open(a.ws.Now()); r.State == starts.Stopped && !open {
			r.State, r.Due, r.Note = starts.Queued, until, "goes on when its window opens"
		}
	}
	return r
}
