package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"lumtra/core/object"
	"lumtra/core/place/kind"
	"lumtra/service"
	"lumtra/service/workspace"
)

func (a *app) listCommand() *cobra.Command {
	var removed, all bool
	c := &cobra.Command{
		Use: "list ENDPOINT/PATH",
		Example: "  lumtra list north\n" +
			"  lumtra list north/archive/takes --deep\n" +
			"  lumtra list north/archive --deleted",
		Short: "List what lies at a place: one level, or with --deep everything",
		Args:  cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, s *service.Service, args []string) error {
			return a.list(ctx, s, args[0], removed, all)
		}),
	}
	c.Flags().BoolVar(&removed, "deleted", false, "show what was deleted and can be brought back, too")
	c.Flags().BoolVar(&all, "deep", false, "everything below, not one level")
	return c
}

// list prints what lies below a place, or the one object that it is.
func (a *app) list(ctx context.Context, s *service.Service, text string, removed, all bool) error {
	at, err := atOf(s, text)
	if err != nil {
		return err
	}
	below := at
	if below.Key != "" && !strings.HasSuffix(below.Key, "/") {
		below.Key += "/"
	}
	listed, failed := 0, error(nil)
	for e, err := range s.List(ctx, below, removed, all) {
		if err != nil { // of one entry, where a place can go on behind it
			if failed != nil {
				a.sayFailure(failed)
			}
			failed = interrupted(ctx, err)
			continue
		}
		listed++
		a.sayEntry(at, &e)
	}
	if listed == 0 && below.Key != at.Key {
		if d, err := s.Describe(ctx, at, ""); err == nil && (removed || d.Entry.Kind == object.Object) {
			d.Entry.Key = at.Key
			a.sayEntry(at, &d.Entry)
			return nil
		}
	}
	switch {
	case failed != nil && listed == 0:
		return failed
	case failed != nil:
		a.sayFailure(failed)
		return errFailures
	case listed == 0 && at.Key != "":
		a.out.say("nothing-to-do", map[string]any{"place": text, "message": "nothing lies there"},
			"Nothing lies at "+object.Display(text)+".")
		return errNothing
	}
	return nil
}

func (a *app) sayFailure(err error) {
	a.out.say("failure", map[string]any{"message": err.Error()}, "▲ "+object.Display(err.Error()))
}

// sayEntry prints what a listing found.
func (a *app) sayEntry(in workspace.At, e *object.Entry) {
	key := object.DisplayKey(e.Key)
	if in.Endpoint == kind.Local {
		key = "/" + key
	}
	size, when := "", ""
	switch e.Kind {
	case object.Object:
		size, when = humanize.IBytes(uint64(e.Size)), e.Modified.Local().Format("2006-01-02 15:04")
	case object.Marker:
		size, when = "deleted", e.Modified.Local().Format("2006-01-02 15:04")
	}
	a.out.say("entry", map[string]any{"key": e.Key, "kind": e.Kind.String(), "bytes": e.Size, "modified": e.Modified,
		"class": e.Class}, fmt.Sprintf("%10s  %-16s  %s", size, when, key))
}
