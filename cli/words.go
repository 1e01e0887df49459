package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"lumtra/core/nearest"
	"lumtra/core/object"
	"lumtra/service"
	"lumtra/service/workspace"
)

// misused is a mistake in a command line, in words.
func misused(format string, args ...any) error {
	return fmt.Errorf("%w: %w", errUsage, fmt.Errorf(format, args...))
}

// message is what is said of an error: without the marks by which codes are found, and
// without the words of libraries for what a person did.
func message(err error, code int) string {
	if errors.Is(err, errLeft) {
		return strings.TrimPrefix(errLeft.Error(), context.Canceled.Error()+": ")
	}
	if code == ExitInterrupted { // whatever was being done just then
		return "stopped before the end; what was done stays done"
	}
	text := err.Error()
	for _, mark := range []error{workspace.ErrBadInput, errUsage} {
		text = strings.ReplaceAll(text, mark.Error()+": ", "")
	}
	if errors.Is(err, context.DeadlineExceeded) {
		text = strings.ReplaceAll(text, context.DeadlineExceeded.Error(), "no answer came in time")
	}
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		parts := strings.Split(line, `\`) // some of it is made safe already
		for k, part := range parts {
			parts[k] = object.Display(part)
		}
		lines[i] = strings.Join(parts, `\`)
	}
	return strings.Join(lines, "\n        ")
}

// flagMistake says what is wrong with a flag.
func flagMistake(c *cobra.Command, err error) error {
	var unknown *pflag.NotExistError
	var invalid *pflag.InvalidValueError
	var missing *pflag.ValueRequiredError
	switch {
	case errors.As(err, &unknown):
		var known []string
		c.Flags().VisitAll(func(f *pflag.Flag) {
			if !f.Hidden {
				known = append(known, "--"+f.Name)
			}
		})
		name := "--" + unknown.GetSpecifiedName()
		hint := ""
		if near := nearest.Of(name, known); near != "" {
			hint = fmt.Sprintf("; did you mean %s?", near)
		}
		if shorts := unknown.GetSpecifiedShortnames(); shorts != "" {
			name = "-" + shorts
		}
		return misused("%s has no flag %s%s", c.CommandPath(), name, hint)
	case errors.As(err, &invalid):
		f := invalid.GetFlag()
		return misused("--%s is %q; it is %s", f.Name, invalid.GetValue(), valueWords(f))
	case errors.As(err, &missing):
		return misused("--%s needs something behind it: %s", missing.GetFlag().Name, missing.GetFlag().Usage)
	}
	return misused("%w", err)
}

// emptyWords refuses words and texts of flags that are empty: mostly a variable of a script that is not set. An
// empty place would be all of this machine, an empty pattern would match everything.
func emptyWords(c *cobra.Command, given []string) (err error) {
	if slices.Contains(given, "") {
		return misused("a word behind %s is empty, as a variable that is not set is", c.CommandPath())
	}
	c.Flags().Visit(func(f *pflag.Flag) {
		if err == nil && f.Value.Type() == "string" && f.Value.String() == "" {
			err = misused("--%s is empty: %s", f.Name, valueWords(f))
		}
	})
	return err
}

// ofHere tells that a word names something on this machine: it begins with "/", or is relative to the working folder
// and begins with "./" or "../".
func ofHere(text string) bool {
	return strings.HasPrefix(text, "/") || relative(text)
}

func relative(text string) bool {
	first, _, _ := strings.Cut(text, "/")
	return first == "." || first == ".."
}

// atOf reads a place as people type it in a shell.
func atOf(s *service.Service, text string) (workspace.At, error) {
	if relative(text) {
		path, err := filepath.Abs(text)
		if err != nil {
			return workspace.At{}, misused("%w", err)
		}
		if base := filepath.Base(text); strings.HasSuffix(text, "/") || base == "." || base == ".." {
			path = strings.TrimSuffix(path, "/") + "/"
		}
		text = path
	}
	return s.AtOf(text)
}

// belowZero refuses numbers and times below zero: no flag means anything by one.
func belowZero(c *cobra.Command) (err error) {
	c.Flags().Visit(func(f *pflag.Flag) {
		switch f.Value.Type() {
		case "int", "int64", "duration":
			if err == nil && strings.HasPrefix(f.Value.String(), "-") {
				err = misused("--%s is %s; it is %s, and not below zero", f.Name, f.Value, valueWords(f))
			}
		}
	})
	return err
}

// valueWords say what a flag takes.
func valueWords(f *pflag.Flag) string {
	switch f.Value.Type() {
	case "int", "int64":
		return "a whole number"
	case "bool":
		return "true or false"
	case "duration":
		return `a time such as "90m" or "24h"`
	}
	return f.Usage
}

// argumentMistake says what a command takes in place of what it was given.
func argumentMistake(c *cobra.Command, given []string) error {
	if c.HasSubCommands() && len(given) > 0 {
		var known []string
		for _, sub := range c.Commands() {
			if !sub.Hidden {
				known = append(known, sub.Name())
			}
		}
		hint := fmt.Sprintf("; `%s --help` lists them", c.CommandPath())
		if near := nearest.Of(given[0], known); near != "" {
			hint = fmt.Sprintf("; did you mean \"%s %s\"?", c.CommandPath(), near)
		}
		return misused("there is no command \"%s %s\"%s", c.CommandPath(), given[0], hint)
	}
	_, wanted, _ := strings.Cut(c.Use, " ")
	if wanted == "" {
		return misused("%s takes nothing behind it, and got %q", c.CommandPath(), strings.Join(given, " "))
	}
	if len(given) == 0 {
		return misused("%s needs %s; `%s --help` tells more", c.CommandPath(), wanted, c.CommandPath())
	}
	return misused("it is \"%s %s\"; %q does not fit that", c.CommandPath(), wanted, strings.Join(given, " "))
}

// flags are those that say which workspace a command is about, as they were given.
func (a *app) flags() (flags []string) {
	if a.named != "" {
		flags = append(flags, "--workspace", a.named)
	}
	if a.namedState != "" {
		flags = append(flags, "--state", a.namedState)
	}
	return flags
}

// next keeps the command that goes on from where this one stops; it is told at the end.
func (a *app) next(why string, words ...string) {
	a.nextWhy, a.nextCommand = why, workspace.CommandLine(a.flags(), words...)
}

// sayNext tells the command that goes on.
func (a *app) sayNext() {
	if a.nextCommand == "" {
		return
	}
	if a.out.json {
		a.out.say("next", map[string]any{"command": a.nextCommand, "why": a.nextWhy}, "")
		return
	}
	fmt.Fprintf(a.errOut, "next: %s\n      %s\n", a.nextWhy, a.nextCommand)
}
