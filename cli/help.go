package cli

import (
	"fmt"
	"io"
	"io/fs"
	"os"
	"runtime"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"lumtra/core/nearest"
	"lumtra/core/object"
	"lumtra/docs"
	"lumtra/service/workspace"
)

// Version is what a build is called; the linker sets it.
var Version = ""

// versionText is what this program is.
func versionText() string {
	version := Version
	if info, ok := debug.ReadBuildInfo(); ok && version == "" {
		version = info.Main.Version
	}
	if version == "" || version == "(devel)" {
		version = "of no release"
	}
	return fmt.Sprintf("lumtra %s (%s, %s/%s)", version, runtime.Version(), runtime.GOOS, runtime.GOARCH)
}

// topic is a text that is not about one command.
type topic struct{ name, short, text string }

// topics are those of `lumtra help`. Their texts are the project's documents.
func topics() []topic {
	return []topic{
		{"job", "what a job can be told: every setting of jobs/NAME.toml", docs.Jobs},
		{"endpoint", "what an endpoint can be told: every setting of endpoints.toml", docs.Endpoints},
		{"place", "what each kind of place can do, and what a test finds out", docs.Places},
		{"proof", "what each way of proving can see, and what it cannot", docs.Proof},
		{"service", "when jobs start by themselves, and who is told: [when], service.toml", docs.Service},
		{"packs", "many files as one object: what is kept, how it lies there", docs.Packs},
		{"json", "what --json says", docs.JSON},
	}
}

// helpCommand shows a topic, or a command's help.
func (a *app) helpCommand(root *cobra.Command) *cobra.Command {
	long := "Tells about a command, or about one of these topics:\n"
	var names []string
	for _, t := range topics() {
		long += fmt.Sprintf("\n  %-10s %s", t.name, t.short)
		names = append(names, t.name)
	}
	return &cobra.Command{
		Use: "help [TOPIC|COMMAND]", Short: "Tell about a command, or about job and endpoint settings", Long: long,
		Example: "  lumtra help job\n  lumtra help endpoint\n  lumtra help bucket make",
		Args:    cobra.ArbitraryArgs,
		ValidArgsFunction: func(_ *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
			all := names
			for _, c := range root.Commands() {
				all = append(all, c.Name())
			}
			return all, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				for _, t := range topics() {
					if t.name == args[0] {
						_, err := io.WriteString(cmd.OutOrStdout(), t.text)
						return err
					}
				}
			}
			if len(args) == 0 {
				if err := root.Help(); err != nil {
					return err
				}
				_, err := fmt.Fprintln(cmd.OutOrStdout(), "\n"+strings.Replace(long,
					"Tells about a command, or about one "+
						"of these topics", "Topics, for `lumtra help TOPIC`", 1))
				return err
			}
			c, rest, err := root.Find(args)
			if err != nil || c == nil || len(rest) > 0 {
				var known []string
				for _, c := range everyCommand(root) {
					known = append(known, strings.TrimPrefix(c.CommandPath(), "lumtra "))
				}
				return misused("there is no command or topic %q%s", strings.Join(args, " "),
					nearest.Hint(strings.Join(args, " "), append(known, names...)))
			}
			c.InitDefaultHelpFlag()
			return c.Help()
		},
	}
}

// manCommand makes manual pages of the commands.
func (a *app) manCommand(root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use: "man [FOLDER]", Short: "Write a manual page for each command into a folder, or print the first",
		Example: "  lumtra man | man -l -\n  lumtra man ~/.local/share/man/man1",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			header := &doc.GenManHeader{Title: "LUMTRA", Section: "1", Source: versionText(), Manual: "Lumtra"}
			if len(args) == 0 {
				return doc.GenMan(root, header, cmd.OutOrStdout())
			}
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return workspace.BadInput(err)
			}
			header.Title = "" // each its own
			if err := doc.GenManTree(root, header, args[0]); err != nil {
				return err
			}
			pages, err := fs.Glob(os.DirFS(args[0]), "lumtra*.1")
			a.out.say("exported", map[string]any{"file": args[0]},
				fmt.Sprintf("%s in %s.", plural(int64(len(pages)), "page", "pages"), object.Display(args[0])))
			return err
		},
	}
}

// sections are the parts that the list of commands is shown in.
var sections = []*cobra.Group{
	{ID: "jobs", Title: "Jobs, step by step:"},
	{ID: "hand", Title: "Work by hand, without a job:"},
	{ID: "set", Title: "What they work with:"},
	{ID: "rest", Title: "And:"},
}

// sectionOf says where each command is shown.
var sectionOf = map[string][]string{
	"jobs": {"agenda", "survey", "plan", "run", "steer", "failures", "prove", "export", "history"},
	"hand": {"list", "info", "put", "get", "copy", "move", "delete", "undelete", "versions", "restore", "tags",
		"metadata", "link", "uploads", "bucket", "folder", "pack"},
	"set":  {"init", "endpoint", "credential", "job", "service", "notify", "stand-in"},
	"rest": {"demo", "help", "completion", "man"},
}

// arrange puts the commands into their parts, in the order of work.
func arrange(root *cobra.Command) {
	cobra.EnableCommandSorting = false
	root.AddGroup(sections...)
	all := root.Commands()
	root.RemoveCommand(all...)
	for _, section := range sections {
		for _, name := range sectionOf[section.ID] {
			for _, c := range all {
				if c.Name() == name {
					c.GroupID = section.ID
					root.AddCommand(c)
				}
			}
		}
	}
}
