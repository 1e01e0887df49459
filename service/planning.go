package service

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"lumtra/core/catalog"
	"lumtra/core/compare"
	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/gather"
	"lumtra/core/plan"
	"lumtra/core/proof"
	"lumtra/core/retry"
)

// Activity tells how far a step has come, while it goes.
type Activity struct {
	Source, Target catalog.Progress
	Compared       proof.Progress

	mu    sync.Mutex
	stage string
	began time.Time
}

// Stage is what is being done, in a few words, and since when.
func (a *Activity) Stage() (string, time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.stage, a.began
}

func (a *Activity) enter(stage string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.stage, a.began = stage, time.Now()
}

// sides are a job's two places with their surveys.
type sides struct {
	source, target place.Place
	from, to       *catalog.Catalog
	unlock         func() error
}

func (x *sides) close() {
	for _, c := range []*catalog.Catalog{x.from, x.to} {
		if c != nil {
			c.Close()
		}
	}
	x.unlock()
}

// places opens a job's two places.
func (s *Service) places(ctx context.Context, j *job.Job) (source, target place.Place, err error) {
	if source, err = s.Place(ctx, j.Source); err != nil {
		return nil, nil, err
	}
	target, err = s.Place(ctx, j.Target)
	return source, target, err
}

// survey lists both sides of a job at once. The catalogs, and the numbers of
// the plans and proofs made from them, are the caller's alone until close.
func (s *Service) survey(ctx context.Context, j *job.Job, a *Activity) (*sides, error) {
	dir, err := s.jobDir(j.Name, "catalogs")
	if err != nil {
		return nil, err
	}
	x := &sides{}
	if x.unlock, err = s.lock(j.Name, "planning", ErrPlanning); err != nil {
		return nil, err
	}
	if x.source, x.target, err = s.places(ctx, j); err != nil {
		x.close()
		return nil, err
	}
	a.enter("surveying both sides")
	began := time.Now()
	group, groupCtx := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		x.from, err = catalog.Survey(groupCtx, x.source, filepath.Join(dir, "source"), &a.Source)
		return err
	})
	group.Go(func() (err error) {
		part := x.target
		if g, ok := x.source.(*gather.Place); ok {
			part = g.Landing(x.target)
		}
		x.to, err = catalog.Survey(groupCtx, part, filepath.Join(dir, "target"), &a.Target)
		return err
	})
	if err := group.Wait(); err != nil {
		x.close()
		return nil, err
	}
	if x.from.Info.Absent { // a target may come into being, a source may not
		x.close()
		return nil, place.NewError(x.source.Name(), "list", "", place.NotFound, errors.New("the source is not there"))
	}
	s.log.Info("surveyed", "job", j.Name, "source", x.from.Info.Objects, "target", x.to.Info.Objects, "took", time.Since(began))
	return x, nil
}

// Survey lists both sides of a job, or the place "endpoint/path", and returns
// what was found: the job's source and target, or the one place.
func (s *Service) Survey(ctx context.Context, what string, a *Activity) ([]catalog.Info, error) {
	if j, err := s.job(what); err == nil {
		x, err := s.survey(ctx, j, a)
		if err != nil {
			return nil, err
		}
		defer x.close()
		return []catalog.Info{x.from.Info, x.to.Info}, nil
	}
	p, err := s.Place(ctx, what)
	if err != nil {
		return nil, err
	}
	a.enter("surveying")
	temp, err := os.MkdirTemp(s.opts.State, "survey-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(temp)
	c, err := catalog.Survey(ctx, p, filepath.Join(temp, "catalog"), &a.Source)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	return []catalog.Info{c.Info}, nil
}

// Plan surveys both sides of a job and keeps a new plan, whose number is in
// what it returns.
func (s *Service) Plan(ctx context.Context, name string, a *Activity) (plan.Info, error) {
	j, err := s.job(name)
	if err != nil {
		return plan.Info{}, err
	}
	dir, err := s.jobDir(name, "plans")
	if err != nil {
		return plan.Info{}, err
	}
	x, err := s.survey(ctx, j, a)
	if err != nil {
		return plan.Info{}, err
	}
	defer x.close()
	numbers, err := plan.Numbers(dir)
	if err != nil {
		return plan.Info{}, err
	}
	number := 1
	if len(numbers) > 0 {
		number = numbers[len(numbers)-1] + 1
	}
	opts := plan.Options{Job: name, Print: j.Print(), Number: number, Judge: j.Judge,
		Source: s.found(j.Source, x.source), Target: s.found(j.Target, x.target), Notes: s.planNotes(j),
		SameContent: func(ctx context.Context, a, b *object.Entry) (bool, error) {
			var res compare.Result
			err := retry.Usual.Do(ctx, func(int) (err error) {
				res, err = compare.Contents(ctx, compare.ByStoredSum, x.source, a, x.target, b)
				return err
			})
			return res.Same, err
		}}
	if c, ok := x.target.(place.NameChecker); ok {
		opts.Name = c.CheckName
	}
	a.enter("working out the plan")
	p, err := plan.Build(ctx, filepath.Join(dir, plan.FileName(number)), x.from, x.to, opts)
	if err != nil {
		return plan.Info{}, err
	}
	defer p.Close()
	s.log.Info("planned", "job", name, "plan", number, "totals", p.Info.Totals.Map())
	return p.Info, nil
}

// LatestPlan is the newest plan of a job; nil when there is none. The caller
// closes it.
func (s *Service) LatestPlan(name string) (*plan.Plan, error) {
	dir, err := s.jobDir(name, "plans")
	if err != nil {
		return nil, err
	}
	numbers, err := plan.Numbers(dir)
	if err != nil || len(numbers) == 0 {
		return nil, err
	}
	return plan.OpenNumber(dir, numbers[len(numbers)-1])
}

// PlanNumber opens a job's plan by its number. The caller closes it.
func (s *Service) PlanNumber(name string, number int) (*plan.Plan, error) {
	dir, err := s.jobDir(name, "plans")
	if err != nil {
		return nil, err
	}
	p, err := plan.OpenNumber(dir, number)
	if errors.Is(err, os.ErrNotExist) {
		return nil, badInput(errors.New("there is no such plan; `lumtra plan` makes one"))
	}
	return p, err
}
