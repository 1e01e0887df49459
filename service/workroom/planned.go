package workroom

import (
	"context"
	"errors"
	"io/fs"
	"os"

	"lumtra/core/atomicfile"
	"lumtra/core/catalog"
	"lumtra/core/job"
	"lumtra/core/proof"
	"lumtra/core/rule"
)

// Copies of the two surveys that a job's newest plan was made from, beside its plans, from when it is
// made until its run is proven.
const (
	plannedSource = "planned-source"
	plannedTarget = "planned-target"
)

// keepPlanned keeps both surveys of a plan that is being made, if its run is to be proven, in place of
// those of the plan before.
func (s *Room) keepPlanned(j *job.Job, x *sides, keep bool) error {
	if err := s.forgetPlanned(j.Name); err != nil || !keep {
		return err
	}
	source, target := x.keptAs(j)
	return errors.Join(s.copySurvey(source, j.Name, plannedSource), s.copySurvey(target, j.Name, plannedTarget))
}

// forgetPlanned removes both.
func (s *Room) forgetPlanned(name string) error {
	var failed error
	for _, as := range []string{plannedSource, plannedTarget} {
		if err := os.Remove(s.ws.Dir.Path("jobs", name, "plans", as)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			failed = errors.Join(failed, err)
		}
	}
	return failed
}

// copySurvey copies the survey that is kept of something to a job's plans. Should another have come in its
// place since, that is found when it is opened.
func (s *Room) copySurvey(what, name, as string) error {
	path, err := s.catalogPath(what)
	if err != nil {
		return err
	}
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	return atomicfile.WriteFrom(s.ws.Dir.Path("jobs", name, "plans", as), f, 0o600)
}

// knew opens what a plan knew of both places, and of one that goes both ways how its run left them; nil where that is
// not kept any more.
func (s *Room) knew(ctx context.Context, j *job.Job, x *sides, number int) *proof.Planned {
	if number == 0 {
		return nil
	}
	saved, err := s.PlanNumber(j.Name, number)
	if err != nil {
		return nil
	}
	defer saved.Close()
	p := &proof.Planned{Source: s.openPlanned(j.Name, plannedSource, saved.Info.Source)}
	if p.Source == nil {
		return nil
	}
	if p.Target = s.openPlanned(j.Name, plannedTarget, saved.Info.Target); p.Target == nil {
		p.Source.Close()
		return nil
	}
	if saved.Info.Rules.Direction != rule.TwoWay {
		return p
	}
	if p.Left, err = s.memory(ctx, j.Name, x); err != nil || p.Left.Info().Plan != number {
		p.Close()
		return nil
	}
	return p
}

// openPlanned opens one of both, if it is the survey that the plan tells of.
func (s *Room) openPlanned(name, as string, of catalog.Info) *catalog.Catalog {
	c, err := catalog.Open(s.ws.Dir.Path("jobs", name, "plans", as))
	if err != nil {
		return nil
	}
	if is := c.Info; is.Place != of.Place || !is.Began.Equal(of.Began) || is.Objects != of.Objects {
		c.Close()
		return nil
	}
	return c
}
