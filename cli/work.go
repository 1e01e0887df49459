package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lumtra/core/catalog"
	"lumtra/core/compare"
	"lumtra/core/history"
	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/core/proof"
	"lumtra/service"
	"lumtra/service/cycle"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

func (a *app) surveyCommand() *cobra.Command {
	return &cobra.Command{
		Use: "survey JOB|ENDPOINT/PATH",
		Example: "  lumtra survey masters\n" +
			"  lumtra survey north/archive/takes",
		Short: "List both sides of a job, or one place, and count",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				act := &workroom.Activity{}
				stop := a.progress(act)
				infos, err := s.Survey(cmd.Context(), args[0], act)
				stop()
				if err != nil {
					return err
				}
				for _, i := range infos {
					a.sayCatalog(i)
					if !i.Complete() {
						err = errFailures
					}
				}
				return err
			})
		},
	}
}

func (a *app) sayCatalog(i catalog.Info) {
	text := fmt.Sprintf("%s: %s, %s", object.Display(i.Place), plural(i.Objects, "object", "objects"),
		bytesText(i.Bytes))
	if i.Absent {
		text += " (not there yet)"
	}
	for _, p := range i.Problems {
		text += "\n    not listed: " + p
	}
	a.out.say("survey", map[string]any{"place": i.Place, "objects": i.Objects, "bytes": i.Bytes, "absent": i.Absent,
		"complete": i.Complete(), "missed": i.Missed, "problems": i.Problems,
		"seconds": i.Ended.Sub(i.Began).Seconds()}, text)
}

func (a *app) planCommand() *cobra.Command {
	var list bool
	var o planFlags
	c := &cobra.Command{
		Use: "plan JOB",
		Example: "  lumtra plan masters --effects\n" +
			"  lumtra plan masters --reuse 2h --checks\n" +
			"  lumtra plan masters --number 3 --export masters.pdf",
		Short: "Survey both sides and keep a numbered plan of what a run would do",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				info, err := a.planOrOpen(cmd.Context(), s, args[0], &o)
				if err != nil {
					return err
				}
				if list {
					if err := a.listEffects(s, info); err != nil {
						return err
					}
				}
				a.nextOfPlan(&info)
				switch {
				case len(info.Held) > 0:
					return workroom.Held(&info)
				case !info.Whole():
					return errFailures
				case info.Idle():
					return errNothing
				}
				return nil
			})
		},
	}
	c.Flags().BoolVar(&list, "effects", false, "print every effect that is not \"same\", with its reason")
	o.add(c)
	return c
}

func (a *app) makePlan(ctx context.Context, s *service.Service, job string, fresh workroom.Freshness) (plan.Info,
	error) {
	act := &workroom.Activity{}
	stop := a.progress(act)
	info, err := s.Plan(ctx, job, fresh, act)
	stop()
	if err != nil {
		return info, err
	}
	a.sayPlan(ctx, s, info)
	return info, nil
}

// waysText tells how what Lumtra promises is kept.
func waysText(w plan.Ways) (text string) {
	for _, way := range w.Shown() {
		mark := " "
		if way.Weak {
			mark = "▲"
		}
		text += fmt.Sprintf("\n  %s %s: %s", mark, way.Name, way.Way)
	}
	return text
}

// sayPlan tells what a plan comes to.
func (a *app) sayPlan(ctx context.Context, s *service.Service, info plan.Info) {
	a.sayCatalog(info.Source)
	a.sayCatalog(info.Target)
	text := fmt.Sprintf("Plan %d of %s, compared by %s:", info.Number, info.Job, info.Rules.CompareBy)
	for _, k := range plan.Kinds {
		if t := info.Totals[k]; t.Count > 0 {
			text += fmt.Sprintf("\n    %-9s %12s  %10s", k, countText(t.Count), bytesText(t.Bytes))
		}
	}
	if n := info.Afterwards; n.Count > 0 {
		text += fmt.Sprintf("\n    once proven, %s (%s) %s %s", plural(n.Count, "object", "objects"),
			bytesText(n.Bytes), map[bool]string{true: "is", false: "are"}[n.Count == 1],
			info.Rules.Afterwards.Becomes())
	}
	if info.NothingToDo() {
		text += "\n    nothing to do"
	} else {
		text += waysText(info.Ways)
	}
	a.out.say("plan", map[string]any{"job": info.Job, "plan": info.Number, "compare_by": info.Rules.CompareBy,
		"totals": totalsFields(&info.Totals), "held": info.Held, "warnings": info.Warnings, "notes": info.Notes,
		"ways":       waysFields(info.Ways),
		"afterwards": totalFields(info.Afterwards)}, text)
	a.sayRules(info)
	for _, warning := range info.Warnings {
		a.out.say("note", map[string]any{"text": warning}, "    WARNING: "+object.Display(warning))
	}
	if n := info.Later; n > 0 {
		text := plural(n, "object counts", "objects count") + " as the same by size and a later time " +
			"alone; `lumtra plan " + info.Job + " --contents` compares their contents"
		a.out.say("note", map[string]any{"text": text}, "    "+object.Display(text))
	}
	for _, note := range info.Notes {
		a.out.say("note", map[string]any{"text": note}, "    "+object.Display(note))
	}
	a.sayEstimate(ctx, s, info)
}

func (a *app) listEffects(s *service.Service, info plan.Info) error {
	p, err := s.PlanNumber(info.Job, info.Number)
	if err != nil {
		return err
	}
	defer p.Close()
	c := p.Effects("")
	for c.Next() {
		if e := c.Effect(); e.Kind != plan.Same {
			a.out.say("effect", map[string]any{"effect": kindName(e.Kind), "key": object.DisplayKey(e.Key),
				"bytes": e.Bytes(),
				"why":   e.Why()},
				fmt.Sprintf("    %-9s %s — %s", e.Kind, object.DisplayKey(e.Key), e.Why()))
		}
	}
	return c.Err()
}

func (a *app) runCommand() *cobra.Command {
	var policy cycle.Policy
	var here, prove bool
	var approve int64
	c := &cobra.Command{
		Use: "run JOB",
		Example: "  lumtra run masters\n" +
			"  lumtra run masters --plan 3 --approve 12\n" +
			"  lumtra run masters --prove --unchanged-ok --json",
		Short: "Go on with the job's unfinished plan, or plan anew, and carry it out",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, name := cmd.Context(), args[0]
			return a.withService(ctx, func(s *service.Service) error {
				if cmd.Flags().Changed("approve") {
					policy.Approve = func(*plan.Info) (int64, bool) { return approve, true }
				}
				if prove {
					policy.Prove = &workroom.ProveOptions{}
				}
				way := s.Cycle()
				if here {
					way = s.CycleHere()
				}
				return a.goOn(ctx, s, way, name, policy)
			})
		},
	}
	c.Flags().IntVar(&policy.Number, "plan", 0, "carry out exactly this saved plan")
	c.Flags().BoolVar(&policy.Anew, "fresh", false, "make a new plan even if an unfinished one could be gone on with")
	c.Flags().StringVar(&policy.Cause, "retry", "",
		"with --plan: try only what failed of this cause, as the run and \"lumtra failures\" tell it")
	c.Flags().BoolVar(&here, "here", false, "carry it out in this process, also when the background service is running")
	c.Flags().StringSliceVar(&policy.Despite, "despite", nil, "run although these checks know that it would fail: "+
		strings.Join(workroom.Blockers, ", "))
	c.Flags().BoolVar(&prove, "prove", false, "prove it afterwards, by the job's method")
	c.Flags().Int64Var(&approve, "approve", 0,
		"let go a plan that a safety limit holds back: the number of objects it deletes")
	return c
}

// goOn brings a job as far as the policy lets it, and tells what happens.
func (a *app) goOn(ctx context.Context, s *service.Service, way *cycle.Cycle, job string, p cycle.Policy) error {
	stop := func() {}
	defer func() { stop() }()
	var ran history.Run
	var proved *workroom.Proof
	far := false
	err := way.Go(ctx, job, p, func(step cycle.Step) {
		stop()
		stop = func() {}
		switch step := step.(type) {
		case cycle.Planning:
			stop = a.progress(step.Activity)
		case cycle.Planned:
			a.sayPlan(ctx, s, step.Info)
		case cycle.Resuming:
			a.out.say("resume", map[string]any{"job": job, "plan": step.Number},
				fmt.Sprintf("Going on with plan %d.", step.Number))
		case cycle.Running:
			if far = step.State().Far; far {
				a.out.say("background", map[string]any{"job": job},
					"The background service carries it out; it goes on when this command is interrupted.")
			}
			stop = a.follow(step.Run)
		case cycle.Ran:
			ran = step.Run
			a.sayRun(step.Run)
			a.nextOfRun(&ran)
		case cycle.Proving:
			stop = a.progress(step.Activity)
		case cycle.Proved:
			proved = step.Proof
		}
	})
	switch {
	case err != nil && far && ctx.Err() != nil:
		a.next("see how far it is, or change it", "steer", job)
		return errLeft
	case err != nil && proved != nil: // there was nothing to do, and what was proved counts all the same
		if said := a.sayProof(proved); said != nil {
			return said
		}
		return cmp.Or(a.endOfProof(proved), err)
	case err != nil:
		a.nextOfStop(s, job, p.Number, err)
		return err
	case ran.End == history.Stopped:
		return context.Canceled
	case proved != nil:
		if err := a.sayProof(proved); err != nil {
			return err
		}
		if ran.End == history.Failures {
			return errFailures
		}
		return a.endOfProof(proved)
	case ran.End == history.Failures:
		return errFailures
	}
	return nil
}

func (a *app) sayRun(r history.Run) {
	took := r.Ended.Sub(r.Began)
	text := fmt.Sprintf("%s plan %d: %s — %s, %s in %s", r.Job, r.Plan, r.End, plural(r.Objects, "object", "objects"),
		bytesText(r.Bytes), took.Round(time.Millisecond))
	if r.Bytes > 0 && took > 0 {
		text += fmt.Sprintf(" (%s/s)", bytesText(int64(float64(r.Bytes)/took.Seconds())))
	}
	if r.Before > 0 {
		text += fmt.Sprintf("; %s before", countText(r.Before))
	}
	if r.Unverified > 0 {
		text += fmt.Sprintf("; %s of them unverified, as nothing keeps a checksum of their content",
			countText(r.Unverified))
	}
	if r.SeenTo > 0 {
		text += fmt.Sprintf("; %s handled at the source", countText(r.SeenTo))
	}
	for _, p := range r.Problems {
		text += fmt.Sprintf("\n    %s × %s", countText(p.Count), p.Cause)
		if p.Advice != "" {
			text += "; " + strings.TrimLeft(p.Advice, "; ")
		}
		if p.Detail != "" {
			text += "\n        " + p.Detail
		}
		for _, key := range p.Keys[:min(5, len(p.Keys))] {
			text += "\n        " + object.DisplayKey(key)
		}
		if p.Count > 5 {
			text += "\n        …"
		}
	}
	if r.Gaps > 0 {
		text += fmt.Sprintf("\n    %s of the places could not be listed, so the plan did not cover them",
			plural(r.Gaps, "part", "parts"))
	}
	for _, note := range r.Notes {
		text += "\n    " + object.Display(note)
	}
	if r.End == history.Failures && r.Note != "" {
		text += "\n    " + object.Display(r.Note)
	}
	a.out.say("run", map[string]any{"job": r.Job, "plan": r.Plan, "end": dashed(string(r.End)), "objects": r.Objects,
		"bytes": r.Bytes, "before": r.Before,
		"failed": r.Failed, "retries": r.Retries, "handled": r.SeenTo, "unverified": r.Unverified, "notes": r.Notes,
		"gaps": r.Gaps, "seconds": took.Seconds(), "problems": problemFields(r.Problems)}, text)
}

func (a *app) proveCommand() *cobra.Command {
	var opts workroom.ProveOptions
	var by string
	c := &cobra.Command{
		Use: "prove JOB",
		Example: "  lumtra prove masters\n" +
			"  lumtra prove masters --by read-back --digest sha256",
		Short: "Compare both sides as they are now and write a manifest",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				act := &workroom.Activity{}
				stop := a.progress(act)
				opts.Method = compare.Method(by)
				p, err := s.Prove(cmd.Context(), args[0], opts, act)
				stop()
				if err != nil {
					return err
				}
				if err := a.sayProof(p); err != nil {
					return err
				}
				return a.endOfProof(p)
			})
		},
	}
	c.Flags().BoolVar(&opts.Both, "both-ways", false, "what is only at the target counts too")
	c.Flags().StringVar(&opts.Digest, "digest", "",
		"sha256 or blake3: also write a manifest of these (default: what the job says)")
	c.Flags().StringVar(&by, "by", "", "size, stored-checksum or read-back (default: what the job says)")
	return c
}

// endOfProof is what a command ends with after a proof.
func (a *app) endOfProof(p *workroom.Proof) error {
	a.nextWhy, a.nextCommand = "", ""
	switch {
	case p.OnlyUnproven():
		a.next("compare the contents themselves", "prove", p.Job, "--by", "read-back")
		return errNotCompared
	case !p.Holds():
		a.next("plan and run what is different once more", "run", p.Job, "--fresh")
		return errFailures
	}
	return nil
}

func (a *app) sayProof(p *workroom.Proof) error {
	text := fmt.Sprintf("Proof %d of %s by %s: ", p.Number, p.Job, p.Method)
	if p.Holds() {
		text += "holds: " + p.Words()
	} else {
		text += "DOES NOT HOLD"
	}
	for _, v := range []proof.Verdict{proof.Same, proof.Different, proof.Missing, proof.Unproven, proof.Extra,
		proof.Since} {
		if n := p.Objects[v]; n > 0 {
			text += fmt.Sprintf("\n    %-13s %11s  %10s", v, countText(n), bytesText(p.Bytes[v]))
		}
	}
	if p.Gaps > 0 {
		text += fmt.Sprintf("\n    %s could not be listed", plural(p.Gaps, "part", "parts"))
	}
	lines, err := proof.ReadDifferences(p.Dir, 10)
	if err != nil {
		return err
	}
	for _, l := range lines {
		text += fmt.Sprintf("\n    %-13s %s — %s", l.Verdict, object.Display(l.Key), object.Display(l.Why))
	}
	text += waysText(p.Ways)
	text += "\n    written to " + p.Dir
	a.out.say("proof", map[string]any{"job": p.Job, "proof": p.Number, "method": p.Method, "holds": p.Holds(),
		"objects": verdictFields(p.Objects), "bytes": verdictFields(p.Bytes),
		"plan": p.Plan, "gaps": p.Gaps, "ways": waysFields(p.Ways), "dir": p.Dir}, text)
	return nil
}

func (a *app) historyCommand() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "history [JOB]",
		Example: "  lumtra history\n" +
			"  lumtra history masters --limit 5 --json",
		Short: "List past and running runs, newest first",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				name := ""
				if len(args) == 1 {
					name = args[0]
					if _, err := s.Workspace().Job(name); err != nil {
						return fmt.Errorf("%w: %w", workspace.ErrBadInput, err)
					}
				}
				runs, err := s.Runs(cmd.Context(), name, time.Time{}, limit)
				if err != nil {
					return err
				}
				for _, r := range runs {
					a.out.say("run", map[string]any{"job": r.Job, "plan": r.Plan, "began": r.Began,
						"end":     dashed(string(r.End)),
						"objects": r.Objects, "bytes": r.Bytes, "failed": r.Failed, "note": r.Note},
						fmt.Sprintf("%s  %-24s plan %-4d %-19s %18s  %10s  %d failed%s",
							r.Began.Format("2006-01-02 15:04:05 MST"), r.Job, r.Plan, r.End,
							plural(r.Objects, "object", "objects"),
							bytesText(r.Bytes), r.Failed, ofNoPlan(&r)))
				}
				if len(runs) == 0 && !a.out.json {
					a.out.say("", nil, "No runs yet.")
				}
				return nil
			})
		},
	}
	c.Flags().IntVar(&limit, "limit", 50, "how many at most")
	return c
}

// ofNoPlan says why there is a run without a plan: those of the demo's past never were.
func ofNoPlan(r *history.Run) string {
	if r.Plan != 0 {
		return ""
	}
	return "  " + object.Display(r.Note)
}

// interrupted is what a step reports when a signal ended it.
func interrupted(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil && !errors.Is(err, context.Canceled) {
		return errors.Join(context.Canceled, err)
	}
	return err
}
