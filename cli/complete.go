package cli

import (
	"context"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lumtra/core/job"
	"lumtra/core/place/kind"
	"lumtra/service"
	"lumtra/service/workroom"
)

// completing is how long a shell waits for names that a store has to be asked for.
const completing = 3 * time.Second

// complete tells the shell what can stand where, by what the commands say they take.
func (a *app) complete(root *cobra.Command) {
	for _, c := range everyCommand(root) {
		if c.ValidArgsFunction != nil {
			continue
		}
		_, takes, _ := strings.Cut(c.Use, " ")
		wants := strings.Fields(takes)
		c.ValidArgsFunction = func(cmd *cobra.Command, given []string, typed string) ([]string,
			cobra.ShellCompDirective) {
			if len(wants) == 0 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			return a.candidates(cmd.Context(), wants[min(len(given), len(wants)-1)], typed)
		}
	}
	for name, values := range map[string][]string{
		"by": {"size", "stored-checksum", "read-back"}, "digest": {"sha256", "blake3"},
		"when-different": {"replace", "skip", "if-newer", "keep-both"}, "priority": {"low", "usual", "high"},
		"end": {"finish", "now"}, "despite": workroom.Blockers, "addressing": {"path", "host"},
		"bandwidth": {"free", "hours"},
	} {
		for _, c := range everyCommand(root) {
			if c.Flags().Lookup(name) != nil {
				c.RegisterFlagCompletionFunc(name, cobra.FixedCompletions(values, cobra.ShellCompDirectiveNoFileComp))
			}
		}
	}
	for _, c := range everyCommand(root) {
		for flag, what := range map[string]string{"source": "PLACE", "target": "PLACE", "from": "JOB"} {
			if c.Flags().Lookup(flag) != nil && c.Name() == "new" {
				c.RegisterFlagCompletionFunc(flag, func(cmd *cobra.Command, _ []string, typed string) ([]string,
					cobra.ShellCompDirective) {
					return a.candidates(cmd.Context(), what, typed)
				})
			}
		}
	}
}

// candidates are what can stand for a word of a command's use.
func (a *app) candidates(ctx context.Context, what, typed string) ([]string, cobra.ShellCompDirective) {
	what = strings.Trim(what, "[].")
	none, files := cobra.ShellCompDirectiveNoFileComp, cobra.ShellCompDirectiveDefault
	switch what {
	case "JOB", "JOB|ENDPOINT/PATH":
		names := a.names(func(w *job.Workspace) (all []string) {
			for _, j := range append(w.Jobs, w.Templates...) {
				all = append(all, j.Name)
			}
			return all
		})
		if what != "JOB" && strings.Contains(typed, "/") {
			return a.places(ctx, typed)
		}
		return names, none
	case "NAME":
		return a.endpointNames(), none
	case "PLACE", "PLACE/", "FROM", "ENDPOINT/PATH", "ENDPOINT/BUCKET":
		return a.places(ctx, typed)
	case "TO":
		found, how := a.places(ctx, typed)
		return found, how &^ none
	case "FILE", "FOLDER", "DIR", "WHERE":
		return nil, files
	case "NAME=VALUE":
		all := job.SettingNames()
		for i := range all {
			all[i] += "="
		}
		return all, none | cobra.ShellCompDirectiveNoSpace
	case "on|off":
		return []string{"on", "off"}, none
	}
	return nil, none
}

// names reads the workspace's files and nothing else: no state, no secret.
func (a *app) names(of func(*job.Workspace) []string) []string {
	if a.folders() != nil {
		return nil
	}
	w, err := job.LoadWorkspace(a.workspace)
	if err != nil {
		return nil
	}
	return of(w)
}

func (a *app) endpointNames() []string {
	return a.names(func(w *job.Workspace) (all []string) {
		for name := range w.Endpoints {
			if name != kind.Local {
				all = append(all, name)
			}
		}
		return all
	})
}

// places are endpoints, and behind a name with "/" the buckets or folders there.
func (a *app) places(ctx context.Context, typed string) ([]string, cobra.ShellCompDirective) {
	more := cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
	i := strings.LastIndexByte(typed, '/')
	if i < 0 {
		names := a.endpointNames()
		for k := range names {
			names[k] += "/"
		}
		return names, more
	}
	if i == 0 || filepath.IsAbs(typed) {
		return nil, cobra.ShellCompDirectiveDefault
	}
	ctx, cancel := context.WithTimeout(ctx, completing)
	defer cancel()
	a.unasked = true
	var found []string
	a.withService(ctx, func(s *service.Service) error { // what cannot be found out is not offered
		below, err := s.Folders(ctx, typed[:i], 200)
		for _, name := range below {
			found = append(found, typed[:i+1]+name+"/")
		}
		return err
	})
	return found, more
}
