package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"time"

	"lumtra/core/plan"
	"lumtra/core/rule"
)

// ErrBegun means that a plan's run has begun, so that it can no longer be
// changed.
var ErrBegun = errors.New("this plan's run has begun: make a new plan to choose otherwise")

// choose changes what a person decided about a plan.
func (s *Service) choose(ctx context.Context, name string, number int, change func(p *plan.Plan, c *plan.Choices) error) (plan.Info, error) {
	ctx, done, ok := s.begin(ctx)
	if !ok {
		return plan.Info{}, context.Canceled
	}
	defer done()
	unlock, err := s.lock(name, "lock", ErrBusy)
	if err != nil {
		return plan.Info{}, err
	}
	defer unlock()
	p, err := s.PlanNumber(name, number)
	if err != nil {
		return plan.Info{}, err
	}
	defer p.Close()
	c := p.Choices.Clone()
	if err := change(p, &c); err != nil {
		return plan.Info{}, err
	}
	return plan.Choose(ctx, p.Path, c)
}

// unbegun refuses plans whose run has begun.
func unbegun(p *plan.Plan) error {
	if _, err := os.Stat(ledgerPath(p)); err == nil {
		return ErrBegun
	}
	return nil
}

// Strike strikes a key, or a prefix that ends in "/", out of a plan, or takes
// it in again. It returns the plan as it is then.
func (s *Service) Strike(ctx context.Context, name string, number int, key string) (plan.Info, error) {
	return s.choose(ctx, name, number, func(p *plan.Plan, c *plan.Choices) error {
		c.Strike(key)
		return unbegun(p)
	})
}

// Decide settles the conflict of a key, or all below a prefix that ends in "/".
func (s *Service) Decide(ctx context.Context, name string, number int, key string, how rule.Conflicts) (plan.Info, error) {
	return s.choose(ctx, name, number, func(p *plan.Plan, c *plan.Choices) error {
		c.Decide(key, how)
		return unbegun(p)
	})
}

// Approve notes that a person lets a plan go. removals is the number of
// removals that was typed; it must be the plan's.
func (s *Service) Approve(ctx context.Context, name string, number int, removals int64) error {
	_, err := s.choose(ctx, name, number, func(p *plan.Plan, c *plan.Choices) error {
		if n := p.Info.Totals[plan.Remove].Count; n != removals {
			return badInput(fmt.Errorf("plan %d removes %d objects, not %d: not approved", number, n, removals))
		}
		who := "unknown"
		if u, err := user.Current(); err == nil {
			who = u.Username
		}
		c.Approved = &plan.Approval{At: time.Now(), By: who, Removals: removals}
		return nil
	})
	return err
}

// Plans lists the numbers of a job's plans, oldest first.
func (s *Service) Plans(name string) ([]int, error) {
	return plan.Numbers(filepath.Join(s.opts.State, "jobs", name, "plans"))
}

// Changes is how two plans of a job differ.
type Changes struct {
	Was, Is plan.Info
	// Lines are the first of the keys whose effect is another; Count counts all.
	Lines []plan.Difference
	Count int64
}

// ComparePlans holds a plan against an earlier one of the job; keep is how many
// differences are kept.
func (s *Service) ComparePlans(ctx context.Context, name string, was, is, keep int) (*Changes, error) {
	a, err := s.PlanNumber(name, was)
	if err != nil {
		return nil, err
	}
	defer a.Close()
	b, err := s.PlanNumber(name, is)
	if err != nil {
		return nil, err
	}
	defer b.Close()
	c := &Changes{Was: a.Info, Is: b.Info}
	return c, plan.Diff(ctx, a, b, func(d plan.Difference) bool {
		if c.Count++; len(c.Lines) < keep {
			for _, e := range []**plan.Effect{&d.Was, &d.Is} { // the walk's are overwritten
				if *e != nil {
					own := **e
					*e = &own
				}
			}
			c.Lines = append(c.Lines, d)
		}
		return true
	})
}
