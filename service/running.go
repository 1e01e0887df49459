package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/sys/unix"

	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/pace"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/rule"
	"lumtra/core/transfer"
)

// Errors a run is refused with.
var (
	// ErrHeld means that a guard holds the plan back.
	ErrHeld = errors.New("held back by a guard")
	// ErrNothingToDo means that the plan has no effects to carry out, or that
	// all of them are done.
	ErrNothingToDo = errors.New("nothing to do")
	// ErrUndecided means that conflicts are all that is left, and wait for a person.
	ErrUndecided = errors.New("not decided")
	// ErrBusy means that the job is running, here or in another process.
	ErrBusy = errors.New("the job is running already")
	// ErrPlanning means that the job's places are being surveyed, here or in
	// another process.
	ErrPlanning = errors.New("the job is being planned or proven already")
)

// RunOptions choose what is run.
type RunOptions struct {
	// Number is the plan's; 0 means the newest.
	Number int
	// Cause tries only what failed of this cause in earlier runs of the plan; ""
	// is all that is not done.
	Cause string
	// Here carries the run out in this process even if there is a background
	// service.
	Here bool
	// Despite names checks that would block the run, and are not to.
	Despite []string
}

// Resumable tells whether the job's newest plan was begun, is not finished,
// still fits the job, and is worth going on with: its run was stopped or cut
// off, or left parts of big objects behind. It returns the plan's number, or 0.
func (s *Service) Resumable(ctx context.Context, name string) (int, error) {
	j, err := s.job(name)
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
	ledger, err := s.ledger(p, s.durable(j))
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
	if finished < p.Info.Totals.Work().Count || ledger.Settled() < p.Info.Afterwards.Count {
		return p.Info.Number, nil
	}
	return 0, nil
}

// ledgerPath is where a plan's ledger lies: beside it.
func ledgerPath(p *plan.Plan) string { return strings.TrimSuffix(p.Path, ".plan") + ".ledger" }

func (s *Service) ledger(p *plan.Plan, durable bool) (*transfer.Ledger, error) {
	return transfer.OpenLedger(ledgerPath(p), fmt.Sprintf("%s %s", p.Info.Print, p.Info.Made.Format(time.RFC3339Nano)), durable)
}

// durable tells whether a job's ledger is to outlive a power loss: because the
// job says so, or a folder of it whose files are to.
func (s *Service) durable(j *job.Job) bool {
	for _, at := range []string{j.Source, j.Target} {
		name, _ := job.SplitPlace(at)
		if e := s.Workspace().Endpoints[name]; e != nil && e.Sync {
			return true
		}
	}
	return j.Limits.Durable
}

// StartRun begins to carry out a saved plan and returns at once. Where there is
// a background service it is the one that does.
func (s *Service) StartRun(ctx context.Context, name string, opts RunOptions) (_ *ActiveRun, err error) {
	if !opts.Here && s.Background(ctx) != nil {
		return s.startFar(ctx, name, opts)
	}
	j, err := s.job(name)
	if err != nil {
		return nil, err
	}
	db, err := s.openHistory()
	if err != nil {
		return nil, err
	}
	var undo []func() error
	defer func() {
		if err != nil {
			for _, f := range slices.Backward(undo) { // the lock goes last
				f()
			}
		}
	}()
	unlock, err := s.lock(name, "lock", ErrBusy)
	if err != nil {
		return nil, err
	}
	undo = append(undo, unlock)
	p, err := s.planFor(ctx, j, opts)
	if err != nil {
		return nil, err
	}
	undo = append(undo, p.Close)
	x, err := s.places(ctx, j)
	if err != nil {
		return nil, err
	}
	_, begun := os.Stat(ledgerPath(p))
	ledger, err := s.ledger(p, s.durable(j))
	if err != nil {
		return nil, err
	}
	undo = append(undo, func() error {
		err := ledger.Close()
		if begun != nil { // a run that did not begin leaves its plan to be chosen from
			err = errors.Join(err, os.Remove(ledgerPath(p)))
		}
		return err
	})
	before, beforeBytes := ledger.Finished()
	blocked := func() error { return s.blocked(ctx, j, p, x, beforeBytes, opts.Despite) }
	if err := blocked(); err != nil {
		return nil, err
	}
	notes := s.ready(ctx, j, x)
	if len(notes) > 0 { // it may be known better now
		err = blocked()
	}
	if err == nil {
		err = s.hold(j, x)
	}
	if err != nil {
		return nil, err
	}
	source, target := x.source, x.target
	expected := s.Estimate(ctx, j, &p.Info).Expect
	work := p.Info.Totals.Work()
	if before >= work.Count && ledger.Settled() >= p.Info.Afterwards.Count && p.Info.Whole() {
		if said := undecided(&p.Info); said != "" {
			return nil, fmt.Errorf("%w: %s", ErrUndecided, said)
		}
		return nil, ErrNothingToDo
	}
	only, err := s.only(p, opts.Cause)
	if err != nil {
		return nil, err
	}
	// A run goes on when the call that began it is over.
	runCtx, stop := context.WithCancel(context.WithoutCancel(ctx))
	r := &ActiveRun{Job: name, plan: p.Info, began: time.Now(), meter: &transfer.Meter{}, control: &transfer.Control{}, limiter: pace.NewLimiter(0), hours: j.Limits.Hours,
		despite: opts.Despite, at: endpointsOf(j), notes: notes, before: before, beforeBytes: beforeBytes, planned: work, stop: stop, done: make(chan struct{}), kick: make(chan struct{}, 1), priority: Usual}
	r.result = history.Run{Job: name, Plan: p.Info.Number, Began: r.began, End: history.Running, Before: before,
		Expected: expected, PlannedObjects: work.Count, PlannedBytes: work.Bytes, Gaps: p.Info.Source.Missed + p.Info.Target.Missed, Pid: os.Getpid()}
	leave := s.join(r, j)
	undo = append(undo, func() error { leave(); return nil })
	r.apply(r.began)
	digest, _ := j.DigestKind()
	if err := db.Begin(ctx, &r.result); err != nil {
		stop()
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		stop()
		r.result.End, r.result.Ended = history.Stopped, time.Now()
		return nil, errors.Join(context.Canceled, db.Save(context.WithoutCancel(ctx), &r.result))
	}
	s.runs[name] = r
	s.waiting.Go(func() {
		defer close(r.done)
		defer func() {
			s.mu.Lock()
			delete(s.runs, name)
			s.last[name] = r
			s.mu.Unlock()
		}()
		defer unlock()
		defer p.Close()
		s.dropOldUploads(runCtx, name, p.Info.Number, source, target)
		defer leave()
		timeCtx, stopTime := context.WithCancel(runCtx)
		var timing sync.WaitGroup
		timing.Go(func() { r.keepTime(timeCtx) })
		s.carryOut(runCtx, r, p, source, target, ledger, db, transfer.Options{Streams: j.Limits.Streams, PartSize: j.Limits.PartBytes,
			Proof: j.Proof, Digest: digest, ReadTwice: j.ReadTwice, Verified: j.Guards.Unverified == rule.FailUnverified, Only: only, Control: r.control, Pacers: r.pacers()})
		stopTime()
		timing.Wait()
		stop()
	})
	return r, nil
}

// undecided says that conflicts wait to be decided; "" where none do.
func undecided(info *plan.Info) string {
	n := info.Totals[plan.Conflict].Count
	if n == 0 {
		return ""
	}
	what := humanize.Comma(n) + " conflicts wait"
	if n == 1 {
		what = "1 conflict waits"
	}
	return what + " to be decided: d in the window's Plan, or conflicts in the job"
}

// only chooses what failed of a cause; nil is all.
func (s *Service) only(p *plan.Plan, cause string) (func(int64) bool, error) {
	if cause == "" {
		return nil, nil
	}
	all, err := transfer.Failures(ledgerPath(p), cause, 0)
	if err != nil {
		return nil, err
	}
	if len(all) == 0 {
		return nil, badInput(fmt.Errorf("nothing of plan %d has failed because of %q, or all of it was done since", p.Info.Number, cause))
	}
	failed := make(map[int64]bool, len(all))
	for _, f := range all {
		failed[f.Effect] = true
	}
	return func(effect int64) bool { return failed[effect] }, nil
}

// planFor opens the plan to run and holds it against job and guards.
func (s *Service) planFor(ctx context.Context, j *job.Job, opts RunOptions) (p *plan.Plan, err error) {
	if opts.Number != 0 {
		p, err = s.PlanNumber(j.Name, opts.Number)
	} else if p, err = s.LatestPlan(j.Name); err == nil && p == nil {
		err = badInput(errors.New("there is no plan; `lumtra plan` makes one"))
	}
	if err != nil {
		return nil, err
	}
	if err = p.Recount(ctx); err != nil {
		p.Close()
		return nil, err
	}
	switch {
	case p.Info.Print != j.Print():
		err = badInput(fmt.Errorf("the job %s has changed since plan %d was made; make a new one", j.Name, p.Info.Number))
	case len(p.Info.Held) > 0 && !p.Approved():
		err = fmt.Errorf("%w: %s; look at the plan, and if it is meant: %s", ErrHeld, strings.Join(p.Info.Held, "; "), ApproveCommand(&p.Info))
	case p.Info.Idle():
		err = ErrNothingToDo
	}
	if err != nil {
		p.Close()
		return nil, err
	}
	return p, nil
}

// ApproveCommand is the command that lets a held plan go.
func ApproveCommand(info *plan.Info) string {
	return fmt.Sprintf("lumtra run %s --plan %d --approve %d", info.Job, info.Number, info.Totals[plan.Remove].Count)
}

// endpointsOf are the endpoints a job names.
func endpointsOf(j *job.Job) map[string]bool {
	from, _ := job.SplitPlace(j.Source)
	to, _ := job.SplitPlace(j.Target)
	return map[string]bool{from: true, to: true}
}

// lock takes one of a job's locks, for this process or any other: "lock" while
// it runs, "planning" while its two sides are being surveyed and compared.
func (s *Service) lock(name, file string, busy error) (unlock func() error, err error) {
	dir, err := s.jobDir(name)
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(filepath.Join(dir, file), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return nil, busy
	}
	return f.Close, nil
}

// carryOut runs the plan and keeps the history's record of it up to date.
func (s *Service) carryOut(ctx context.Context, r *ActiveRun, p *plan.Plan, source, target place.Place, ledger *transfer.Ledger, db *history.DB, opts transfer.Options) {
	s.log.Info("run begins", "job", r.Job, "plan", p.Info.Number, "objects", r.planned.Count-r.before)
	stopSaving, saved := make(chan struct{}), make(chan struct{})
	go func() { // others that look at the history see how far it is
		defer close(saved)
		tick := time.NewTicker(2 * time.Second)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				now := r.result
				measure(&now, r.meter.Snapshot())
				if err := db.Save(context.WithoutCancel(ctx), &now); err != nil {
					s.log.Warn("the history could not be written", "error", err)
				}
			case <-stopSaving:
				return
			}
		}
	}()
	out, err := transfer.Run(ctx, p, source, target, ledger, r.meter, opts)
	finished, _ := ledger.Finished()
	whole := finished >= r.planned.Count && ledger.Settled() >= p.Info.Afterwards.Count
	close(stopSaving)
	<-saved
	err = errors.Join(err, ledger.Close())
	measure(&r.result, r.meter.Snapshot())
	r.result.Objects, r.result.Settled, r.result.Unverified, r.result.Ended = out.Objects, out.Settled, out.Unverified, time.Now()
	r.result.Notes = r.Notes()
	switch {
	case err != nil:
		r.result.End, r.result.Note = history.Broken, err.Error()
	case out.Stopped:
		r.result.End = history.Stopped
	case out.Failed > 0 || r.result.Gaps > 0 || !whole || p.Info.Totals[plan.Conflict].Count > 0:
		r.result.End, r.result.Note = history.Failures, undecided(&p.Info)
	default:
		r.result.End = history.Clean
	}
	r.err = errors.Join(err, db.Save(context.WithoutCancel(ctx), &r.result))
	if err := s.agree(context.WithoutCancel(ctx), r.Job); err != nil { // the next plan tries again
		s.log.Warn("what both sides agree on could not be kept", "job", r.Job, "error", err)
	}
	s.log.Info("run ended", "job", r.Job, "plan", p.Info.Number, "end", r.result.End, "objects", out.Objects, "bytes", out.Bytes, "failed", out.Failed, "error", r.err)
}

func measure(r *history.Run, m transfer.Snapshot) {
	r.Unverified = m.Unverified
	r.Objects, r.Bytes, r.Failed, r.Retries = m.Objects, m.Bytes, m.Failed, m.Retries
	r.Problems, r.Samples = m.Problems, thin(m.Samples)
}

// keptSamples is how many points of a run's curve the history keeps.
const keptSamples = 240

// thin keeps every n-th sample, and the last.
func thin(samples []transfer.Sample) []transfer.Sample {
	step := (len(samples) + keptSamples - 1) / keptSamples
	if step <= 1 {
		return samples
	}
	var kept []transfer.Sample
	for i := 0; i < len(samples)-1; i += step {
		kept = append(kept, samples[i])
	}
	return append(kept, samples[len(samples)-1])
}

// dropOldUploads removes what the run before, of an older plan, left
// unfinished: nobody will take it up any more.
func (s *Service) dropOldUploads(ctx context.Context, name string, number int, source, target place.Place) {
	var old *plan.Plan
	for number--; number > 0 && old == nil; number-- {
		p, err := s.PlanNumber(name, number)
		if err != nil {
			return
		}
		if _, err := os.Stat(ledgerPath(p)); err == nil {
			old = p
		} else {
			p.Close()
		}
	}
	if old == nil {
		return
	}
	defer old.Close()
	ledger, err := s.ledger(old, false)
	if err != nil {
		return
	}
	defer ledger.Close()
	if err := transfer.Abandon(ctx, old, source, target, ledger); err != nil {
		s.log.Warn("unfinished uploads of an older plan could not be removed", "job", name, "plan", old.Info.Number, "error", err)
	}
}

// Runs lists runs, newest first; job "" means all. A run whose process is gone
// without a word was interrupted, after what its ledger says.
func (s *Service) Runs(ctx context.Context, name string, since time.Time, limit int) ([]history.Run, error) {
	db, err := s.openHistory()
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
func (s *Service) recount(ctx context.Context, db *history.DB, r *history.Run) {
	later, err := db.Runs(ctx, r.Job, r.Began.Add(time.Microsecond), 100)
	if err != nil || slices.ContainsFunc(later, func(x history.Run) bool { return x.Plan == r.Plan && x.ID != r.ID }) {
		return
	}
	p, err := s.PlanNumber(r.Job, r.Plan)
	if err != nil {
		return
	}
	defer p.Close()
	done, bytes, err := transfer.Tally(ledgerPath(p))
	if err != nil || done-r.Before < r.Objects {
		return
	}
	r.Objects = done - r.Before
	if r.Before == 0 {
		r.Bytes = max(r.Bytes, bytes)
	}
	if err := db.Save(context.WithoutCancel(ctx), r); err != nil {
		s.log.Warn("the history could not be written", "error", err)
	}
}

func alive(pid int) bool {
	return pid > 0 && (syscall.Kill(pid, 0) == nil || errors.Is(syscall.Kill(pid, 0), syscall.EPERM))
}
