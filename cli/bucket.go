package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"github.com/spf13/cobra"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/service"
	"lumtra/service/workspace"
)

func (a *app) bucketCommand() *cobra.Command {
	c := group("bucket", "Make, empty and delete buckets; their versioning, tags and access", "")
	c.AddCommand(a.bucketMakeCommand(),
		a.bucketRemoveCommand("empty", "Delete everything in a bucket, once its number is typed", false),
		a.bucketRemoveCommand("delete", "Delete a bucket, and what is in it once its number is typed", true),
		a.bucketVersioningCommand(), a.bucketTagsCommand(), a.bucketAccessCommand())
	return c
}

// bucketOf reads ENDPOINT/BUCKET.
func bucketOf(s *service.Service, text string) (workspace.At, error) {
	at, err := atOf(s, text)
	switch {
	case err != nil:
		return at, err
	case at.Bucket == "":
		return at, misused("%s names no bucket: write ENDPOINT/BUCKET", text)
	case at.Key != "":
		return at, misused("%s is something in a bucket: write ENDPOINT/BUCKET", text)
	}
	return at, nil
}

func (a *app) bucketMakeCommand() *cobra.Command {
	return &cobra.Command{
		Use: "make ENDPOINT/BUCKET", Short: "Make a bucket", Example: "  lumtra bucket make north/archive",
		Args: cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, s *service.Service, args []string) error {
			at, err := bucketOf(s, args[0])
			if err == nil {
				err = s.MakeBucket(ctx, at.Endpoint, at.Bucket)
			}
			if err == nil {
				a.out.say("made", map[string]any{"bucket": at.String()}, "Made "+at.String()+".")
			}
			return err
		}),
	}
}

func (a *app) bucketRemoveCommand(use, short string, andRemove bool) *cobra.Command {
	t := &things{}
	c := &cobra.Command{
		Use: use + " ENDPOINT/BUCKET", Short: short,
		Long: "Counts what would go, with every version, delete marker and unfinished upload, and says so;\n" +
			"then it wants that number, typed or as --approve N. None of it can be brought back.",
		Example: fmt.Sprintf("  lumtra bucket %s north/archive\n  lumtra bucket %s north/archive --approve 120", use,
			use),
		Args: cobra.ExactArgs(1),
	}
	c.RunE = a.with(func(ctx context.Context, s *service.Service, args []string) error {
		at, err := bucketOf(s, args[0])
		if err != nil {
			return err
		}
		total, err := s.Measure(ctx, []workspace.At{at}, true, nil)
		if err != nil {
			return err
		}
		if total.All() == 0 && !andRemove {
			a.out.say("nothing-to-do", map[string]any{"message": "nothing is in it"}, "Nothing is in it.")
			return errNothing
		}
		if total.All() > 0 {
			what := fmt.Sprintf("This deletes permanently all that is in %s: %s.", at, countedText(total))
			if err := a.approved(ctx, total.All(), t.approve, c.Flags().Changed("approve"), what, countFields(total),
				again(c, args)...); err != nil {
				return err
			}
		}
		act, err := s.EmptyBucket(at, andRemove, total, total.All())
		if err != nil {
			return err
		}
		if err := a.finish(ctx, act, "Deleted"); err != nil || !andRemove {
			return err
		}
		a.out.say("deleted", map[string]any{"bucket": at.String()}, "Deleted the bucket "+at.String()+".")
		return nil
	})
	t.number(c)
	return c
}

func (a *app) bucketVersioningCommand() *cobra.Command {
	return &cobra.Command{
		Use: "versioning ENDPOINT/BUCKET [on|off]", Short: "Tell whether a bucket keeps versions, or switch it",
		Long: "Once versions were kept, \"off\" suspends it: those that are there stay.",
		Example: "  lumtra bucket versioning north/archive\n" +
			"  lumtra bucket versioning north/archive on",
		Args: cobra.RangeArgs(1, 2),
		RunE: a.with(func(ctx context.Context, s *service.Service, args []string) error {
			at, err := bucketOf(s, args[0])
			if err != nil {
				return err
			}
			var is place.Versioning
			switch {
			case len(args) == 1:
				is, err = s.Versioning(ctx, at)
			case args[1] == "on" || args[1] == "off":
				is, err = s.SetVersioning(ctx, at, args[1] == "on")
			default:
				return misused("versioning is %q; it is on or off", args[1])
			}
			if err == nil {
				a.out.say("versioning", map[string]any{"bucket": at.String(), "versioning": is},
					fmt.Sprintf("Versioning of %s is %s.", at, is))
			}
			return err
		}),
	}
}

func (a *app) bucketTagsCommand() *cobra.Command {
	var set, drop []string
	c := &cobra.Command{
		Use: "tags ENDPOINT/BUCKET", Short: "Show or change the tags of a bucket itself",
		Long: "Containers of the Azure Blob API have metadata in place of tags. What is not named stays; what is\n" +
			"there afterwards is read back and shown.",
		Example: "  lumtra bucket tags north/archive\n" +
			"  lumtra bucket tags north/archive --set owner=archive --drop temporary",
		Args: cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, s *service.Service, args []string) error {
			at, err := bucketOf(s, args[0])
			if err != nil {
				return err
			}
			wanted, err := changes(set, drop)
			if err != nil {
				return err
			}
			var tags map[string]string
			if wanted.Empty() {
				tags, err = s.BucketTags(ctx, at)
			} else {
				tags, err = s.ChangeBucketTags(ctx, at, wanted)
			}
			if err != nil {
				return err
			}
			text := at.String() + " has no tags."
			if len(tags) > 0 {
				text = at.String()
			}
			for _, name := range slices.Sorted(maps.Keys(tags)) {
				text += "\n    " + object.Display(name) + "=" + object.Display(tags[name])
			}
			a.out.say("bucket", map[string]any{"bucket": at.String(), "tags": tags}, text)
			return nil
		}),
	}
	c.Flags().StringArrayVar(&set, "set", nil, "NAME=VALUE; may be given again")
	c.Flags().StringArrayVar(&drop, "drop", nil, "a name that goes; may be given again")
	return c
}

func (a *app) bucketAccessCommand() *cobra.Command {
	var public string
	t := &things{}
	c := &cobra.Command{
		Use:   "access ENDPOINT/BUCKET",
		Short: "Tell in plain words who may reach a bucket, or change what anybody may do",
		Long: `Shows what policies and access lists grant. --public changes what anybody may do, without
signing: "no", "read" objects whose names they know, or "list" them, too. What is granted to
some stays. Opening a bucket wants the number of objects in it, typed or as --approve N.
What is in force afterwards is read back and shown.`,
		Example: "  lumtra bucket access north/archive\n" +
			"  lumtra bucket access north/archive --public no\n" +
			"  lumtra bucket access north/press --public read --approve 14",
		Args: cobra.ExactArgs(1),
	}
	c.RunE = a.with(func(ctx context.Context, s *service.Service, args []string) error {
		at, err := bucketOf(s, args[0])
		if err != nil {
			return err
		}
		var is place.Access
		switch to := place.Public(public); {
		case public == "":
			is, err = s.Access(ctx, at)
		case to == place.PublicWrite || !slices.Contains(place.Publics, to):
			return misused("--public is %q; it is \"no\", \"read\" or \"list\"", public)
		case to == place.PublicNo:
			is, err = s.SetPublic(ctx, at, to)
		default:
			total, bad := s.Measure(ctx, []workspace.At{at}, false, nil)
			if bad != nil {
				return bad
			}
			what := fmt.Sprintf("This opens %s to everybody: %s. In it are %s.", at, to.Words(), countedText(total))
			if err := a.approved(ctx, total.All(), t.approve, c.Flags().Changed("approve"), what, countFields(total),
				again(c, args)...); err != nil {
				return err
			}
			is, err = s.SetPublic(ctx, at, to)
		}
		if err != nil {
			return err
		}
		text := fmt.Sprintf("%s: %s.", at, is.Public.Words())
		for _, w := range is.Words {
			text += "\n    " + object.Display(w)
		}
		a.out.say("bucket", map[string]any{"bucket": at.String(), "public": is.Public, "access": is.Words}, text)
		return nil
	})
	t.number(c)
	c.Flags().StringVar(&public, "public", "", `what anybody may do: "no", "read" or "list"`)
	return c
}
