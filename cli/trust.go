package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"lumtra/core/object"
	"lumtra/service"
)

// askTrust asks, where somebody is there, about the secrets that the workspace's settings
// name and where those would go, each once. What is not let is refused when it is used.
func (a *app) askTrust(ctx context.Context, s *service.Service) error {
	uses, err := s.Unconfirmed()
	if err != nil || len(uses) == 0 || a.out.json || a.unasked || !term.IsTerminal(int(os.Stdin.Fd())) {
		return err
	}
	if a.trust {
		return s.Confirm(uses...)
	}
	fmt.Fprintln(a.errOut,
		"The settings of this workspace name secrets of yours. Each may go where they say once you let it:")
	in := bufio.NewReader(os.Stdin)
	for _, u := range uses {
		fmt.Fprintf(a.errOut, "  %s: %s? [y/N] ", object.Display(u.Endpoint), object.Display(u.String()))
		line, err := answer(ctx, func() (string, error) { return in.ReadString('\n') })
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			fmt.Fprintln(a.errOut)
			return nil // nobody answered: nothing is let
		}
		if yes := strings.ToLower(strings.TrimSpace(line)); yes == "y" || yes == "yes" {
			if err := s.Confirm(u); err != nil {
				return err
			}
		}
	}
	return nil
}

// answer waits for what a person types, or for the end of ctx: an interrupt ends a
// question, too. The reading that nobody waits for any more goes with the process.
func answer(ctx context.Context, read func() (string, error)) (string, error) {
	type typed struct {
		text string
		err  error
	}
	got := make(chan typed, 1)
	go func() {
		text, err := read()
		got <- typed{text, err}
	}()
	select {
	case x := <-got:
		return x.text, x.err
	case <-ctx.Done():
		return "", ctx.Err()
	}
}

func (a *app) endpointConfirmCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "confirm NAME",
		Example: "  lumtra endpoint confirm north",
		Short:   "Let an endpoint's settings use the secrets they name, at its address",
		Long: `Settings name secrets by where they lie (env:NAME, file:PATH, kept:LABEL, a profile), and the
address that gets them. A workspace may come from somebody else, so each pair is confirmed once,
here, by the question at the start of a command, or with --trust. What you type yourself
("endpoint add", the window's form) counts as confirmed.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			a.unasked = true // since this is the answer
			return a.withService(cmd.Context(), func(s *service.Service) error {
				uses, err := s.Uses(args[0])
				if err != nil {
					return err
				}
				if err := s.Confirm(uses...); err != nil {
					return err
				}
				for _, u := range uses {
					a.out.say("confirmed", map[string]any{"endpoint": args[0], "what": u.What, "address": u.Address},
						"Confirmed: "+object.Display(u.String()))
				}
				if len(uses) == 0 {
					a.out.say("confirmed", map[string]any{"endpoint": args[0]}, "The settings of "+args[0]+
						" name no secret.")
				}
				return nil
			})
		},
	}
}
