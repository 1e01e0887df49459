package cli

import (
	"errors"
	"strconv"

	"lumtra/core/history"
	"lumtra/core/plan"
	"lumtra/service"
	"lumtra/service/state"
	"lumtra/service/workroom"
)

// nextOfPlan tells how to go on from a plan.
func (a *app) nextOfPlan(info *plan.Info) {
	run := []string{"run", info.Job, "--plan", strconv.Itoa(info.Number)}
	switch {
	case len(info.Held) > 0:
		a.next("once you have looked at what it deletes (--effects, --export), approve it by that number",
			append(run, "--approve", strconv.FormatInt(info.Totals[plan.Remove].Count, 10))...)
	case workroom.Undecided(info) != "":
		a.next("decide its conflicts in the window's Plan, then run it")
	case info.Idle():
		a.next("prove that both sides are the same", "prove", info.Job)
	default:
		a.next("carry it out", run...)
	}
}

// nextOfRun tells how to go on from how a run ended.
func (a *app) nextOfRun(r *history.Run) {
	switch r.End {
	case history.Failures:
		if r.Failed > 0 {
			a.next("see each failed object; `run` again tries them once more", "failures", r.Job)
		} else {
			a.next("plan and run it once more", "run", r.Job)
		}
	case history.Stopped, history.Interrupted:
		a.next("go on from where it stands", "run", r.Job)
	default:
		a.next("prove that both sides are the same", "prove", r.Job)
	}
}

// nextOfStop tells how to go on where a job was not run, or its run is not waited for any more.
func (a *app) nextOfStop(s *service.Service, job string, number int, err error) {
	p, noPlan := s.LatestPlan(job)
	if number != 0 {
		p, noPlan = s.PlanNumber(job, number)
	}
	var info *plan.Info
	if noPlan == nil && p != nil {
		info = &p.Info
		defer p.Close()
	}
	switch {
	case errors.Is(err, state.ErrBusy), errors.Is(err, state.ErrPlanning):
		a.next("see how far it is", "history", job)
	case info == nil:
	case errors.Is(err, workroom.ErrBlocked):
		a.next("see what each check found, and what would mend it", "plan", job, "--number",
			strconv.Itoa(info.Number), "--checks")
	case errors.Is(err, workroom.ErrHeld), errors.Is(err, workroom.ErrUndecided), errors.Is(err,
		workroom.ErrNothingToDo):
		a.nextOfPlan(info)
	}
}
