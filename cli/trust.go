package cli

import (
	"bufio"
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
func (a *app) askTrust(s *service.Service) error {
	uses, err := s.Unconfirmed()
	if err != nil || len(uses) == 0 || a.out.json || a.unasked || !term.IsTerminal(int(os.Stdin.Fd())) {
		return err
	}
	if a.trust {
		return s.Confirm(uses...)
	}
	fmt.Fprintln(a.errOut, "The settings of this workspace name secrets of yours. Each may go where they say once you let it:")
	in := bufio.NewReader(os.Stdin)
	for _, u := range uses {
		fmt.Fprintf(a.errOut, "  %s: %s? [y/N] ", object.Display(u.Endpoint), object.Display(u.String()))
		line, err := in.ReadString('\n')
		if err != nil {
			fmt.Fprintln(a.errOut)
			return nil // nobody answered: nothing is let
		}
		if answer := strings.ToLower(strings.TrimSpace(line)); answer == "y" || answer == "yes" {
			if err := s.Confirm(u); err != nil {
				return err
			}
		}
	}
	return nil
}

func (a *app) endpointConfirmCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "confirm NAME",
		Short: "Let an endpoint's settings use the secrets they name, at its address",
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
					a.out.say("confirmed", map[string]any{"endpoint": args[0], "what": u.What, "address": u.Address}, "Confirmed: "+object.Display(u.String()))
				}
				if len(uses) == 0 {
					a.out.say("confirmed", map[string]any{"endpoint": args[0]}, "The settings of "+args[0]+" name no secret.")
				}
				return nil
			})
		},
	}
}
