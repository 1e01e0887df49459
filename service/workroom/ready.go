package workroom

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"lumtra/core/job"
	"lumtra/core/ledger"
	"lumtra/core/place"
	"lumtra/core/place/kind"
	"lumtra/core/plan"
	"lumtra/core/probe"
	"lumtra/core/rule"
	"lumtra/core/transfer"
	"lumtra/service/workspace"
)

// examine tests, small and cheap, the endpoints that a job is about to write to and
// that were never tested, or too long ago. It tells in words what was done. What an
// endpoint forbids is not tried, and the run takes the careful ways.
func (s *Room) examine(ctx context.Context, j *job.Job, x *sides) (notes []string) {
	sides := []struct {
		at string
		p  place.Place
	}{{x.lands, x.target}}
	if j.Direction == rule.TwoWay || j.Afterwards != rule.KeepSource {
		sides = append(sides, struct {
			at string
			p  place.Place
		}{j.Source, x.source})
	}
	for _, side := range sides {
		name, path := job.SplitPlace(side.at)
		e := s.ws.Workspace().Endpoints[name]
		can := place.Can(side.p)
		if can.Examines == nil || e == nil {
			continue
		}
		s.ws.ClearTests(ctx, name)
		if f := can.Known.Facts(); !f.Stale(s.ws.Now()) {
			continue
		}
		if e.Test == kind.TestNever {
			notes = append(notes,
				fmt.Sprintf("%s was never tested, and its settings forbid it: every write is looked at before and "+
					"after", name))
			continue
		}
		if note := s.smallTest(ctx, name, path); note != "" {
			notes = append(notes, note)
		}
	}
	return notes
}

// smallTest is the test on the way to a run. That something is refused is for the
// run itself to tell.
func (s *Room) smallTest(ctx context.Context, name, path string) string {
	end, err := s.ws.Endpoint(name)
	if err != nil {
		return ""
	}
	prefix, done, err := s.ws.Testing(ctx, name, path)
	if err != nil {
		return ""
	}
	clean := false
	defer func() { done(clean) }()
	bucket, below, _ := strings.Cut(path, "/")
	began := s.ws.Now()
	r := probe.Run(ctx, end, probe.Options{Small: true, Bucket: bucket, Path: below, Prefix: prefix, Write: true})
	if clean = r.Clean; ctx.Err() != nil || r.Facts == nil {
		return ""
	}
	if err := s.ws.KeepReport(name, r); err != nil {
		s.ws.Log.Warn("a test could not be kept", "endpoint", name, "error", err)
	}
	took := s.ws.Now().Sub(began).Round(time.Millisecond)
	s.ws.Log.Info("endpoint tested before a run", "endpoint", name, "took", took)
	return fmt.Sprintf("%s was tested before the first run: %d questions in %s", name, len(r.Facts.Answers), took)
}

// promises are the ways in which a job's runs keep what Lumtra promises.
func promises(x *sides) plan.Ways {
	return plan.Ways{Source: place.Can(x.source).Promises(), Target: place.Can(x.target).Promises()}
}

// hold refuses, before the first byte, a run whose target cannot promise what the
// job asks for.
func (s *Room) hold(j *job.Job, x *sides) error {
	if j.Safety.Races != rule.RefuseRaces {
		return nil
	}
	places := []place.Place{x.target}
	if j.Direction == rule.TwoWay {
		places = append(places, x.source)
	}
	for _, p := range places {
		if way, ok := place.Can(p).Promise(place.NotOverwritten); ok && way.Weak {
			return fmt.Errorf("%w: at %s %s; the job's safety limit forbids that (races = %q)", ErrHeld, p.Name(),
				way.Way,
				rule.RefuseRaces)
		}
	}
	return nil
}

// Errors a run is refused with.
var (
	// ErrHeld means that a guard holds the plan back.
	ErrHeld = errors.New("held back by a safety limit")
	// ErrNothingToDo means that the plan has no effects to carry out, or that
	// all of them are done.
	ErrNothingToDo = errors.New("nothing to do")
	// ErrUndecided means that conflicts are all that is left, and wait for a person.
	ErrUndecided = errors.New("not decided")
)

// ledgerPath is where a plan's ledger lies: beside it.
func ledgerPath(p *plan.Plan) string { return ledgerOf(p.Path) }

// ledgerOf is where the ledger of the plan at a path lies.
func ledgerOf(path string) string { return strings.TrimSuffix(path, ".plan") + ".ledger" }

func (s *Room) openLedger(p *plan.Plan, durable bool) (ledger.Ledger, error) {
	return ledger.Open(ledgerPath(p), fmt.Sprintf("%s %s", p.Info.Print, p.Info.Made.Format(time.RFC3339Nano)), durable)
}

// durable tells whether a job's ledger is to outlive a power loss: because the
// job says so, or a folder of it whose files are to.
func (s *Room) durable(j *job.Job) bool {
	for _, at := range []string{j.Source, j.Target} {
		name, _ := job.SplitPlace(at)
		if e := s.ws.Workspace().Endpoints[name]; e != nil && e.Sync {
			return true
		}
	}
	return j.Limits.Durable
}

// Undecided says that conflicts wait to be decided; "" where none do.
func Undecided(info *plan.Info) string {
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
func (s *Room) only(p *plan.Plan, cause string) (func(int64) bool, error) {
	if cause == "" {
		return nil, nil
	}
	all, err := ledger.Failures(ledgerPath(p), cause, 0)
	if err != nil {
		return nil, err
	}
	if len(all) == 0 {
		return nil, workspace.BadInput(fmt.Errorf("nothing of plan %d has failed because of %q, or all of it was "+
			"done since", p.Info.Number, cause))
	}
	failed := make(map[int64]bool, len(all))
	for _, f := range all {
		failed[f.Effect] = true
	}
	return func(effect int64) bool { return failed[effect] }, nil
}

// planFor opens the plan to run and holds it against job and guards.
func (s *Room) planFor(ctx context.Context, j *job.Job, opts RunOptions) (p *plan.Plan, err error) {
	if opts.Number != 0 {
		p, err = s.PlanNumber(j.Name, opts.Number)
	} else if p, err = s.LatestPlan(j.Name); err == nil && p == nil {
		err = workspace.BadInput(errors.New("there is no plan; `lumtra plan` makes one"))
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
		err = workspace.BadInput(fmt.Errorf("the job %s has changed since plan %d was made; make a new one", j.Name,
			p.Info.Number))
	case len(p.Info.Held) > 0 && !p.Approved():
		err = Held(&p.Info)
	case p.Info.Idle():
		err = ErrNothingToDo
	}
	if err != nil {
		p.Close()
		return nil, err
	}
	return p, nil
}

// Held is the error of a plan that a guard holds back: nil where none does.
func Held(info *plan.Info) error {
	if len(info.Held) == 0 {
		return nil
	}
	return fmt.Errorf("%w: %s; look at the plan, and approve it by the number of objects that it deletes: %s", ErrHeld,
		strings.Join(info.Held, "; "), humanize.Comma(info.Totals[plan.Remove].Count))
}

// EndpointsOf are the endpoints a job names.
func EndpointsOf(j *job.Job) map[string]bool {
	from, _ := job.SplitPlace(j.Source)
	to, _ := job.SplitPlace(j.Target)
	return map[string]bool{from: true, to: true}
}

// DropOldUploads removes what the run before, of an older plan, left
// unfinished: nobody will take it up any more.
func (s *Room) DropOldUploads(ctx context.Context, x *Ready) {
	var old *plan.Plan
	name := x.Job.Name
	for number := x.Plan.Info.Number - 1; number > 0 && old == nil; number-- {
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
	ledger, err := s.openLedger(old, false)
	if err != nil {
		return
	}
	defer ledger.Close()
	if err := transfer.Abandon(ctx, old, x.Source, x.Target, ledger); err != nil {
		s.ws.Log.Warn("unfinished uploads of an older plan could not be deleted", "job", name, "plan",
			old.Info.Number, "error", err)
	}
}

// RunOptions choose what is run.
type RunOptions struct {
	// Number is the plan's; 0 means the newest.
	Number int
	// Cause tries only what failed of this cause in earlier runs of the plan; ""
	// is all that is not done.
	Cause string
	// Despite names checks that would block the run, and are not to.
	Despite []string
}

// Ready is a plan that may be carried out: nothing that is known stands in its way. It holds
// the job's lock.
type Ready struct {
	Job            *job.Job
	Plan           *plan.Plan
	Source, Target place.Place
	Ledger         ledger.Ledger
	// Only chooses effects by their number; nil is all of them.
	Only func(effect int64) bool
	// Notes are what was found on the way, in words.
	Notes []string
	// Expected is how long it will take by what is known.
	Expected time.Duration
	// Before and BeforeBytes are what earlier runs of the plan had finished.
	Before, BeforeBytes int64

	fresh  bool // the ledger is this one's
	unlock func() error
}

// Withdraw gives everything back where the run does not begin: its plan can still be chosen
// from.
func (x *Ready) Withdraw() error {
	var err error
	if x.Ledger != nil {
		err = x.Ledger.Close()
		if x.fresh {
			err = errors.Join(err, os.Remove(ledgerPath(x.Plan)))
		}
	}
	return errors.Join(err, x.Close())
}

// Close gives the plan and the job's lock back; the ledger is closed by whoever runs it.
func (x *Ready) Close() error {
	var err error
	if x.Plan != nil {
		err = x.Plan.Close()
	}
	return errors.Join(err, x.unlock()) // the lock goes last
}

// Ready makes a saved plan ready to be carried out, or tells what stands in its way: a
// guard, a check, another run.
func (s *Room) Ready(ctx context.Context, name string, opts RunOptions) (_ *Ready, err error) {
	j, err := s.ws.Job(name)
	if err != nil {
		return nil, err
	}
	x := &Ready{Job: j}
	if x.unlock, err = s.ws.Dir.LockRun(name); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			x.Withdraw()
		}
	}()
	if x.Plan, err = s.planFor(ctx, j, opts); err != nil {
		return nil, err
	}
	sides, err := s.places(ctx, j)
	if err != nil {
		return nil, err
	}
	x.Source, x.Target = sides.source, sides.target
	_, begun := os.Stat(ledgerPath(x.Plan))
	x.fresh = begun != nil
	if x.Ledger, err = s.openLedger(x.Plan, s.durable(j)); err != nil {
		return nil, err
	}
	x.Before, x.BeforeBytes = x.Ledger.Finished()
	if err := s.free(ctx, x, sides, opts.Despite); err != nil {
		return nil, err
	}
	x.Expected = s.Estimate(ctx, j, &x.Plan.Info).Expect
	info := &x.Plan.Info
	if x.Before >= info.Totals.Work().Count && x.Ledger.Sources() >= info.Afterwards.Count && info.Whole() {
		if said := Undecided(info); said != "" {
			return nil, fmt.Errorf("%w: %s", ErrUndecided, said)
		}
		return nil, ErrNothingToDo
	}
	x.Only, err = s.only(x.Plan, opts.Cause)
	return x, err
}

// free tells that no check stands in the way of a run, nor what its target promises.
func (s *Room) free(ctx context.Context, x *Ready, sides *sides, despite []string) error {
	blocked := func() error { return s.blocked(ctx, x.Job, x.Plan, sides, x.BeforeBytes, despite) }
	if err := blocked(); err != nil {
		return err
	}
	if x.Notes = s.examine(ctx, x.Job, sides); len(x.Notes) > 0 { // it may be known better now
		if err := blocked(); err != nil {
			return err
		}
	}
	return s.hold(x.Job, sides)
}
