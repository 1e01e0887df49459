package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lumtra/core/object"
	"lumtra/service"
	"lumtra/service/state"
)

// errUsage marks a command line that was not understood.
var errUsage = errors.New("usage")

// Interface opens the full-screen interface on a service and returns when it
// is left. The command line does not know how; main does.
type Interface func(ctx context.Context, s *service.Service) error

// app is what the commands share.
type app struct {
	workspace, state string
	usual            bool // the state lies where that of this workspace does by default
	trust, unasked   bool
	out              *printer
	errOut           io.Writer
	open             Interface
	logFile          *os.File
}

// Main runs the command line and returns the exit code.
func Main(ctx context.Context, args []string, stdout, stderr io.Writer, open Interface) int {
	// Known before the flags are parsed, since those may be what is wrong.
	a := &app{out: &printer{out: stdout, json: slices.Contains(args, "--json")}, errOut: stderr, open: open}
	root := a.command()
	root.SetArgs(args)
	root.SetOut(stdout)
	root.SetErr(stderr)
	err := root.ExecuteContext(ctx)
	if a.logFile != nil {
		a.logFile.Close()
	}
	code := exitCode(err)
	if err != nil && !errors.Is(err, errFailures) && !errors.Is(err, errNothing) {
		message := strings.TrimPrefix(err.Error(), service.ErrBadInput.Error()+": ")
		if code == ExitInterrupted { // whatever was being done just then
			message = "stopped before the end; what was done stays done"
		}
		if a.out.json {
			a.out.say("error", map[string]any{"message": message, "exit": code}, "")
		} else {
			fmt.Fprintln(stderr, "lumtra: "+message)
		}
	}
	return code
}

func (a *app) command() *cobra.Command {
	root := &cobra.Command{
		Use:   "lumtra",
		Short: "Plan, run and prove copies between object stores and folders",
		Long: `Lumtra plans, runs and proves copies between object stores and local folders.

Without a command it opens its full-screen interface. Every command ends with
one of these codes: 0 done, 1 done with failures, 2 bad input, 3 nothing to do,
4 held back by a guard, 5 interrupted, 6 could not, 7 a proof could not compare
everything, 8 blocked by a check.`,
		SilenceUsage: true, SilenceErrors: true,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error { return a.open(cmd.Context(), s) })
		},
	}
	root.CompletionOptions.HiddenDefaultCmd = true
	flags := root.PersistentFlags()
	flags.StringVar(&a.workspace, "workspace", "", "folder with endpoints.toml and jobs/ (default $XDG_CONFIG_HOME/lumtra)")
	flags.StringVar(&a.state, "state", "", "folder for what Lumtra keeps (default $XDG_STATE_HOME/lumtra, and one in its workspaces/ for each --workspace)")
	flags.BoolVar(&a.trust, "trust", false, "let the workspace's settings use the secrets they name, without asking")
	flags.BoolVar(&a.out.json, "json", a.out.json, "print one JSON object a line")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return fmt.Errorf("%w: %w", errUsage, err) })
	root.AddCommand(a.surveyCommand(), a.planCommand(), a.runCommand(), a.proveCommand(), a.historyCommand(),
		a.initCommand(), a.demoCommand(), a.standInCommand(), a.endpointCommand(), a.credentialCommand(), a.listCommand(), a.jobCommand(), a.serviceCommand(), a.steerCommand())
	all := append(root.Commands(), root)
	for _, c := range root.Commands() {
		all = append(all, c.Commands()...)
	}
	for _, c := range all {
		args := c.Args
		c.Args = func(cmd *cobra.Command, list []string) error {
			if err := args(cmd, list); err != nil {
				return fmt.Errorf("%w: %w", errUsage, err)
			}
			return nil
		}
	}
	return root
}

// folders finds workspace and state where they were not given.
func (a *app) folders() error {
	xdg := func(variable, fallback string) (string, error) {
		if dir := os.Getenv(variable); filepath.IsAbs(dir) {
			return filepath.Join(dir, "lumtra"), nil
		}
		home, err := os.UserHomeDir()
		return filepath.Join(home, fallback, "lumtra"), err
	}
	own, err := xdg("XDG_STATE_HOME", ".local/state")
	named := a.workspace != ""
	if !named && err == nil {
		a.workspace, err = xdg("XDG_CONFIG_HOME", ".config")
	}
	switch {
	case a.state != "":
		return nil
	case err != nil:
		return err
	case !named:
		a.state = own
		return nil
	}
	a.usual = true
	a.state, err = state.Folder(own, a.workspace)
	return err
}

// startAnew puts the state of a workspace aside that was in the same folder before.
func (a *app) startAnew() error {
	if _, err := os.Lstat(a.state); !a.usual || err != nil {
		return nil
	}
	aside := a.state + ".old-" + time.Now().UTC().Format("20060102T150405.000")
	fmt.Fprintf(a.errOut, "The state of a former workspace in this folder is put aside as %s.\n", object.Display(aside))
	return os.Rename(a.state, aside)
}

// readyState takes over state that lay in the workspace once, and checks what there is.
func (a *app) readyState() error {
	moved, err := false, error(nil)
	if a.usual {
		moved, err = state.TakeOver(a.workspace, a.state)
	}
	if err == nil {
		err = state.Open(a.state)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", service.ErrBadInput, err)
	}
	if moved {
		fmt.Fprintf(a.errOut, "The state of this workspace lies in %s now, and no longer inside it.\n", object.Display(a.state))
	}
	return nil
}

// withService opens the workspace for one command.
func (a *app) withService(ctx context.Context, do func(*service.Service) error) error {
	if err := a.folders(); err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(a.workspace, "endpoints.toml")); errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("%w: there is no workspace in %s; `lumtra init` makes one, `lumtra demo` shows one", service.ErrBadInput, object.Display(a.workspace))
	}
	if err := a.readyState(); err != nil {
		return err
	}
	s, err := service.Open(service.Options{Workspace: a.workspace, State: a.state, Log: a.log(), Trust: a.trust})
	if err != nil {
		return err
	}
	if err := errors.Join(a.unlock(ctx, s), a.askTrust(ctx, s)); err != nil {
		return errors.Join(err, s.Close())
	}
	return errors.Join(do(s), s.Close())
}

// log writes to a file in the state folder; nothing is lost without it.
func (a *app) log() *slog.Logger {
	f, err := os.OpenFile(filepath.Join(a.state, "lumtra.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil
	}
	a.logFile = f
	log := slog.New(slog.NewJSONHandler(f, nil))
	// What a library says of its own goes there too, and never into the terminal.
	slog.SetDefault(log)
	return log
}
