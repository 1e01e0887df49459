package workroom

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"lumtra/core/job"
	"lumtra/core/plan"
	"lumtra/service/workspace"
)

// ErrBlocked means that a run would fail by what a check knows before its first byte.
var ErrBlocked = errors.New("it would fail")

// Blockers are the names of the checks that can keep a run from beginning.
var Blockers = []string{"permissions", "afterwards", "room", "cold", "objects", "credentials"}

// blocked refuses a run that a check knows to fail, unless a person has named the
// check. arrived are the bytes that an earlier run of the plan has brought.
func (s *Room) blocked(ctx context.Context, j *job.Job, p *plan.Plan, x *sides, arrived int64, despite []string) error {
	for _, name := range despite {
		if !slices.Contains(Blockers, name) {
			return workspace.BadInput(fmt.Errorf("no check is called %q; those that block are %s", name,
				strings.Join(Blockers, ", ")))
		}
	}
	c := &checks{work: s, ctx: ctx, j: j, x: x, info: &p.Info, arrived: arrived}
	c.permissions()
	c.afterwards()
	c.room()
	c.cold(p)
	c.limits(p)
	c.credentials()
	var names, why []string
	for _, check := range c.all {
		if check.Blocks && !slices.Contains(despite, check.Name) {
			found := check.Found
			if check.Mend != "" {
				found += "; " + check.Mend
			}
			if why = append(why, found); !slices.Contains(names, check.Name) {
				names = append(names, check.Name)
			}
		}
	}
	if len(names) == 0 {
		return ctx.Err()
	}
	all := append(slices.Clone(despite), names...)
	return fmt.Errorf("%w: %s. To run it all the same: --despite %s", ErrBlocked, strings.Join(why, "; "),
		strings.Join(all, ","))
}
