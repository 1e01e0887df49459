package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"lumtra/core/handle"
	"lumtra/core/object"
	"lumtra/service"
	"lumtra/service/browse"
	"lumtra/service/workspace"
)

func (a *app) versionsCommand() *cobra.Command {
	c := group("versions", "List an object's versions, bring one back, delete one permanently", "")
	c.AddCommand(a.versionListCommand(), a.versionBackCommand(), a.versionRemoveCommand())
	return c
}

func (a *app) versionListCommand() *cobra.Command {
	return &cobra.Command{
		Use: "list PLACE", Short: "List the versions of an object, newest first",
		Example: "  lumtra versions list north/archive/takes/a.wav",
		Args:    cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, s *service.Service, args []string) error {
			at, d, err := a.versionsOf(ctx, s, args[0])
			if err != nil {
				return err
			}
			for _, v := range d.Versions {
				state := ""
				switch {
				case v.Kind == object.Marker:
					state = "delete marker"
				case v.Latest:
					state = "current"
				case v.Removed:
					state = "deleted"
				}
				a.out.say("version", map[string]any{"key": at.String(), "version": v.Version, "bytes": v.Size,
					"modified": v.Modified, "kind": v.Kind.String(), "current": v.Latest, "deleted": v.Removed},
					fmt.Sprintf("%-34s %s  %10s  %s", object.Display(v.Version),
						v.Modified.Local().Format("2006-01-02 15:04:05"), bytesText(v.Size), state))
			}
			return nil
		}),
	}
}

// versionsOf describes an object that has versions.
func (a *app) versionsOf(ctx context.Context, s *service.Service, text string) (workspace.At, browse.Description,
	error) {
	at, err := atOf(s, text)
	if err != nil {
		return at, browse.Description{}, err
	}
	d, err := s.Describe(ctx, at, "")
	if err != nil && len(d.Versions) == 0 {
		if missing := there(ctx, s, at, text); missing != nil {
			err = missing
		}
		return at, d, a.nothingThere(err)
	}
	if len(d.Versions) == 0 {
		return at, d, a.nothingThere(fmt.Errorf("%w: no versions are kept of %s", errNothing, object.Display(text)))
	}
	return at, d, nil
}

// version finds one of an object by its name.
func (a *app) version(ctx context.Context, s *service.Service, text, name string) (workspace.At, object.Entry, error) {
	at, d, err := a.versionsOf(ctx, s, text)
	if err != nil {
		return at, object.Entry{}, err
	}
	for _, v := range d.Versions {
		if v.Version == name {
			return at, v, nil
		}
	}
	a.next("see its versions", "versions", "list", text)
	return at, object.Entry{}, misused("%s has no version %q", text, name)
}

func (a *app) versionBackCommand() *cobra.Command {
	return &cobra.Command{
		Use: "back PLACE VERSION", Short: "Make a version the current one again, as a new version: nothing is lost",
		Example: "  lumtra versions back north/archive/takes/a.wav 3HL4kqtJ",
		Args:    cobra.ExactArgs(2),
		RunE: a.with(func(ctx context.Context, s *service.Service, args []string) error {
			at, v, err := a.version(ctx, s, args[0], args[1])
			if err != nil {
				return err
			}
			if v.Kind == object.Marker {
				a.next("bring back what it hides", "undelete", args[0])
				return misused("%s is a delete marker: there is nothing in it", args[1])
			}
			if err := s.BringBack(ctx, at, v.Version); err != nil {
				return err
			}
			a.out.say("acted", map[string]any{"what": "bring back", "objects": 1, "bytes": v.Size, "failed": 0},
				fmt.Sprintf("%s is again as it was on %s, %s.", at, v.Modified.Local().Format("2006-01-02 15:04:05"),
					bytesText(v.Size)))
			return nil
		}),
	}
}

func (a *app) versionRemoveCommand() *cobra.Command {
	t := &things{}
	c := &cobra.Command{
		Use: "delete PLACE VERSION", Short: "Delete one version permanently",
		Example: "  lumtra versions delete north/archive/takes/a.wav 3HL4kqtJ --approve 1",
		Args:    cobra.ExactArgs(2),
	}
	c.RunE = a.with(func(ctx context.Context, s *service.Service, args []string) error {
		at, v, err := a.version(ctx, s, args[0], args[1])
		if err != nil {
			return err
		}
		what := fmt.Sprintf("This deletes permanently one version of %s, of %s, %s.", at,
			v.Modified.Local().Format("2006-01-02 15:04:05"), bytesText(v.Size))
		count := handle.Count{Versions: 1, VersionBytes: v.Size}
		if err := a.approved(ctx, 1, t.approve, c.Flags().Changed("approve"), what, countFields(count),
			again(c, args)...); err != nil {
			return err
		}
		act, err := s.RemoveVersion(at, v)
		if err != nil {
			return err
		}
		return a.finish(ctx, act, "Deleted")
	})
	t.number(c)
	return c
}

func (a *app) uploadsCommand() *cobra.Command {
	c := group("uploads", "List unfinished uploads, and delete what they hold", "")
	t := &things{}
	remove := &cobra.Command{
		Use: "delete PLACE", Short: "Delete the unfinished uploads below a bucket or folder",
		Long:    "An upload that a run still works on ends with it; look at their age first.",
		Example: "  lumtra uploads delete north/archive/ --approve 4",
		Args:    cobra.ExactArgs(1),
	}
	remove.RunE = a.with(func(ctx context.Context, s *service.Service, args []string) error {
		at, uploads, err := a.uploadsOf(ctx, s, args[0])
		if err != nil {
			return err
		}
		var bytes int64
		for _, u := range uploads {
			bytes += u.Bytes
		}
		what := fmt.Sprintf("This deletes %s below %s, with %s.", plural(int64(len(uploads)), "unfinished upload",
			"unfinished uploads"), at, bytesText(bytes))
		if err := a.approved(ctx, int64(len(uploads)), t.approve, remove.Flags().Changed("approve"), what,
			map[string]any{"uploads": len(uploads), "bytes": bytes}, again(remove, args)...); err != nil {
			return err
		}
		act, err := s.AbortUploads(at, uploads)
		if err != nil {
			return err
		}
		return a.finish(ctx, act, "Deleted")
	})
	t.number(remove)
	c.AddCommand(&cobra.Command{
		Use: "list PLACE", Short: "List the unfinished uploads below a bucket or folder",
		Example: "  lumtra uploads list north/archive/",
		Args:    cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, s *service.Service, args []string) error {
			_, uploads, err := a.uploadsOf(ctx, s, args[0])
			for _, u := range uploads {
				a.out.say("upload", map[string]any{"key": u.Key, "id": u.ID, "begun": u.Begun, "parts": u.Parts,
					"bytes": u.Bytes}, fmt.Sprintf("%s  %s, %10s  %s", u.Begun.Local().Format("2006-01-02 15:04"),
					plural(int64(u.Parts), "part", "parts"), bytesText(u.Bytes), object.DisplayKey(u.Key)))
			}
			return err
		}),
	}, remove)
	return c
}

// uploadsOf finds the unfinished uploads below a place; where there are none, that is an end.
func (a *app) uploadsOf(ctx context.Context, s *service.Service, text string) (workspace.At,
	[]browse.UnfinishedUpload, error) {
	at, err := atOf(s, text)
	if err != nil {
		return at, nil, err
	}
	uploads, err := s.Uploads(ctx, at)
	if err == nil && len(uploads) == 0 {
		err = a.nothingThere(fmt.Errorf("%w: no unfinished uploads are below %s", errNothing, at))
	}
	return at, uploads, err
}
