package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/plan"
	"lumtra/core/report"
	"lumtra/core/rule"
	"lumtra/service"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// planFlags are what `plan` can be told.
type planFlags struct {
	number   int
	reuse    string
	resurvey string
	compare  int
	export   string
	checks   bool
	contents bool
}

func (o *planFlags) add(c *cobra.Command) {
	c.Flags().IntVar(&o.number, "number", 0, "show a saved plan instead of making one")
	c.Flags().StringVar(&o.reuse, "reuse", "",
		"plan from kept surveys no older than this (\"2h\", \"1d\"), if nothing here changed since")
	c.Flags().StringVar(&o.resurvey, "resurvey", "", "survey only what starts with this prefix anew")
	c.Flags().IntVar(&o.compare, "compare", 0, "tell the differences to the plan with this number")
	c.Flags().StringVar(&o.export, "export", "", "write the plan to a file: .csv, .jsonl, .svg or .pdf; - for CSV here")
	c.Flags().BoolVar(&o.contents, "contents", false,
		"compare contents where else size and a later time alone would say that an object is the same")
	c.Flags().BoolVar(&o.checks, "checks", false, "look at permissions, room, names and the like before a run")
}

// planOrOpen makes a plan, or opens a saved one, and does what the flags say.
func (a *app) planOrOpen(ctx context.Context, s *service.Service, job string, o *planFlags) (info plan.Info,
	err error) {
	fresh := workroom.Freshness{Prefix: o.resurvey, Contents: o.contents}
	format := report.CSV
	if o.export != "" && o.export != "-" {
		format = report.Format(strings.TrimPrefix(filepath.Ext(o.export), "."))
		if !slices.Contains(report.Formats, format) {
			return info, fmt.Errorf("%w: --export is %q; its ending is one of .csv, .jsonl, .svg, .pdf",
				workspace.ErrBadInput, o.export)
		}
	}
	if o.export == "-" { // words would stand in the table
		out := a.out.out
		a.out.out = a.errOut
		defer func() { a.out.out = out }()
		defer func(was io.Writer) {
			if err == nil {
				err = s.ExportPlan(was, info.Job, info.Number, format)
			}
		}(out)
	}
	if o.reuse != "" {
		age, ok := rule.ParseAge(o.reuse)
		if !ok {
			return info, fmt.Errorf("%w: --reuse is %q; it is an age such as \"2h\" or \"1d\"", workspace.ErrBadInput,
				o.reuse)
		}
		fresh.MaxAge = age
	}
	if o.number != 0 {
		p, err := s.PlanNumber(job, o.number)
		if err != nil {
			return info, err
		}
		info = p.Info
		p.Close()
		a.sayPlan(ctx, s, info)
	} else if info, err = a.makePlan(ctx, s, job, fresh); err != nil {
		return info, err
	}
	if o.checks {
		err = a.sayChecks(ctx, s, info)
	}
	if err == nil && o.compare != 0 {
		err = a.sayChanges(ctx, s, info, o.compare)
	}
	if err == nil && o.export != "" && o.export != "-" {
		err = a.exportPlan(s, info, o.export, format)
	}
	return info, err
}

// sayRules tells what each rule of the selection takes and drops.
func (a *app) sayRules(info plan.Info) {
	for _, t := range info.Tallies {
		text := fmt.Sprintf("    %s: takes %s, drops %s", object.Display(t.Rule), countText(t.Takes),
			countText(t.Drops))
		if t.Idle != "" {
			text += " — ▲ " + object.Display(t.Idle)
		}
		a.out.say("rule", map[string]any{"rule": t.Rule, "takes": t.Takes, "takes_bytes": t.TakesBytes,
			"drops": t.Drops, "drops_bytes": t.DropsBytes, "idle": t.Idle}, text)
	}
}

// sayEstimate tells what a run would take.
func (a *app) sayEstimate(ctx context.Context, s *service.Service, info plan.Info) {
	j, err := s.Workspace().Job(info.Job)
	if err != nil || info.NothingToDo() {
		return
	}
	e := s.Estimate(ctx, j, &info)
	text := fmt.Sprintf("    takes about %s (%s to %s), %s requests at the source, %s at the target", span(e.Expect),
		span(e.Soon), span(e.Late), countText(e.Source.All()), countText(e.Target.All()))
	if e.Calibrated > 0 {
		text += fmt.Sprintf("; learnt from %s", plural(int64(e.Calibrated), "earlier run", "earlier runs"))
	}
	for _, name := range e.Assumed {
		text += "; " + name + " was never measured"
	}
	if e.Digesting > 0 {
		text += "; digests: " + span(e.Digesting) + " of processor time"
	}
	if e.Rereading > 0 {
		text += "; " + span(e.Rereading) + " of it for reading the source a second time"
	}
	if e.Currency != "" {
		text += fmt.Sprintf("\n    costs %.4f %s once and %.4f a month", e.Total, e.Currency, e.Monthly)
		if e.Example {
			text += ", by rates that are only examples"
		}
	}
	for _, name := range e.Unpriced {
		text += "\n    no rates for " + name + ": what it costs there is not counted"
	}
	fields := map[string]any{"seconds": e.Expect.Seconds(), "soonest_seconds": e.Soon.Seconds(),
		"latest_seconds": e.Late.Seconds(), "learnt_from": e.Calibrated, "assumed": e.Assumed,
		"digest_processor_seconds": e.Digesting.Seconds(), "rereading_seconds": e.Rereading.Seconds(),
		"source_requests": requestFields(e.Source), "target_requests": requestFields(e.Target),
		"costs": costFields(e.Costs), "total": e.Total,
		"monthly": e.Monthly, "currency": e.Currency, "example_rates": e.Example, "unpriced": e.Unpriced}
	if p := e.AsPack; p != nil {
		text += fmt.Sprintf("\n    as one pack: about %s, %s requests at the target", span(p.Expect),
			countText(p.Target.All()))
		if p.Currency != "" {
			text += fmt.Sprintf(", %.4f %s once", p.Total, p.Currency)
		}
		text += fmt.Sprintf(" (lumtra job set %s target=%s)", object.Display(info.Job),
			object.Display(pack.As(j.Target, pack.Zstd)))
		fields["pack_seconds"], fields["pack_target_requests"] = p.Expect.Seconds(), requestFields(p.Target)
		fields["pack_total"] = p.Total
	}
	a.out.say("estimate", fields, text)
}

func span(d time.Duration) string {
	if d < time.Second {
		return d.Round(time.Millisecond).String()
	}
	return d.Round(time.Second).String()
}

func (a *app) sayChecks(ctx context.Context, s *service.Service, info plan.Info) error {
	all, err := s.Checks(ctx, info.Job, info.Number)
	for _, c := range all {
		text := fmt.Sprintf("    %-5s %-12s %s", c.Weigh, c.Name, object.Display(c.Found))
		if c.Mend != "" {
			text += " — " + object.Display(c.Mend)
		}
		a.out.say("check", checkFields(&c), text)
	}
	return err
}

// shownChanges is how many differences between plans are printed.
const shownChanges = 50

func (a *app) sayChanges(ctx context.Context, s *service.Service, info plan.Info, was int) error {
	c, err := s.ComparePlans(ctx, info.Job, was, info.Number, shownChanges)
	if err != nil {
		return err
	}
	a.out.say("changes", map[string]any{"was_plan": was, "is_plan": info.Number, "count": c.Count},
		fmt.Sprintf("Differences to plan %d: %s", was, plural(c.Count, "key", "keys")))
	kind := func(e *plan.Effect) string {
		if e == nil {
			return "nothing"
		}
		return kindName(e.Kind)
	}
	for _, d := range c.Lines {
		a.out.say("change", map[string]any{"key": object.Display(d.Key), "was": kind(d.Was), "is": kind(d.Is)},
			fmt.Sprintf("    %-9s → %-9s %s", kind(d.Was), kind(d.Is), object.Display(d.Key)))
	}
	if rest := c.Count - int64(len(c.Lines)); rest > 0 {
		a.out.say("", nil, "    … and "+countText(rest)+" more")
	}
	return nil
}

func (a *app) exportPlan(s *service.Service, info plan.Info, to string, format report.Format) error {
	err := workspace.WriteFile(to, func(w io.Writer) error { return s.ExportPlan(w, info.Job, info.Number, format) })
	if errors.Is(err, workspace.ErrBadInput) {
		return fmt.Errorf("--export: %w", err)
	}
	if err == nil {
		a.out.say("exported", map[string]any{"file": to}, "Written to "+to+".")
	}
	return err
}
