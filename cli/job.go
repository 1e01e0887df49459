package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/service"
)

// jobCommand gathers what is done with jobs themselves.
func (a *app) jobCommand() *cobra.Command {
	c := &cobra.Command{Use: "job", Short: "List, show, make, copy, rename and remove jobs", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
	c.AddCommand(a.jobListCommand(), a.jobShowCommand(), a.jobNewCommand(), a.jobCopyCommand(), a.jobRenameCommand(), a.jobRemoveCommand())
	return c
}

func (a *app) jobListCommand() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List jobs and templates, and files with mistakes", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				w := s.Workspace()
				for _, list := range [][]*job.Job{w.Jobs, w.Templates} {
					for _, j := range list {
						kind := "job"
						if j.Template {
							kind = "template"
						}
						a.out.say("job", map[string]any{"job": j.Name, "kind": kind, "source": j.Source, "target": j.Target}, fmt.Sprintf("%-24s %-9s %s → %s", j.Name, kind, object.Display(j.Source), object.Display(j.Lands())))
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
	return &cobra.Command{Use: "show JOB", Short: "Print a job's text", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				text, err := s.Workspace().Text(args[0])
				if err != nil {
					return fmt.Errorf("%w: %w", service.ErrBadInput, err)
				}
				a.out.say("job", map[string]any{"job": args[0], "text": text}, text)
				return nil
			})
		}}
}

func (a *app) jobNewCommand() *cobra.Command {
	var source, target, from string
	c := &cobra.Command{Use: "new JOB", Short: "Make a job, from a template or another job if wanted", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) (err error) {
				text := ""
				if from != "" {
					if text, err = s.Workspace().Text(from); err != nil {
						return fmt.Errorf("%w: %w", service.ErrBadInput, err)
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

func (a *app) jobCopyCommand() *cobra.Command {
	return &cobra.Command{Use: "copy JOB NEW", Short: "Make a job like another; plans and history stay with the first", Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				text, err := s.Workspace().Text(args[0])
				if err != nil {
					return fmt.Errorf("%w: %w", service.ErrBadInput, err)
				}
				return s.SaveJob("", args[1], text)
			})
		}}
}

func (a *app) jobRenameCommand() *cobra.Command {
	return &cobra.Command{Use: "rename JOB NEW", Short: "Rename a job, its plans, proofs and history", Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				text, err := s.Workspace().Text(args[0])
				if err != nil {
					return fmt.Errorf("%w: %w", service.ErrBadInput, err)
				}
				return s.SaveJob(args[0], args[1], text)
			})
		}}
}

func (a *app) jobRemoveCommand() *cobra.Command {
	return &cobra.Command{Use: "remove JOB", Short: "Remove a job; nothing at its places is touched", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error {
				if _, err := os.Stat(s.Workspace().Path(args[0])); err != nil {
					return fmt.Errorf("%w: there is no job %s", service.ErrBadInput, object.Display(args[0]))
				}
				return s.RemoveJob(args[0])
			})
		}}
}
