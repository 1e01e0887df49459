package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"lumtra/core/catalog"
	"lumtra/core/compare"
	"lumtra/core/history"
	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/core/proof"
	"lumtra/core/transfer"
	"lumtra/service"
)

func (a *app) surveyCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "survey JOB|ENDPOINT/PATH",
		Short: "List both sides of a job, or one place, and count",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				act := &service.Activity{}
				stop := a.progress(act.Stage, func() string { return activityText(act) })
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
	text := fmt.Sprintf("%s: %s, %s", object.Display(i.Place), plural(i.Objects, "object", "objects"), bytesText(i.Bytes))
	if i.Absent {
		text += " (not there yet)"
	}
	for _, p := range i.Problems {
		text += "\n    not listed: " + p
	}
	a.out.say("survey", map[string]any{"place": i.Place, "objects": i.Objects, "bytes": i.Bytes, "absent": i.Absent,
		"complete": i.Complete(), "missed": i.Missed, "problems": i.Problems, "seconds": i.Ended.Sub(i.Began).Seconds()}, text)
}

func (a *app) planCommand() *cobra.Command {
	var list bool
	var o planFlags
	c := &cobra.Command{
		Use:   "plan JOB",
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
				switch {
				case len(info.Held) > 0:
					return fmt.Errorf("%w: %s; look at the plan, and if it is meant: %s", service.ErrHeld, strings.Join(info.Held, "; "), service.ApproveCommand(&info))
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

func (a *app) makePlan(ctx context.Context, s *service.Service, job string, fresh service.Freshness) (plan.Info, error) {
	act := &service.Activity{}
	stop := a.progress(act.Stage, func() string { return activityText(act) })
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
	text := fmt.Sprintf("Plan %d of %s, judged by %s:", info.Number, info.Job, info.Rules.Judge)
	for _, k := range plan.Kinds {
		if t := info.Totals[k]; t.Count > 0 {
			text += fmt.Sprintf("\n    %-9s %12s  %10s", k, countText(t.Count), bytesText(t.Bytes))
		}
	}
	if n := info.Afterwards; n.Count > 0 {
		text += fmt.Sprintf("\n    once proven, %s, %s, %s", plural(n.Count, "object is", "objects are"), bytesText(n.Bytes), info.Rules.Afterwards.Becomes())
	}
	if info.Settled() {
		text += "\n    nothing to do"
	} else {
		text += waysText(info.Ways)
	}
	a.out.say("plan", map[string]any{"job": info.Job, "plan": info.Number, "judge": info.Rules.Judge, "totals": info.Totals.Map(), "held": info.Held, "notes": info.Notes, "ways": info.Ways, "afterwards": info.Afterwards}, text)
	a.sayRules(info)
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
			a.out.say("effect", map[string]any{"effect": e.Kind, "key": object.Display(e.Key), "bytes": e.Bytes(), "why": e.Why()},
				fmt.Sprintf("    %-9s %s — %s", e.Kind, object.Display(e.Key), e.Why()))
		}
	}
	return c.Err()
}

func (a *app) runCommand() *cobra.Command {
	var opts service.RunOptions
	var fresh bool
	var approve int64
	c := &cobra.Command{
		Use:   "run JOB",
		Short: "Go on with the job's unfinished plan, or plan anew, and carry it out",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, name := cmd.Context(), args[0]
			return a.withService(ctx, func(s *service.Service) error {
				if opts.Number == 0 {
					number := 0
					var err error
					if !fresh {
						number, err = s.Resumable(ctx, name)
					}
					if err == nil && number == 0 {
						var info plan.Info
						info, err = a.makePlan(ctx, s, name, service.Freshness{})
						number = info.Number
					} else if err == nil {
						a.out.say("resume", map[string]any{"job": name, "plan": number}, fmt.Sprintf("Going on with plan %d.", number))
					}
					if err != nil {
						return err
					}
					opts.Number = number
				}
				if cmd.Flags().Changed("approve") {
					if err := s.Approve(ctx, name, opts.Number, approve); err != nil {
						return err
					}
				}
				return a.carryOut(ctx, s, name, opts)
			})
		},
	}
	c.Flags().IntVar(&opts.Number, "plan", 0, "carry out exactly this saved plan")
	c.Flags().BoolVar(&fresh, "fresh", false, "make a new plan even if an unfinished one could be gone on with")
	c.Flags().StringVar(&opts.Cause, "retry", "", "with --plan: try only what failed of this cause, as `history` and the run tell it")
	c.Flags().BoolVar(&opts.Here, "here", false, "carry it out in this process, also when the background service is running")
	c.Flags().StringSliceVar(&opts.Despite, "despite", nil, "run although these checks know that it would fail: "+strings.Join(service.Blockers, ", "))
	c.Flags().Int64Var(&approve, "approve", 0, "let go a plan that a guard holds back: the number of objects it removes")
	return c
}

func (a *app) carryOut(ctx context.Context, s *service.Service, name string, opts service.RunOptions) error {
	r, err := s.StartRun(ctx, name, opts)
	if err != nil {
		return err
	}
	if r.Far() {
		a.out.say("background", map[string]any{"job": name}, "The background service carries it out; it goes on when this command is interrupted.")
	} else {
		defer context.AfterFunc(ctx, r.Stop)()
	}
	stop := a.progress(func() (string, time.Time) { return "running", time.Time{} }, func() string {
		m := r.State()
		text := fmt.Sprintf("%s of %s, %s, %d failed", countText(m.Before+m.Objects), plural(m.Planned.Count, "object", "objects"), bytesText(m.Bytes), m.Failed)
		if m.Phase == transfer.Settling {
			text += fmt.Sprintf("; %s of %s seen to at the source", countText(m.Settled), countText(m.Afterwards.Count))
		}
		return text
	})
	select {
	case <-r.Done():
	case <-ctx.Done():
		if r.Far() { // it goes on
			stop()
			return ctx.Err()
		}
	}
	res, err := r.Wait()
	stop()
	if err != nil {
		return err
	}
	a.sayRun(res)
	switch res.End {
	case history.Stopped:
		return context.Canceled
	case history.Failures:
		return errFailures
	}
	return nil
}

func (a *app) sayRun(r history.Run) {
	took := r.Ended.Sub(r.Began)
	text := fmt.Sprintf("%s plan %d: %s — %s, %s in %s", r.Job, r.Plan, r.End, plural(r.Objects, "object", "objects"), bytesText(r.Bytes), took.Round(time.Millisecond))
	if r.Bytes > 0 && took > 0 {
		text += fmt.Sprintf(" (%s/s)", bytesText(int64(float64(r.Bytes)/took.Seconds())))
	}
	if r.Before > 0 {
		text += fmt.Sprintf("; %s before", countText(r.Before))
	}
	if r.Unverified > 0 {
		text += fmt.Sprintf("; %s of them unverified, as nothing keeps a checksum of their content", countText(r.Unverified))
	}
	if r.Settled > 0 {
		text += fmt.Sprintf("; %s seen to at the source", countText(r.Settled))
	}
	for _, p := range r.Problems {
		text += fmt.Sprintf("\n    %s × %s", countText(p.Count), p.Cause)
		if p.Advice != "" {
			text += "; " + p.Advice
		}
		if p.Detail != "" {
			text += "\n        " + p.Detail
		}
		for _, key := range p.Keys[:min(5, len(p.Keys))] {
			text += "\n        " + object.Display(key)
		}
		if p.Count > 5 {
			text += "\n        …"
		}
	}
	if r.Gaps > 0 {
		text += fmt.Sprintf("\n    %s of the places could not be listed, so the plan did not cover them", plural(r.Gaps, "part", "parts"))
	}
	for _, note := range r.Notes {
		text += "\n    " + object.Display(note)
	}
	if r.End == history.Failures && r.Note != "" {
		text += "\n    " + object.Display(r.Note)
	}
	if r.End == history.Stopped {
		text += fmt.Sprintf("\n    what was done stays done; `lumtra run %s` goes on", r.Job)
	}
	a.out.say("run", map[string]any{"job": r.Job, "plan": r.Plan, "end": r.End, "objects": r.Objects, "bytes": r.Bytes, "before": r.Before,
		"failed": r.Failed, "retries": r.Retries, "settled": r.Settled, "unverified": r.Unverified, "notes": r.Notes, "gaps": r.Gaps, "seconds": took.Seconds(), "problems": r.Problems}, text)
}

func (a *app) proveCommand() *cobra.Command {
	var opts service.ProveOptions
	var by string
	c := &cobra.Command{
		Use:   "prove JOB",
		Short: "Compare both sides as they are now and write a manifest",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				act := &service.Activity{}
				stop := a.progress(act.Stage, func() string { return activityText(act) })
				opts.Method = compare.Method(by)
				p, err := s.Prove(cmd.Context(), args[0], opts, act)
				stop()
				if err != nil {
					return err
				}
				if err := a.sayProof(p); err != nil {
					return err
				}
				switch {
				case p.OnlyUnproven():
					return errNotCompared
				case !p.Holds():
					return errFailures
				}
				return nil
			})
		},
	}
	c.Flags().BoolVar(&opts.Both, "both-ways", false, "what is only at the target counts too")
	c.Flags().StringVar(&opts.Digest, "digest", "", "sha256 or blake3: also write a manifest of these (default: what the job says)")
	c.Flags().StringVar(&by, "by", "", "size, stored-checksum or read-back (default: what the job says)")
	return c
}

func (a *app) sayProof(p *service.Proof) error {
	text := fmt.Sprintf("Proof %d of %s by %s: ", p.Number, p.Job, p.Method)
	if p.Holds() {
		text += "holds"
	} else {
		text += "DOES NOT HOLD"
	}
	for _, v := range []proof.Verdict{proof.Same, proof.Different, proof.Missing, proof.Unproven, proof.Extra} {
		if n := p.Objects[v]; n > 0 {
			text += fmt.Sprintf("\n    %-12s %12s  %10s", v, countText(n), bytesText(p.Bytes[v]))
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
		text += fmt.Sprintf("\n    %-12s %s — %s", l.Verdict, object.Display(l.Key), object.Display(l.Why))
	}
	text += waysText(p.Ways)
	text += "\n    written to " + p.Dir
	a.out.say("proof", map[string]any{"job": p.Job, "proof": p.Number, "method": p.Method, "holds": p.Holds(), "objects": p.Objects, "bytes": p.Bytes,
		"gaps": p.Gaps, "ways": p.Ways, "dir": p.Dir}, text)
	return nil
}

func (a *app) historyCommand() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use:   "history [JOB]",
		Short: "List past and running runs, newest first",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				name := ""
				if len(args) == 1 {
					name = args[0]
					if _, err := s.Workspace().Job(name); err != nil {
						return fmt.Errorf("%w: %w", service.ErrBadInput, err)
					}
				}
				runs, err := s.Runs(cmd.Context(), name, time.Time{}, limit)
				if err != nil {
					return err
				}
				for _, r := range runs {
					a.out.say("run", map[string]any{"job": r.Job, "plan": r.Plan, "began": r.Began, "end": r.End, "objects": r.Objects, "bytes": r.Bytes, "failed": r.Failed},
						fmt.Sprintf("%s  %-24s plan %-4d %-19s %10s objects  %10s  %d failed", r.Began.Format("2006-01-02 15:04:05 MST"), r.Job, r.Plan, r.End, countText(r.Objects), bytesText(r.Bytes), r.Failed))
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

// progress shows one changing line on a terminal while a step goes on; the
// function it returns takes it away.
func (a *app) progress(stage func() (string, time.Time), text func() string) (stop func()) {
	f, ok := a.errOut.(*os.File)
	if a.out.json || !ok || !term.IsTerminal(int(f.Fd())) {
		return func() {}
	}
	quit, gone := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(gone)
		tick := time.NewTicker(200 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				name, _ := stage()
				fmt.Fprintf(f, "\r\x1b[K%s: %s", name, text())
			case <-quit:
				fmt.Fprint(f, "\r\x1b[K")
				return
			}
		}
	}()
	return func() { close(quit); <-gone }
}

func activityText(act *service.Activity) string {
	if n := act.Compared.Objects.Load(); n > 0 {
		return fmt.Sprintf("%s, %s", plural(n, "object", "objects"), bytesText(act.Compared.Bytes.Load()))
	}
	return fmt.Sprintf("%s objects at the source, %s at the target", countText(act.Source.Objects.Load()), countText(act.Target.Objects.Load()))
}

// interrupted is what a step reports when a signal ended it.
func interrupted(ctx context.Context, err error) error {
	if ctx.Err() != nil && !errors.Is(err, context.Canceled) {
		return errors.Join(context.Canceled, err)
	}
	return err
}
