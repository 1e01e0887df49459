package service_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/history"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/service"
	"lumtra/service/cycle"
	"lumtra/service/event"
	"lumtra/service/workroom"
)

// steps brings a job as far as a policy lets it, and names the steps that were told.
func steps(s *service.Service, job string, p cycle.Policy) (names string, err error) {
	err = s.Cycle().Go(ctx, job, p, func(step cycle.Step) {
		names += strings.TrimPrefix(fmt.Sprintf("%T ", step), "cycle.")
	})
	return strings.TrimSpace(names), err
}

// A job goes all the way by its policy: planned, run and proven; with nothing to do it is
// proven all the same; held back it stops before its run, unless the policy approves just
// that many removals; and what was stopped is gone on with. Each change is told once.
func TestCycle(t *testing.T) {
	dir := prepared(t)
	put(t, dir, "jobs/masters.toml", "source = \"studio\"\ntarget = \"north/archive/masters\"\ntarget-only = "+
		"\"delete\"\n")
	s := open(t, dir)
	require.NoError(t, s.MakeBucket(ctx, "north", "archive"))
	var told []event.Kind
	defer s.Events.Subscribe(func(e event.Event) {
		if e.Kind != event.RunMoved && e.Job == "masters" {
			told = append(told, e.Kind)
		}
	})()
	prove := &workroom.ProveOptions{}
	names, err := steps(s, "masters", cycle.Policy{Prove: prove})
	require.NoError(t, err)
	assert.Equal(t, "Planning Planned Running Ran Proving Proved", names)
	assert.Equal(t, []event.Kind{event.PlanMade, event.RunBegan, event.RunEnded, event.ProofMade}, told)
	names, err = steps(s, "masters", cycle.Policy{Prove: prove})
	assert.ErrorIs(t, err, workroom.ErrNothingToDo)
	assert.Equal(t, "Planning Planned Proving Proved", names)

	p, err := s.Place(ctx, "north/archive/masters")
	require.NoError(t, err)
	for i := range 30 {
		_, err := p.Write(ctx, fmt.Sprintf("gone/%d", i), strings.NewReader("g"), 1, place.WriteOptions{})
		require.NoError(t, err)
	}
	names, err = steps(s, "masters", cycle.Policy{Prove: prove})
	assert.ErrorIs(t, err, workroom.ErrHeld)
	assert.Equal(t, "Planning Planned", names, "what is held back is not proven either")
	approving := func(n int64) cycle.Policy {
		return cycle.Policy{Anew: true, Approve: func(i *plan.Info) (int64, bool) {
			return n,
				i.Totals[plan.Remove].Count > 0
		}}
	}
	names, err = steps(s, "masters", approving(29))
	assert.ErrorContains(t, err, "not approved")
	assert.Equal(t, "Planning Planned", names)
	names, err = steps(s, "masters", approving(30))
	require.NoError(t, err)
	assert.Equal(t, "Planning Planned Running Ran", names)
	runs, err := s.Runs(ctx, "masters", time.Time{}, 1)
	require.NoError(t, err)
	assert.Equal(t, history.Clean, runs[0].End)

	// Stopped by its context in the middle, and gone on with.
	put(t, dir, "studio/slow.wav", strings.Repeat("s", 4096))
	put(t, dir, "jobs/masters.toml",
		"source = \"studio\"\ntarget = \"north/archive/masters\"\n[limits]\nbandwidth = [\"1 B/s\"]\n")
	short, stop := context.WithCancel(ctx)
	err = s.Cycle().Go(short, "masters", cycle.Policy{}, func(step cycle.Step) {
		if _, ok := step.(cycle.Running); ok {
			stop()
		}
	})
	require.NoError(t, err)
	require.NoError(t, s.Keeper.Reload())
	resumed := 0
	_, err = s.Cycle().Begin(ctx, "masters", cycle.Policy{}, func(step cycle.Step) {
		if r, ok := step.(cycle.Resuming); ok {
			resumed = r.Number
		}
	})
	require.NoError(t, err)
	assert.Equal(t, runs[0].Plan+1, resumed)
}
