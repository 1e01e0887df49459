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
	"time"

	"github.com/spf13/cobra"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/service"
	"lumtra/service/state"
	"lumtra/service/workspace"
)

// errUsage marks a command line that was not understood.
var errUsage = errors.New("usage")

// Interface opens the full-screen interface on a service and returns when it
// is left. The command line does not know how; main does.
type Interface func(ctx context.Context, s *service.Service) error

// app is what the commands share.
type app struct {
	workspace, state string
	// named and namedState are those two as they were given, "" where they were not.
	named, namedState    string
	home                 string // of the user whose folders are meant; "" for those of this one
	found                bool   // the folders were
	nextWhy, nextCommand string
	unchangedOK          bool
	every                time.Duration // in place of pipedEvery, in tests
	usual                bool          // the state lies where that of this workspace does by default
	trust, unasked       bool
	out                  *printer
	errOut               io.Writer
	open                 Interface
	logFile              *os.File
	logOut               io.Writer // where the log's lines go, too; nil for nowhere
}

// Main runs the command line and returns the exit code.
func Main(ctx context.Context, args []string, stdout, stderr io.Writer, open Interface) int {
	useZone()
	return newApp(stdout, stderr, open).main(ctx, args)
}

// useZone makes the time zone of the person's preferences that of everything shown. It has to
// come before anything else goes on. What is wrong with the preferences is told in the window.
func useZone() {
	path, err := job.PreferencesPath()
	if err != nil {
		return
	}
	p, _ := job.LoadPreferences(path)
	if zone, err := time.LoadLocation(p.Zone); err == nil && p.Zone != "" {
		time.Local = zone
	}
}

func newApp(stdout, stderr io.Writer, open Interface) *app {
	return &app{out: &printer{out: stdout}, errOut: stderr, open: open}
}

// main runs the command line and returns the exit code.
func (a *app) main(ctx context.Context, args []string) int {
	// Known before the flags are parsed, since those may be what is wrong.
	a.out.json = slices.Contains(args, "--json")
	root := a.command()
	root.SetArgs(args)
	root.SetOut(a.out.out)
	root.SetErr(a.errOut)
	err := guarded(func() error { return root.ExecuteContext(ctx) })
	if a.logFile != nil {
		a.logFile.Close()
	}
	code := exitCode(err)
	a.sayEnd(err, code)
	a.sayNext()
	if code == ExitNothing && a.unchangedOK {
		return ExitDone
	}
	return code
}

// sayEnd tells why a command did not end as it was meant to, where it has not told already.
func (a *app) sayEnd(err error, code int) {
	switch {
	case err == nil, errors.Is(err, errFailures), errors.Is(err, errNothing), errors.Is(err, errNotCompared):
	case code == ExitNothing:
		a.out.say("nothing-to-do", map[string]any{"message": message(err, code)}, "Nothing to do.")
	case a.out.json:
		a.out.say("error", map[string]any{"message": message(err, code), "exit": code}, "")
	default:
		fmt.Fprintln(a.errOut, "lumtra: "+message(err, code))
	}
}

func (a *app) command() *cobra.Command {
	root := &cobra.Command{
		Use:   "lumtra",
		Short: "Plan, run and prove copies between object stores and folders",
		Long: `Lumtra plans, runs and proves copies between object stores and local folders.

Without a command it opens its full-screen interface. Every command ends with
one of these codes: 0 done, 1 done with failures, 2 bad input, 3 nothing to do,
4 held back by a safety limit, 5 interrupted, 6 could not, 7 a proof could not compare
everything, 8 blocked by a check, 9 the job is at work already.`,
		SilenceUsage: true, SilenceErrors: true,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.withService(cmd.Context(), func(s *service.Service) error { return a.open(cmd.Context(), s) })
		},
	}
	root.Version = versionText()
	root.SetVersionTemplate("{{.Version}}\n")
	root.CompletionOptions.SetDefaultShellCompDirective(cobra.ShellCompDirectiveNoFileComp)
	flags := root.PersistentFlags()
	flags.StringVar(&a.workspace, "workspace", "",
		"folder with endpoints.toml and jobs/ (default $XDG_CONFIG_HOME/lumtra)")
	flags.StringVar(&a.state, "state", "",
		"folder for what Lumtra keeps (default $XDG_STATE_HOME/lumtra, and one in its workspaces/ for each "+
			"--workspace)")
	flags.BoolVar(&a.trust, "trust", false, "let the workspace's settings use the secrets they name, without asking")
	flags.BoolVar(&a.out.json, "json", a.out.json, "print one JSON object a line")
	flags.BoolVar(&a.unchangedOK, "unchanged-ok", false, "end with 0, not 3, where there is nothing to do")
	root.SetFlagErrorFunc(flagMistake)
	root.AddCommand(a.surveyCommand(), a.planCommand(), a.runCommand(), a.proveCommand(), a.historyCommand(),
		a.initCommand(), a.demoCommand(), a.standInCommand(), a.endpointCommand(), a.credentialCommand(),
		a.listCommand(), a.jobCommand(), a.agendaCommand(), a.notifyCommand(), a.serviceCommand(), a.steerCommand(),
		a.failuresCommand(),
		a.exportCommand(),
		a.removeCommand(), a.undeleteCommand(), a.restoreCommand(), a.tagsCommand(), a.metadataCommand(),
		a.linkCommand(), a.infoCommand(), a.folderCommand(), a.packCommand(), a.versionsCommand(), a.uploadsCommand(),
		a.bucketCommand())
	for _, b := range bringings {
		root.AddCommand(a.bringCommand(b))
	}
	root.AddCommand(a.manCommand(root))
	root.SetHelpCommand(a.helpCommand(root))
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	a.complete(root)
	arrange(root)
	for _, c := range everyCommand(root) {
		if c.Args == nil {
			continue
		}
		args := c.Args
		c.Args = func(cmd *cobra.Command, list []string) error {
			if err := args(cmd, list); err != nil {
				return argumentMistake(cmd, list)
			}
			return errors.Join(emptyWords(cmd, list), belowZero(cmd))
		}
	}
	return root
}

// everyCommand is a command with all below it.
func everyCommand(c *cobra.Command) []*cobra.Command {
	all := []*cobra.Command{c}
	for _, sub := range c.Commands() {
		all = append(all, everyCommand(sub)...)
	}
	return all
}

// folders finds workspace and state where they were not given.
func (a *app) folders() error {
	xdg := func(variable, fallback string) (string, error) {
		if a.home != "" {
			return filepath.Join(a.home, fallback, "lumtra"), nil
		}
		if dir := os.Getenv(variable); filepath.IsAbs(dir) {
			return filepath.Join(dir, "lumtra"), nil
		}
		home, err := os.UserHomeDir()
		if err != nil {
			err = fmt.Errorf("%w: HOME is not set, so name the folders: --workspace and --state", workspace.ErrBadInput)
		}
		return filepath.Join(home, fallback, "lumtra"), err
	}
	own, err := xdg("XDG_STATE_HOME", ".local/state")
	named := a.workspace != ""
	if !a.found { // once: what was found is not what was named
		a.found, a.named, a.namedState = true, a.workspace, a.state
	}
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
		return fmt.Errorf("%w: %w", workspace.ErrBadInput, err)
	}
	if moved {
		fmt.Fprintf(a.errOut, "The state of this workspace lies in %s now, and no longer inside it.\n",
			object.Display(a.state))
	}
	return nil
}

// withService opens the workspace for one command.
func (a *app) withService(ctx context.Context, do func(*service.Service) error) error {
	if err := a.folders(); err != nil {
		return err
	}
	if err := a.hasWorkspace(); err != nil {
		return err
	}
	if err := a.readyState(); err != nil {
		return err
	}
	s, err := service.Open(workspace.Options{Workspace: a.workspace, State: a.state, Log: a.log(), Trust: a.trust,
		Named: a.flags()})
	if err != nil {
		return err
	}
	if err := errors.Join(a.unlock(ctx, s), a.askTrust(ctx, s)); err != nil {
		return errors.Join(err, s.Close())
	}
	return errors.Join(do(s), s.Close())
}

// hasWorkspace tells what to do where there is none.
func (a *app) hasWorkspace() error {
	if _, err := os.Stat(filepath.Join(a.workspace, "endpoints.toml")); errors.Is(err, os.ErrNotExist) {
		words := []string{"init"}
		if a.named != "" {
			words = append(words, a.named)
		}
		a.nextWhy = "make one to begin with (or look around in a made-up one: lumtra demo)"
		a.nextCommand = workspace.CommandLine(nil, words...)
		return fmt.Errorf("%w: there is no workspace in %s", workspace.ErrBadInput, object.Display(a.workspace))
	}
	return nil
}

// log writes to a file in the state folder, and to where it is asked for; nothing is lost without it.
func (a *app) log() *slog.Logger {
	f, err := os.OpenFile(filepath.Join(a.state, "lumtra.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil
	}
	a.logFile = f
	var handler slog.Handler = slog.NewJSONHandler(f, nil)
	if a.logOut != nil {
		handler = slog.NewMultiHandler(handler, slog.NewJSONHandler(a.logOut, nil))
	}
	log := slog.New(handler)
	// What a library says of its own goes there too, and never into the terminal.
	slog.SetDefault(log)
	return log
}
