package cli

import (
	"context"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"lumtra/core/handle"
	"lumtra/service"
)

// group is a command that others stand below; alone it tells which.
func group(use, short, long string) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Long: long, Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() }}
}

// with makes a command of what is done on an open workspace.
func (a *app) with(do func(ctx context.Context, s *service.Service, args []string) error) func(*cobra.Command,
	[]string) error {
	return func(cmd *cobra.Command, args []string) error {
		return a.withService(cmd.Context(), func(s *service.Service) error {
			return interrupted(cmd.Context(), do(cmd.Context(), s, args))
		})
	}
}

// flagOf is a flag of a command.
type flagOf = pflag.Flag

// valuesOf are the values of a flag that was given.
func valuesOf(f *flagOf) []string {
	if list, ok := f.Value.(pflag.SliceValue); ok {
		return list.GetSlice()
	}
	return []string{f.Value.String()}
}

// slowed calls tell no more often than suits who reads it.
func slowed(t teller, tell func(handle.Count)) func(handle.Count) {
	last := time.Now()
	return func(c handle.Count) {
		if time.Since(last) >= t.every {
			last = time.Now()
			tell(c)
		}
	}
}
