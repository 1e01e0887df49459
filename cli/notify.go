package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"

	"github.com/spf13/cobra"

	"lumtra/core/notify"
	"lumtra/core/object"
	"lumtra/service"
	"lumtra/service/notifier"
	"lumtra/service/workspace"
)

func (a *app) notifyCommand() *cobra.Command {
	c := group("notify", "Tell people what happened: try it, and see what was told",
		`Who is told what happened while nobody looked stands in service.toml, in tables [notify.NAME]:
by mail, by a web hook, or by a command. lumtra help service tells of the settings. The background
service sends the messages; they wait in the state folder until they are sent, or given up.`)
	c.AddCommand(a.notifyListCommand(), a.notifyTestCommand(), a.notifyConfirmCommand(), a.notifySentCommand())
	return c
}

func (a *app) notifyListCommand() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List who is told, and of what", Args: cobra.NoArgs,
		Example: "  lumtra notify list",
		RunE: a.with(func(_ context.Context, s *service.Service, _ []string) error {
			all := s.Workspace().Service.Notify
			if len(all) == 0 {
				a.out.say("note", map[string]any{"text": "nobody is told"},
					"Nobody is told: service.toml has no table [notify.NAME]; lumtra help service.")
				return errNothing
			}
			for _, name := range slices.Sorted(maps.Keys(all)) {
				n := all[name]
				a.out.say("receiver", map[string]any{"name": name, "kind": n.Kind, "target": n.Target(), "on": n.On},
					object.Display(fmt.Sprintf("%-16s %-8s %s", name, n.Kind, n.Target())))
			}
			return nil
		})}
}

func (a *app) notifyTestCommand() *cobra.Command {
	return &cobra.Command{Use: "test NAME", Short: "Send a test message, now", Args: cobra.ExactArgs(1),
		Example: "  lumtra notify test office",
		RunE: a.with(func(ctx context.Context, s *service.Service, args []string) error {
			n := s.Workspace().Service.Notify[args[0]]
			if n == nil {
				return workspace.BadInput(fmt.Errorf("there is no notify %q in service.toml", args[0]))
			}
			m := notifier.TestMessage(s.Workspace(), s.Now())
			if err := notifier.Deliver(ctx, s.Keeper, n, m); err != nil {
				return fmt.Errorf("not sent to %s: %w", n.Target(), err)
			}
			a.out.say("sent", map[string]any{"name": n.Name, "id": m.ID, "target": n.Target()},
				object.Display("Sent to "+n.Target()+"."))
			return nil
		})}
}

func (a *app) notifyConfirmCommand() *cobra.Command {
	return &cobra.Command{Use: "confirm NAME", Short: "Let messages go where service.toml says",
		Args: cobra.ExactArgs(1),
		Long: `A workspace may come from somebody else. That messages go somewhere, with which secret, or that a
program is run, is confirmed once: here, by the question at the start of a command, or with --trust.`,
		Example: "  lumtra notify confirm office",
		RunE: func(cmd *cobra.Command, args []string) error {
			a.unasked = true // since this is the answer
			return a.withService(cmd.Context(), func(s *service.Service) error {
				u, err := s.NotifyUse(args[0])
				if err == nil {
					err = s.Confirm(u)
				}
				if err == nil {
					a.out.say("confirmed", map[string]any{"endpoint": u.Endpoint, "what": u.What, "address": u.Address},
						"Confirmed: "+object.Display(u.String()))
				}
				return err
			})
		}}
}

func (a *app) notifySentCommand() *cobra.Command {
	most := 30
	c := &cobra.Command{Use: "sent", Short: "List what was told lately, what waits, and what was given up",
		Args:    cobra.NoArgs,
		Example: "  lumtra notify sent --most 100",
		RunE: a.with(func(ctx context.Context, s *service.Service, _ []string) (err error) {
			path := s.Dir.Path(notifier.OutboxName)
			if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) {
				a.out.say("note", map[string]any{"text": "nothing was told yet"}, "Nothing was told yet.")
				return errNothing
			}
			box, err := notify.OpenOutbox(path)
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, box.Close()) }()
			all, err := box.List(ctx, most)
			for _, w := range slices.Backward(all) {
				text := fmt.Sprintf("%s  %-16s %-8s %s", shownTime(w.Made), w.Receiver, w.State, w.Subject)
				if w.Error != "" {
					text += "; " + w.Error
				}
				a.out.say("message", map[string]any{"id": w.ID, "name": w.Receiver, "state": w.State, "kind": w.Kind,
					"subject": w.Subject, "tries": w.Tries, "made": w.Made, "due": w.Due, "message": w.Error},
					object.Display(text))
			}
			return err
		})}
	c.Flags().IntVar(&most, "most", most, "the most messages to tell of")
	return c
}
