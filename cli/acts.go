package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lumtra/core/handle"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/service"
	"lumtra/service/browse"
	"lumtra/service/workspace"
)

func (a *app) removeCommand() *cobra.Command {
	t := &things{}
	var forGood bool
	c := &cobra.Command{
		Use:   "delete PLACE...",
		Short: "Delete objects and folders by hand, once their number is typed",
		Long: `Counts what would go and says so; then it wants that number, typed or as --approve N.
Where versions are kept, deleted objects can be brought back (undelete), unless --permanently.`,
		Example: "  lumtra delete north/archive/takes/a.wav\n" +
			"  lumtra delete north/archive/takes/ --approve 120\n" +
			"  lumtra delete north/archive --matching '**/*.tmp'",
		Args: cobra.MinimumNArgs(1),
	}
	c.RunE = a.with(func(ctx context.Context, s *service.Service, args []string) error {
		would := "deletes"
		if forGood {
			would = "deletes permanently, with every version,"
		}
		return a.handled(ctx, s, c, t, args, forGood, would, "Deleted", 0,
			func(picks []workspace.At, total handle.Count) (*browse.Act, error) {
				return s.Remove(picks, forGood, total, total.All())
			})
	})
	t.pattern(c)
	t.number(c)
	c.Flags().BoolVar(&forGood, "permanently", false, "every version, delete marker and unfinished upload, too")
	return c
}

func (a *app) undeleteCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "undelete PLACE...",
		Short: "Bring back what was deleted, where versions are kept",
		Long: `Brings back the deleted objects that are named, or all below a folder. What is there
stays as it is. "lumtra list PLACE --deleted" shows what can be brought back.`,
		Example: "  lumtra undelete north/archive/takes/a.wav\n  lumtra undelete north/archive/takes/",
		Args:    cobra.MinimumNArgs(1),
		RunE: a.with(func(ctx context.Context, s *service.Service, args []string) error {
			var picks []workspace.At
			for _, text := range args {
				at, err := atOf(s, text)
				if err != nil {
					return err
				}
				picks = append(picks, at)
			}
			act, err := s.Undelete(picks)
			if err != nil {
				return err
			}
			err = a.finish(ctx, act, "Brought back")
			if r := act.State(); err == nil && r.Done.All() == 0 {
				return errNothing
			}
			return err
		}),
	}
}

func (a *app) restoreCommand() *cobra.Command {
	t := &things{}
	var opts place.RestoreOptions
	var status bool
	c := &cobra.Command{
		Use:   "restore PLACE...",
		Short: "Ask the store to make objects of cold classes readable for some days",
		Long: `Restoring costs, so more than one object wants the number of those that are asked for,
typed or as --approve N. It takes the store minutes to hours, by the tier; --status asks
for nothing and tells how far they are.`,
		Example: "  lumtra restore north/archive/1998/reel-7.wav --days 3\n" +
			"  lumtra restore north/archive/1998/ --days 7 --tier Bulk --approve 340\n" +
			"  lumtra restore north/archive/1998/ --status",
		Args: cobra.MinimumNArgs(1),
	}
	c.RunE = a.with(func(ctx context.Context, s *service.Service, args []string) error {
		if opts.Days < 1 {
			return misused("--days is %d; it is 1 at least", opts.Days)
		}
		return a.restore(ctx, s, c, t, args, opts, status)
	})
	t.pattern(c)
	t.number(c)
	c.Flags().IntVar(&opts.Days, "days", 7, "how long they can be read")
	c.Flags().StringVar(&opts.Tier, "tier", "", "how urgently, as the store names it: Standard, Bulk, Expedited; "+
		"Standard, High")
	c.Flags().BoolVar(&status, "status", false, "tell how they stand, and ask for nothing")
	return c
}

// markCommand shows or changes tags or metadata.
func (a *app) markCommand(use, what string, of func(*browse.Description) map[string]string,
	change func(s *service.Service, picks []workspace.At, c place.MetadataChange, n handle.Count) (*browse.Act,
		error)) *cobra.Command {
	t := &things{}
	var set, drop []string
	c := &cobra.Command{
		Use:   use + " PLACE...",
		Short: "Show or change the " + what + " of objects",
		Long: "Without --set and --drop it shows the " + what + " of one object. A change of more than one object\n" +
			"wants their number, typed or as --approve N. What is not named stays.",
		Example: fmt.Sprintf("  lumtra %s north/archive/takes/a.wav\n"+
			"  lumtra %s north/archive/takes/a.wav --set project=tides --drop draft\n"+
			"  lumtra %s north/archive/takes/ --set project=tides --approve 120", use, use, use),
		Args: cobra.MinimumNArgs(1),
	}
	c.RunE = a.with(func(ctx context.Context, s *service.Service, args []string) error {
		wanted, err := changes(set, drop)
		if err != nil {
			return err
		}
		if wanted.Empty() {
			return a.showMarks(ctx, s, what, of, args)
		}
		return a.handled(ctx, s, c, t, args, false, "changes the "+what+" of", "Changed", 1,
			func(picks []workspace.At, total handle.Count) (*browse.Act, error) {
				return change(s, picks, wanted, total)
			})
	})
	t.pattern(c)
	t.number(c)
	c.Flags().StringArrayVar(&set, "set", nil, "NAME=VALUE; may be given again")
	c.Flags().StringArrayVar(&drop, "drop", nil, "a name that goes; may be given again")
	return c
}

func (a *app) showMarks(ctx context.Context, s *service.Service, what string,
	of func(*browse.Description) map[string]string, args []string) error {
	if len(args) != 1 {
		return misused("the %s of one object are shown; to change those of many, say --set or --drop", what)
	}
	at, err := atOf(s, args[0])
	if err == nil {
		err = there(ctx, s, at, args[0])
	}
	if err != nil {
		return a.nothingThere(err)
	}
	d, err := s.Describe(ctx, at, "")
	if err != nil {
		return err
	}
	all := of(&d)
	for _, name := range slices.Sorted(maps.Keys(all)) {
		a.out.say("mark", map[string]any{"kind": what, "name": name, "value": all[name]},
			object.Display(name)+"="+object.Display(all[name]))
	}
	if len(all) == 0 {
		a.out.say("note", map[string]any{"text": "no " + what}, "It has no "+what+".")
	}
	return nil
}

func (a *app) tagsCommand() *cobra.Command {
	return a.markCommand("tags", "tags", func(d *browse.Description) map[string]string { return d.Tags },
		func(s *service.Service, picks []workspace.At, c place.MetadataChange, n handle.Count) (*browse.Act, error) {
			return s.Change(picks, place.MetadataChange{}, c, n)
		})
}

func (a *app) metadataCommand() *cobra.Command {
	return a.markCommand("metadata", "metadata",
		func(d *browse.Description) map[string]string { return d.Entry.Metadata },
		func(s *service.Service, picks []workspace.At, c place.MetadataChange, n handle.Count) (*browse.Act, error) {
			return s.Change(picks, c, place.MetadataChange{}, n)
		})
}

func (a *app) linkCommand() *cobra.Command {
	var valid time.Duration
	var version string
	c := &cobra.Command{
		Use:   "link PLACE",
		Short: "Make a signed address that lets anybody read an object for a while",
		Example: "  lumtra link north/archive/takes/a.wav --valid 2h\n" +
			"  lumtra link north/archive/takes/a.wav --version 3HL4kqtJ",
		Args: cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, s *service.Service, args []string) error {
			at, err := atOf(s, args[0])
			if err == nil && version == "" {
				err = there(ctx, s, at, args[0])
			}
			if err != nil {
				return a.nothingThere(err)
			}
			link, err := s.Link(ctx, at, version, valid)
			if err != nil {
				return err
			}
			until := time.Now().Add(valid)
			a.out.say("link", map[string]any{"address": link, "until": until}, link)
			return nil
		}),
	}
	c.Flags().DurationVar(&valid, "valid", 24*time.Hour, `how long it works, such as "90m" or "24h"`)
	c.Flags().StringVar(&version, "version", "", "of this version of it")
	return c
}

func (a *app) infoCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "info PLACE",
		Short:   "Tell all that is known of one object: times, checksums, metadata, tags, versions",
		Example: "  lumtra info north/archive/takes/a.wav",
		Args:    cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, s *service.Service, args []string) error {
			at, err := atOf(s, args[0])
			if err != nil {
				return err
			}
			d, err := s.Describe(ctx, at, "")
			if place.KindOf(err) == place.NotFound {
				err = there(ctx, s, at, args[0])
			}
			if err != nil {
				return a.nothingThere(err)
			}
			a.sayInfo(at, &d)
			return nil
		}),
	}
}

func (a *app) sayInfo(at workspace.At, d *browse.Description) {
	e := &d.Entry
	sums, lines := map[string]string{}, [][2]string{{"size", fmt.Sprintf("%s (%s bytes)", bytesText(e.Size),
		countText(e.Size))}, {"modified", e.Modified.Local().Format("2006-01-02 15:04:05.999999999 MST")}}
	add := func(name, value string) {
		if value != "" {
			lines = append(lines, [2]string{name, object.Display(value)})
		}
	}
	if !e.Original.IsZero() {
		add("original time", e.Original.Local().Format("2006-01-02 15:04:05.999999999 MST"))
	}
	add("kind",
		map[bool]string{true: "a delete marker: it was deleted, and can be brought back"}[e.Kind == object.Marker])
	add("content type", e.ContentType)
	add("encoding", e.ContentEncoding)
	add("class", e.Class)
	if e.Archive != object.Online {
		add("archive", e.Archive.String())
	}
	add("ETag", e.ETag)
	add("version", e.Version)
	for _, sum := range e.Sums {
		sums[sum.Kind.String()] = sum.Hex()
		add("checksum", sum.String())
	}
	for _, group := range []struct {
		name string
		all  map[string]string
	}{{"metadata", e.Metadata}, {"tag", d.Tags}} {
		for _, name := range slices.Sorted(maps.Keys(group.all)) {
			add(group.name, name+"="+group.all[name])
		}
	}
	if n := len(d.Versions); n > 0 {
		add("versions", countText(int64(n)))
	}
	text := at.String()
	for _, l := range lines {
		text += fmt.Sprintf("\n    %-14s %s", l[0], l[1])
	}
	a.out.say("info", map[string]any{"key": at.String(), "bytes": e.Size, "modified": e.Modified,
		"original": e.Original, "kind": e.Kind.String(), "content_type": e.ContentType,
		"content_encoding": e.ContentEncoding, "class": e.Class, "etag": e.ETag, "version": e.Version,
		"checksums": sums, "metadata": e.Metadata, "tags": d.Tags, "versions": len(d.Versions)}, text)
}

func (a *app) folderCommand() *cobra.Command {
	c := group("folder", "Make empty folders", "")
	c.AddCommand(&cobra.Command{
		Use: "make PLACE/", Short: "Make an empty folder", Example: "  lumtra folder make north/archive/2027/",
		Args: cobra.ExactArgs(1),
		RunE: a.with(func(ctx context.Context, s *service.Service, args []string) error {
			at, err := atOf(s, strings.TrimRight(args[0], "/")+"/")
			if err == nil && at.Key == "" {
				err = misused("%s is no folder in a bucket; `lumtra bucket make` makes buckets", args[0])
			}
			if err == nil {
				err = s.MakeFolder(ctx, at)
			}
			if err == nil {
				a.out.say("made", map[string]any{"folder": at.String()}, "Made "+at.String()+".")
			}
			return err
		}),
	})
	return c
}
