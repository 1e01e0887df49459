package workroom

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/user"

	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/core/rule"
	"lumtra/service/event"
	"lumtra/service/workspace"
)

// ErrBegun means that a plan's run has begun, so that it can no longer be
// changed.
var ErrBegun = errors.New("this plan's run has begun: make a new plan to choose otherwise")

// choose changes what a person decided about a plan.
func (s *Room) choose(ctx context.Context, name string, number int,
	change func(p *plan.Plan, c *plan.Choices) error) (plan.Info, error) {
	ctx, done, ok := s.ws.Life.Begin(ctx)
	if !ok {
		return plan.Info{}, context.Canceled
	}
	defer done()
	unlock, err := s.ws.Dir.LockRun(name)
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
	info, err := plan.Choose(ctx, p.Path, c)
	if err == nil {
		s.ws.Events.Publish(event.Event{Kind: event.PlanDecided, Job: name, Number: number})
	}
	return info, err
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
func (s *Room) Strike(ctx context.Context, name string, number int, key string) (plan.Info, error) {
	return s.choose(ctx, name, number, func(p *plan.Plan, c *plan.Choices) error {
		c.Strike(key)
		return unbegun(p)
	})
}

// Decide settles the conflict of a key, or all below a prefix that ends in "/".
func (s *Room) Decide(ctx context.Context, name string, number int, key string, how rule.Conflicts) (plan.Info, error) {
	return s.choose(ctx, name, number, func(p *plan.Plan, c *plan.Choices) error {
		c.Decide(key, how)
		return unbegun(p)
	})
}

// Approve notes that a person lets a plan go. removals is the number of
// removals that was typed; it must be the plan's.
func (s *Room) Approve(ctx context.Context, name string, number int, removals int64) error {
	_, err := s.choose(ctx, name, number, func(p *plan.Plan, c *plan.Choices) error {
		if n := p.Info.Totals[plan.Remove].Count; n != removals {
			return workspace.BadInput(fmt.Errorf("plan %d deletes %s, not %d: not approved", number,
				object.Count(n, "object"), removals))
		}
		who := "unknown"
		if u, err := user.Current(); err == nil {
			who = u.Username
		}
		c.Approved = &plan.Approval{At: s.ws.Now(), By: who, Removals: removals}
		return nil
	})
	return err
}

// Plans lists the numbers of a job's plans, oldest first.
func (s *Room) Plans(name string) ([]int, error) {
	return plan.Numbers(s.ws.Dir.Path("jobs", name, "plans"))
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
func (s *Room) ComparePlans(ctx context.Context, name string, was, is, keep int) (*Changes, error) {
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
