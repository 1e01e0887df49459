package cli

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lumtra/core/ledger"
	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/core/report"
	"lumtra/service"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// exported is something that can be written to a file, in some forms.
type exported struct {
	what  string
	forms []report.Format
	// find finds the one with a number of a job, 0 for the newest, and gives what writes it.
	find func(ctx context.Context, s *service.Service, job string, number int) (func(io.Writer, report.Format) error,
		error)
}

var exports = []exported{
	{"plan", report.Formats, findPlan},
	{"run", report.Formats, findRun},
	{"proof", []report.Format{report.PDF, report.SVG}, findProof},
}

func findPlan(_ context.Context, s *service.Service, job string, number int) (func(io.Writer, report.Format) error,
	error) {
	p, err := s.LatestPlan(job)
	if number != 0 {
		p, err = s.PlanNumber(job, number)
	}
	switch {
	case err != nil:
		return nil, err
	case p == nil:
		return nil, workspace.BadInput(fmt.Errorf("%s has no plan yet", job))
	}
	number = p.Info.Number
	return func(w io.Writer, f report.Format) error { return s.ExportPlan(w, job, number, f) }, p.Close()
}

func findRun(ctx context.Context, s *service.Service, job string, number int) (func(io.Writer, report.Format) error,
	error) {
	all, err := s.Runs(ctx, job, time.Time{}, 1000)
	if err != nil {
		return nil, err
	}
	for _, r := range all { // newest first
		if number == 0 || r.Plan == number {
			return func(w io.Writer, f report.Format) error { return report.Run(w, &r, f) }, nil
		}
	}
	if number != 0 {
		return nil, workspace.BadInput(fmt.Errorf("%s has no run of plan %d", job, number))
	}
	return nil, workspace.BadInput(fmt.Errorf("%s has not run yet", job))
}

func findProof(_ context.Context, s *service.Service, job string, number int) (func(io.Writer, report.Format) error,
	error) {
	p, err := s.LatestProof(job)
	if number != 0 {
		p, err = s.ProofNumber(job, number)
	}
	switch {
	case err != nil:
		return nil, err
	case p == nil:
		return nil, workspace.BadInput(fmt.Errorf("%s was not proven yet", job))
	}
	return func(w io.Writer, f report.Format) error { return s.ExportProof(w, p, f) }, nil
}

func (a *app) exportCommand() *cobra.Command {
	c := group("export", "Write a plan, a run's curve and report, or a proof to a file", "")
	for _, x := range exports {
		c.AddCommand(a.exportOne(x))
	}
	return c
}

func (a *app) exportOne(x exported) *cobra.Command {
	var number int
	var to string
	var forms []string
	for _, f := range x.forms {
		forms = append(forms, "."+string(f))
	}
	c := &cobra.Command{
		Use:   x.what + " JOB",
		Short: "Write a job's " + x.what + " to a file: " + strings.Join(forms, ", "),
		Example: fmt.Sprintf("  lumtra export %s masters --to masters%s\n"+
			"  lumtra export %s masters --number 3 --to %s-3%s", x.what, forms[0], x.what, x.what, forms[len(forms)-1]),
		Args: cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, s *service.Service, args []string) error {
			form := report.Format(strings.TrimPrefix(filepath.Ext(to), "."))
			if to == "" {
				return misused("%s needs --to FILE, whose name ends with %s", "lumtra export "+x.what,
					strings.Join(forms, " or "))
			}
			if !slices.Contains(x.forms, form) {
				return misused("--to is %q; it is a file whose name ends with %s", to, strings.Join(forms, " or "))
			}
			if _, err := s.Job(args[0]); err != nil {
				return err
			}
			write, err := x.find(ctx, s, args[0], number)
			if err == nil {
				err = workspace.WriteFile(to, func(w io.Writer) error { return write(w, form) })
			}
			if err == nil {
				a.out.say("exported", map[string]any{"file": to}, "Written to "+object.Display(to)+".")
			}
			return err
		}),
	}
	c.Flags().StringVar(&to, "to", "", "the file to write; what is there is replaced")
	about := "the number of the " + x.what + " (default: the newest)"
	if x.what == "run" {
		about = "the number of the plan that was run (default: the newest run)"
	}
	c.Flags().IntVar(&number, "number", 0, about)
	return c
}

// failuresCommand lists every object that failed.
func (a *app) failuresCommand() *cobra.Command {
	var number, limit int
	var cause string
	var tries bool
	c := &cobra.Command{
		Use:   "failures JOB",
		Short: "List every object that failed in the runs of a plan and was not done since",
		Example: "  lumtra failures masters\n" +
			"  lumtra failures masters --tries --cause \"access denied\"",
		Args: cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, s *service.Service, args []string) error {
			if number == 0 {
				p, err := s.LatestPlan(args[0])
				switch {
				case err != nil:
					return err
				case p == nil:
					return workspace.BadInput(fmt.Errorf("%s has no plan yet", args[0]))
				}
				number = p.Info.Number
				if err := p.Close(); err != nil {
					return err
				}
			}
			failed, err := s.Failures(ctx, args[0], number, cause, limit)
			if err != nil {
				return err
			}
			if left := limit - len(failed); limit == 0 || left > 0 {
				blocked, err := a.blocked(s, args[0], number, cause, left)
				if err != nil {
					return err
				}
				failed = append(failed, blocked...)
			}
			for i := range failed {
				a.sayFailed(&failed[i], tries)
			}
			if len(failed) == 0 {
				a.out.say("nothing-to-do", map[string]any{"message": "nothing failed"},
					fmt.Sprintf("Nothing of plan %d of %s failed and was not done since.", number, args[0]))
				return nil
			}
			a.next("try them again", "run", args[0], "--plan", fmt.Sprint(number))
			return errFailures
		}),
	}
	c.Flags().IntVar(&number, "plan", 0, "the plan's number (default: the newest)")
	c.Flags().StringVar(&cause, "cause", "", "only what failed of this cause, as `run` tells it")
	c.Flags().IntVar(&limit, "limit", 0, "how many at most; 0 is all")
	c.Flags().BoolVar(&tries, "tries", false, "each attempt, too")
	return c
}

// causeBlocked is the cause of what a plan knows that it cannot do.
const causeBlocked = "blocked"

// blocked lists what a plan knew that it cannot do: no run has tried it.
func (a *app) blocked(s *service.Service, job string, number int, cause string, limit int) (all []workroom.FailedObject,
	err error) {
	if cause != "" && !strings.HasPrefix(cause, causeBlocked) {
		return nil, nil
	}
	p, err := s.PlanNumber(job, number)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	if p.Info.Totals[plan.Blocked].Count == 0 {
		return nil, nil
	}
	c := p.Effects("")
	for c.Next() && (limit <= 0 || len(all) < limit) {
		if e := c.Effect(); e.Kind == plan.Blocked {
			all = append(all, workroom.FailedObject{Key: e.Key, Size: e.Bytes(),
				Failure: ledger.Failure{Cause: causeBlocked, Why: e.Why()}})
		}
	}
	return all, c.Err()
}

// sayFailed tells of an object that failed, on a line of its own.
func (a *app) sayFailed(f *workroom.FailedObject, tries bool) {
	text := fmt.Sprintf("%s  %s — %s", object.DisplayKey(f.Key), f.Cause, object.Display(f.Why))
	if tries {
		for _, t := range f.Attempts {
			text += fmt.Sprintf("\n    %s  try %d: %s", t.At.Format("2006-01-02 15:04:05 MST"), t.Number,
				object.Display(t.Why))
		}
	}
	all := []map[string]any{}
	for _, t := range f.Attempts {
		all = append(all, map[string]any{"at": t.At, "number": t.Number, "why": t.Why})
	}
	a.out.say("failed", map[string]any{"key": object.DisplayKey(f.Key), "bytes": f.Size, "cause": f.Cause, "why": f.Why,
		"tries": all}, text)
}
