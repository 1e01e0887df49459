package workroom

import (
	"context"
	"errors"
	"slices"
	"syscall"
	"time"

	"lumtra/core/history"
	"lumtra/core/ledger"
)

// Resumable tells whether the job's newest plan was begun, is not finished,
// still fits the job, and is worth going on with: its run was stopped or cut
// off, or left parts of big objects behind. It returns the plan's number, or 0.
func (s *Room) Resumable(ctx context.Context, name string) (int, error) {
	j, err := s.ws.Job(name)
	if err != nil {
		return 0, err
	}
	p, err := s.LatestPlan(name)
	if p == nil {
		return 0, err
	}
	defer p.Close()
	if p.Info.Print != j.Print() || len(p.Info.Held) > 0 && !p.Approved() {
		return 0, nil
	}
	runs, err := s.Runs(ctx, name, time.Time{}, 1)
	if err != nil || len(runs) == 0 || runs[0].Plan != p.Info.Number {
		return 0, err
	}
	ledger, err := s.openLedger(p, s.durable(j))
	if err != nil {
		return 0, err
	}
	defer ledger.Close()
	finished, _ := ledger.Finished()
	switch runs[0].End {
	case history.Clean, history.Running:
		return 0, nil
	case history.Failures:
		if !ledger.Unfinished() {
			return 0, nil
		}
	}
	if finished < p.Info.Totals.Work().Count || ledger.Sources() < p.Info.Afterwards.Count {
		return p.Info.Number, nil
	}
	return 0, nil
}

// Runs lists runs, newest first; job "" means all. A run whose process is gone
// without a word was interrupted, after what its ledger says.
func (s *Room) Runs(ctx context.Context, name string, since time.Time, limit int) ([]history.Run, error) {
	db, err := s.ws.History()
	if err != nil {
		return nil, err
	}
	runs, err := db.Runs(ctx, name, since, limit)
	for i := range runs {
		r := &runs[i]
		if r.End == history.Running && !alive(r.Pid) {
			r.End, r.Note = history.Interrupted, "its process ended without a word"
			r.Ended = r.Began
			if n := len(r.Samples); n > 0 {
				r.Ended = r.Began.Add(r.Samples[n-1].At)
			}
			s.recount(ctx, db, r)
		}
	}
	return runs, err
}

// recount takes what an interrupted run has done from its ledger, which knows more
// than the history was told last, and keeps it. A run of the plan that came later has
// added to the ledger: then the history's word stands.
func (s *Room) recount(ctx context.Context, db *history.DB, r *history.Run) {
	later, err := db.Runs(ctx, r.Job, r.Began.Add(time.Microsecond), 100)
	if err != nil || slices.ContainsFunc(later, func(x history.Run) bool { return x.Plan == r.Plan && x.ID != r.ID }) {
		return
	}
	p, err := s.PlanNumber(r.Job, r.Plan)
	if err != nil {
		return
	}
	defer p.Close()
	done, bytes, err := ledger.Tally(ledgerPath(p))
	if err != nil || done-r.Before < r.Objects {
		return
	}
	r.Objects = done - r.Before
	if r.Before == 0 {
		r.Bytes = max(r.Bytes, bytes)
	}
	if err := db.Save(context.WithoutCancel(ctx), r); err != nil {
		s.ws.Log.Warn("the history could not be written", "error", err)
	}
}

func alive(pid int) bool {
	return pid > 0 && (syscall.Kill(pid, 0) == nil || errors.Is(syscall.Kill(pid, 0), syscall.EPERM))
}

// FailedObject is one that no run of a plan has brought to its end.
type FailedObject struct {
	Key  string
	Size int64
	ledger.Failure
}

// Failures lists what failed in the runs of a plan and was not done since, of
// one cause or with "" of any, with every attempt that is still known; at most
// as many as limit.
func (s *Room) Failures(ctx context.Context, name string, number int, cause string, limit int) ([]FailedObject, error) {
	p, err := s.PlanNumber(name, number)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	found, err := ledger.Failures(ledgerPath(p), cause, limit)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	at := make(map[int64]int, len(found))
	all := make([]FailedObject, len(found))
	for i, f := range found {
		at[f.Effect], all[i].Failure = i, f
	}
	c := p.Effects("")
	for n := int64(0); c.Next() && len(at) > 0 && ctx.Err() == nil; n++ {
		if i, ok := at[n]; ok {
			all[i].Key, all[i].Size = c.Effect().Key, c.Effect().Bytes()
			delete(at, n)
		}
	}
	return all, errors.Join(c.Err(), ctx.Err())
}
