package cycle

import (
	"context"
	"errors"

	"lumtra/core/history"
	"lumtra/core/plan"
	"lumtra/service/runs"
	"lumtra/service/workroom"
)

// Policy is what may go on by itself.
type Policy struct {
	// Number is the saved plan to carry out. 0 goes on with a plan that was begun and is
	// worth going on with, or makes one.
	Number int
	// Anew makes a plan even where one could be gone on with; Fresh says what surveys it is
	// made from.
	Anew  bool
	Fresh workroom.Freshness
	// Cause tries only what failed of this cause in earlier runs of the plan.
	Cause string
	// Despite names checks that would block the run, and are not to.
	Despite []string
	// Approve is asked about the plan before it is run: it gives the number of removals that
	// are let go, should a guard hold it back. Nil approves nothing.
	Approve func(info *plan.Info) (removals int64, ok bool)
	// Hold ends the cycle when the plan is made, unless it has nothing to do: with [ErrWaits], as a
	// person is to run it.
	Hold bool
	// Prove proves what was run; nil does not.
	Prove *workroom.ProveOptions
}

// Steps are told of, as they come. Each is one of those below.
type Step any

// The steps of a cycle.
type (
	// Planning is the beginning of a plan, with what goes on in it.
	Planning struct{ *workroom.Activity }
	// Planned is a plan that was made.
	Planned struct{ plan.Info }
	// Resuming is an older plan that is gone on with.
	Resuming struct{ Number int }
	// Running is a run that has begun.
	Running struct{ runs.Run }
	// Ran is how it went.
	Ran struct{ history.Run }
	// Proving is the beginning of a proof, with what goes on in it.
	Proving struct{ *workroom.Activity }
	// Proved is what it found.
	Proved struct{ *workroom.Proof }
)

// Cycle brings jobs all the way. Its methods may be called from many goroutines.
type Cycle struct {
	room  *workroom.Room
	start func(ctx context.Context, job string, opts workroom.RunOptions) (runs.Run, error)
}

// New makes a cycle of the jobs in a room, whose runs are begun by start.
func New(room *workroom.Room, start func(ctx context.Context, job string, opts workroom.RunOptions) (runs.Run,
	error)) *Cycle {
	return &Cycle{room, start}
}

// Begin brings a job as far as its run, which goes on when Begin has returned, and tells of
// every step; tell may be nil. It ends where something holds the job back, with the errors
// of the work room: [workroom.ErrHeld], [workroom.ErrBlocked], [workroom.ErrUndecided],
// [workroom.ErrNothingToDo].
func (c *Cycle) Begin(ctx context.Context, job string, p Policy, tell func(Step)) (runs.Run, error) {
	if tell == nil {
		tell = func(Step) {}
	}
	number, err := c.plan(ctx, job, p, tell)
	if err != nil {
		return nil, err
	}
	if err := c.approve(ctx, job, number, p); err != nil {
		return nil, err
	}
	if p.Hold {
		if err := c.hold(job, number); err != nil {
			return nil, err
		}
	}
	r, err := c.start(ctx, job, workroom.RunOptions{Number: number, Cause: p.Cause, Despite: p.Despite})
	if err == nil {
		tell(Running{r})
	}
	return r, err
}

// Go brings a job all the way, as Begin does, and waits. After [workroom.ErrNothingToDo] a proof
// is still made, and if that fails its error comes instead; a run that was stopped is not proven.
// The target is held to what the plan knew.
// When ctx ends a run of this process is stopped; one elsewhere goes on.
func (c *Cycle) Go(ctx context.Context, job string, p Policy, tell func(Step)) error {
	if tell == nil {
		tell = func(Step) {}
	}
	number := p.Number
	r, err := c.Begin(ctx, job, p, func(s Step) {
		switch s := s.(type) {
		case Planned:
			number = s.Number
		case Resuming:
			number = s.Number
		}
		tell(s)
	})
	end := history.Clean
	if err == nil {
		end, err = await(ctx, r, tell)
	}
	if p.Prove == nil || end == history.Stopped || err != nil && !errors.Is(err, workroom.ErrNothingToDo) ||
		ctx.Err() != nil {
		return err
	}
	if failed := c.Prove(ctx, job, number, *p.Prove, tell); failed != nil {
		return failed
	}
	return err
}

// plan gives the number of the plan to run.
func (c *Cycle) plan(ctx context.Context, job string, p Policy, tell func(Step)) (int, error) {
	if p.Number != 0 {
		return p.Number, nil
	}
	if !p.Anew {
		number, err := c.room.Resumable(ctx, job)
		if err != nil {
			return 0, err
		}
		if number != 0 {
			tell(Resuming{number})
			return number, nil
		}
	}
	a := &workroom.Activity{}
	tell(Planning{a})
	p.Fresh.Keep = p.Prove != nil
	info, err := c.room.Plan(ctx, job, p.Fresh, a)
	if err == nil {
		tell(Planned{info})
	}
	return info.Number, err
}

// ErrWaits means that a plan waits for a person to run it, because the job says so.
var ErrWaits = errors.New("the plan waits for a person to run it")

// hold leaves a plan that has something to do for a person to run.
func (c *Cycle) hold(job string, number int) error {
	saved, err := c.room.PlanNumber(job, number)
	if err != nil {
		return err
	}
	defer saved.Close()
	switch {
	case saved.Info.Idle():
		return workroom.ErrNothingToDo
	case len(saved.Info.Held) > 0:
		return workroom.Held(&saved.Info)
	}
	return ErrWaits
}

// approve lets a plan go that is held back, if the policy does.
func (c *Cycle) approve(ctx context.Context, job string, number int, p Policy) error {
	if p.Approve == nil {
		return nil
	}
	saved, err := c.room.PlanNumber(job, number)
	if err != nil {
		return err
	}
	info := saved.Info
	if err := saved.Close(); err != nil {
		return err
	}
	removals, ok := p.Approve(&info)
	if !ok {
		return nil
	}
	return c.room.Approve(ctx, job, number, removals)
}

// await waits for the end of a run.
func await(ctx context.Context, r runs.Run, tell func(Step)) (history.End, error) {
	select {
	case <-r.Done():
	case <-ctx.Done():
		if r.State().Far {
			return "", ctx.Err()
		}
		r.Stop()
	}
	res, err := r.Wait()
	if err == nil {
		tell(Ran{res})
	}
	return res.End, err
}

// Prove is the last step alone: the proof of the run of a plan.
func (c *Cycle) Prove(ctx context.Context, job string, number int, opts workroom.ProveOptions, tell func(Step)) error {
	a := &workroom.Activity{}
	tell(Proving{a})
	opts.Plan = number
	p, err := c.room.Prove(ctx, job, opts, a)
	if err == nil {
		tell(Proved{p})
	}
	return err
}
