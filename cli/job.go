package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/service"
	"lumtra/service/workspace"
)

// jobCommand gathers what is done with jobs themselves.
func (a *app) jobCommand() *cobra.Command {
	c := &cobra.Command{Use: "job", Short: "List, show, make, copy, rename and delete jobs", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	c.AddCommand(a.jobListCommand(), a.jobShowCommand(), a.jobNewCommand(), a.jobSetCommand(), a.jobCopyCommand(),
		a.jobRenameCommand(),
		a.jobRemoveCommand())
	return c
}

func (a *app) jobListCommand() *cobra.Command {
	return &cobra.Command{Use: "list",
		Example: "  lumtra job list", Short: "List jobs and templates, and files with mistakes", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				w := s.Workspace()
				for _, list := range [][]*job.Job{w.Jobs, w.Templates} {
					for _, j := range list {
						kind := "job"
						if j.Template {
							kind = "template"
						}
						a.out.say("job", map[string]any{"job": j.Name, "kind": kind, "source": j.Source,
							"target": j.Target}, fmt.Sprintf("%-24s %-9s %s → %s", j.Name, kind,
							object.Display(j.Source), object.Display(j.Lands())))
					}
				}
				for _, err := range w.Mistakes {
					a.out.say("mistake", map[string]any{"message": err.Error()}, "▲ "+err.Error())
				}
				if len(w.Mistakes) > 0 {
					return errFailures
				}
				return nil
			})
		}}
}

func (a *app) jobShowCommand() *cobra.Command {
	return &cobra.Command{Use: "show JOB",
		Example: "  lumtra job show masters", Short: "Print a job's text", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				text, err := s.Workspace().Text(args[0])
				if err != nil {
					return fmt.Errorf("%w: %w", workspace.ErrBadInput, err)
				}
				a.out.say("job", map[string]any{"job": args[0], "text": text}, text)
				return nil
			})
		}}
}

func (a *app) jobNewCommand() *cobra.Command {
	var source, target, from string
	c := &cobra.Command{Use: "new JOB",
		Example: "  lumtra job new masters --source studio/masters --target north/archive/masters\n" +
			"  lumtra job new masters-2027 --from masters",
		Short: "Make a job, from a template or another job if wanted",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) (err error) {
				text := ""
				if from != "" {
					if text, err = s.Workspace().Text(from); err != nil {
						return fmt.Errorf("%w: %w", workspace.ErrBadInput, err)
					}
					if text, err = job.Set(text, nil, "template"); err != nil {
						return err
					}
				}
				for _, side := range []struct{ name, value string }{{"source", source}, {"target", target}} {
					if side.value == "" {
						continue
					}
					if text, err = job.Set(text, side.value, side.name); err != nil {
						return err
					}
				}
				if err := s.SaveJob("", args[0], text); err != nil {
					return err
				}
				a.out.say("job", map[string]any{"job": args[0]}, "Made "+s.Workspace().Path(args[0])+".")
				return nil
			})
		}}
	c.Flags().StringVar(&source, "source", "", "endpoint/bucket/path to take from")
	c.Flags().StringVar(&target, "target", "", "endpoint/bucket/path to bring to")
	c.Flags().StringVar(&from, "from", "", "template or job to begin with")
	return c
}

func (a *app) jobSetCommand() *cobra.Command {
	return &cobra.Command{Use: "set JOB NAME=VALUE...",
		Short: "Change settings of a job; an empty value takes one out",
		Long: "Changes one setting after another in the job's file; comments and all else in it stay. Lists\n" +
			"have commas between. `lumtra help job` tells what each setting means.",
		Example: "  lumtra job set masters target-only=trash limits.streams=16\n" +
			"  lumtra job set masters 'select.exclude=**/*.tmp,**/.cache/**'\n  lumtra job set masters different=",
		Args: cobra.MinimumNArgs(2),
		RunE: a.with(func(_ context.Context, s *service.Service, args []string) error {
			text, err := s.Workspace().Text(args[0])
			if err != nil {
				return fmt.Errorf("%w: %w", workspace.ErrBadInput, err)
			}
			for _, pair := range args[1:] {
				name, value, ok := strings.Cut(pair, "=")
				if !ok {
					return misused("%q is no NAME=VALUE", pair)
				}
				if text, err = job.SetText(text, name, value); err != nil {
					return misused("%w", err)
				}
			}
			if err := s.SaveJob(args[0], args[0], text); err != nil {
				return err
			}
			a.out.say("job", map[string]any{"job": args[0], "text": text}, "Changed "+args[0]+".")
			a.next("see what it would do now", "plan", args[0])
			return nil
		})}
}

func (a *app) jobCopyCommand() *cobra.Command {
	return &cobra.Command{Use: "copy JOB NEW",
		Short:   "Make a job like another; plans and history stay with the first",
		Example: "  lumtra job copy masters masters-2027", Args: cobra.ExactArgs(2),
		RunE: a.with(func(_ context.Context, s *service.Service, args []string) error {
			text, err := s.Workspace().Text(args[0])
			if err != nil {
				return fmt.Errorf("%w: %w", workspace.ErrBadInput, err)
			}
			if err := s.SaveJob("", args[1], text); err != nil {
				return err
			}
			a.out.say("job", map[string]any{"job": args[1], "path": s.Workspace().Path(args[1])},
				fmt.Sprintf("Made %s, like %s: %s.", args[1], args[0], object.Display(s.Workspace().Path(args[1]))))
			a.next("see what it would do", "plan", args[1])
			return nil
		})}
}

func (a *app) jobRenameCommand() *cobra.Command {
	return &cobra.Command{Use: "rename JOB NEW", Short: "Rename a job, its plans, proofs and history",
		Example: "  lumtra job rename masters masters-2026", Args: cobra.ExactArgs(2),
		RunE: a.with(func(_ context.Context, s *service.Service, args []string) error {
			text, err := s.Workspace().Text(args[0])
			if err != nil {
				return fmt.Errorf("%w: %w", workspace.ErrBadInput, err)
			}
			if err := s.SaveJob(args[0], args[1], text); err != nil {
				return err
			}
			a.out.say("job", map[string]any{"job": args[1], "was": args[0]},
				fmt.Sprintf("%s is %s now, with its plans, proofs and history.", args[0], args[1]))
			return nil
		})}
}

func (a *app) jobRemoveCommand() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "delete JOB", Short: "Delete a job; nothing at its places is touched",
		Example: "  lumtra job delete masters-2026 --yes", Args: cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, s *service.Service, args []string) error {
			name := args[0]
			path := s.Workspace().Path(name)
			if _, err := os.Stat(path); err != nil {
				_, err := s.Workspace().Job(name)
				return fmt.Errorf("%w: %w", workspace.ErrBadInput, err)
			}
			past, err := s.Runs(ctx, name, time.Time{}, 10000)
			if err != nil {
				return err
			}
			what := fmt.Sprintf("This deletes %s. Its plans and proofs are put aside in the state folder, its %s "+
				"stay in the history, and nothing at its places is touched.", object.Display(path),
				plural(int64(len(past)), "run", "runs"))
			if err := a.agreed(ctx, yes, what, "job", "delete", name, "--yes"); err != nil {
				return err
			}
			if err := s.RemoveJob(name); err != nil {
				return err
			}
			a.out.say("deleted", map[string]any{"job": name}, "Deleted "+name+".")
			return nil
		})}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}
