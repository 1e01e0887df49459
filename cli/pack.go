package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lumtra/core/object"
	"lumtra/core/pace"
	"lumtra/core/pack"
	"lumtra/core/report"
	"lumtra/core/rule"
	"lumtra/core/sample"
	"lumtra/service"
	"lumtra/service/workspace"
)

func (a *app) packCommand() *cobra.Command {
	c := group("pack", "Packs: many files as one object, whole, checked, and open at any place",
		"A pack is an archive with an index: its name ends in .tar, .tar.zst or .tar.gz. What is in it has a\n"+
			"\"!\" behind that name, and is a place as any other: lumtra list, get, copy, delete and prove take\n"+
			"it, and jobs have it as source and as target.")
	c.AddCommand(a.packMakeCommand(), a.packShowCommand(), a.packExtractCommand(), a.packCheckCommand(),
		a.packManifestCommand(), a.packRewriteCommand(), a.packSampleCommand())
	return c
}

// packAt reads the name of a pack, at an endpoint or on this machine.
func packAt(s *service.Service, text string) (workspace.At, error) {
	if ofHere(text) {
		return workspace.Local(text)
	}
	return s.AtOf(text)
}

func (a *app) packMakeCommand() *cobra.Command {
	b := bringing{use: "make FROM... PACK", short: "Pack objects and folders, or add them to a pack that is there",
		long: "What is there already in the same state is not sent again; what is other is its next version with\n" +
			"--when-different replace. It goes by a plan, as a job's run does; \"lumtra copy FROM PACK!\" is the " +
			"same.\n" +
			"A name that begins with \"*\" makes as many packs of that ending as it takes.",
		example: "  lumtra pack make /data/tiles/ north/archive/tiles.tar.zst\n" +
			"  lumtra pack make north/archive/2031/ hill/cold/2031.tar\n" +
			"  lumtra pack make /data/tiles/ 'north/archive/tiles/*.tar.zst' --at-most 50GB --under 1MB",
		packs: &rule.Packs{}}
	c, folders := a.bringCommand(b), false
	c.Flags().StringVar(&b.packs.AtMost, "at-most", "", "how large each of several packs becomes, such as 50GB "+
		"(default 10GB)")
	c.Flags().StringVar(&b.packs.Under, "under", "", "pack what is smaller, such as 1MB, and copy the rest as it is")
	c.Flags().IntVar(&b.packs.Level, "level", 0, "how hard to compress: zstd 1 to 22, gzip 1 to 9; 0 is the usual")
	c.Flags().BoolVar(&b.packs.Attributes, "attributes", false, "keep the extended attributes of files and folders")
	c.Flags().BoolVar(&folders, "each-folder", false, "make a pack of each folder")
	run := c.RunE
	c.RunE = func(c *cobra.Command, args []string) error {
		to := args[len(args)-1]
		if folders {
			b.packs.By = rule.ByFolder
		}
		if _, _, ok := pack.Split(to); !ok {
			if _, ok := pack.FormOf(to); !ok {
				return misused("%s is no name of a pack: it ends in .tar, .tar.zst or .tar.gz", to)
			}
			args = append(append([]string(nil), args[:len(args)-1]...), to+pack.Inside+"/")
		}
		if *b.packs != (rule.Packs{Level: b.packs.Level, Attributes: b.packs.Attributes}) &&
			!pack.IsSet(strings.TrimRight(to, pack.Inside+"/")) {
			return misused("--at-most, --under and --each-folder are for several packs: call them %s",
				path.Join(path.Dir(to), pack.Each+".tar.zst"))
		}
		return run(c, args)
	}
	return c
}

func (a *app) packShowCommand() *cobra.Command {
	return &cobra.Command{Use: "show PACK", Short: "Tell what a pack holds, and what it takes",
		Example: "  lumtra pack show north/archive/tiles.tar.zst", Args: cobra.ExactArgs(1),
		RunE: a.onPack(func(_ context.Context, _ *service.Service, at workspace.At, x *pack.Pack) error {
			t := x.Totals()
			text := fmt.Sprintf("%s: %s members, %s, in %s (%s)", at, countText(t.Members), bytesText(t.Bytes),
				bytesText(t.Size), x.Form())
			if t.Dropped > 0 {
				text += fmt.Sprintf("\n    dropped or with a newer version: %s, %s; lumtra pack rewrite gives "+
					"that room back",
					object.Count(t.Dropped, "member"), bytesText(t.Dead))
			}
			if !x.Indexed() {
				text += "\n    it has no index, and was read as a whole: lumtra pack rewrite gives it one"
			}
			if x.Damage() != "" {
				text += "\n    ▲ it is damaged, and nothing behind that is found: " + object.Display(x.Damage())
			}
			a.out.say("packed", map[string]any{"pack": at.String(), "form": string(x.Form()), "members": t.Members,
				"bytes": t.Bytes, "dropped": t.Dropped, "dropped_bytes": t.Dead, "size": t.Size, "indexed": x.Indexed(),
				"damage": x.Damage()}, text)
			return nil
		})}
}

// onPack does something with a pack that is opened for it.
func (a *app) onPack(do func(context.Context, *service.Service, workspace.At, *pack.Pack) error) func(*cobra.Command,
	[]string) error {
	return a.with(func(ctx context.Context, s *service.Service, args []string) error {
		return a.eachPack(ctx, s, args[0], func(at workspace.At) error {
			x, err := s.Pack(ctx, at)
			if err != nil {
				return a.nothingThere(err)
			}
			defer x.Close()
			return do(ctx, s, at, x)
		})
	})
}

// eachPack does something with a pack, or with all that a name means.
func (a *app) eachPack(ctx context.Context, s *service.Service, text string, do func(workspace.At) error) error {
	at, err := packAt(s, text)
	if err != nil {
		return err
	}
	if in, ok := at.Inside(); ok && pack.IsSet(at.Key) {
		at = in
	}
	all, err := s.Packs(ctx, at)
	if err != nil {
		return a.nothingThere(err)
	}
	for _, at := range all {
		err = errors.Join(err, do(at))
	}
	return err
}

func (a *app) packExtractCommand() *cobra.Command {
	var opts pack.ExtractOptions
	c := &cobra.Command{Use: "extract PACK FOLDER",
		Short: "Take a pack out into a folder of this machine, with folders, links, times and permissions",
		Long: "Nothing is written outside the folder, whatever names and links the pack has. For some of it name a\n" +
			"folder in it, as in takes.tar.zst!/2031/. To other places, and as a plan: lumtra get and copy.",
		Example: "  lumtra pack extract north/archive/tiles.tar.zst restored/\n" +
			"  lumtra pack extract north/archive/tiles.tar.zst!/tiles/2031/ restored/", Args: cobra.ExactArgs(2)}
	c.Flags().BoolVar(&opts.Replace, "replace", false, "replace files that are there")
	c.Flags().BoolVar(&opts.Owners, "owners", false, "set users and groups, which takes privileges")
	c.Flags().BoolVar(&opts.Attributes, "attributes", false, "set the extended attributes that were kept")
	c.Flags().BoolVar(&opts.AnyLinks, "any-links", false, "make links that lead out of the folder, too")
	c.RunE = a.with(func(ctx context.Context, s *service.Service, args []string) error {
		opts.Failed = func(m pack.Member, err error) {
			a.out.say("failure", map[string]any{"message": object.DisplayKey(m.Name) + ": " + err.Error()},
				"    failed: "+object.DisplayKey(m.Name)+": "+object.Display(err.Error()))
		}
		var out pack.Extracted
		err := a.eachPack(ctx, s, args[0], func(at workspace.At) error {
			one, err := s.Extract(ctx, at, filepath.Clean(args[1]), opts)
			out.Add(one)
			return err
		})
		if err != nil {
			return a.nothingThere(err)
		}
		a.out.say("acted", map[string]any{"what": "extract", "objects": out.Files, "bytes": out.Bytes,
			"failed": out.Failed}, fmt.Sprintf("Taken out: %s files, %s folders, %s links, %s.", countText(out.Files),
			countText(out.Folders), countText(out.Links), bytesText(out.Bytes)))
		if out.Failed > 0 {
			return errFailures
		}
		return nil
	})
	return c
}

func (a *app) packCheckCommand() *cobra.Command {
	return &cobra.Command{Use: "check PACK", Short: "Read every member of a pack and hold it against its checksums",
		Example: "  lumtra pack check north/archive/tiles.tar.zst", Args: cobra.ExactArgs(1),
		RunE: a.onPack(func(ctx context.Context, _ *service.Service, at workspace.At, x *pack.Pack) error {
			good, bad, err := x.Check(ctx, func(m pack.Member, err error) {
				a.out.say("failure", map[string]any{"message": object.DisplayKey(m.Name) + ": " + err.Error()},
					"    damaged: "+object.DisplayKey(m.Name)+": "+object.Display(err.Error()))
			})
			if err != nil {
				return err
			}
			a.out.say("acted", map[string]any{"what": "check", "objects": good, "failed": bad},
				fmt.Sprintf("%s: %s members are as they were packed, %s are not.", at, countText(good), countText(bad)))
			if bad > 0 || x.Damage() != "" {
				return errFailures
			}
			return nil
		})}
}

func (a *app) packManifestCommand() *cobra.Command {
	return &cobra.Command{Use: "manifest PACK",
		Short:   "Print the digests of a pack's members, as `sha256sum -c` takes them",
		Example: "  lumtra pack manifest north/archive/tiles.tar.zst > SHA256SUMS", Args: cobra.ExactArgs(1),
		RunE: a.onPack(func(ctx context.Context, _ *service.Service, _ workspace.At, x *pack.Pack) error {
			for m, err := range x.Walk(ctx, "", false) {
				if err != nil {
					return err
				}
				if m.Kind != pack.File && m.Kind != pack.Hardlink || m.Digest.Kind == object.NoSum {
					continue
				}
				// GNU coreutils mark a line with "\\" where the name has "\\", "\n" or "\r" in it.
				name := strings.NewReplacer("\\", "\\\\", "\n", "\\n", "\r", "\\r").Replace(m.Name)
				line := m.Digest.Hex() + "  " + name
				if name != m.Name {
					line = "\\" + line
				}
				a.out.say("entry", map[string]any{"key": m.Name, "bytes": m.Size, "modified": m.Modified,
					"kind": m.Digest.String()}, line)
			}
			return nil
		})}
}

func (a *app) packRewriteCommand() *cobra.Command {
	level := 0
	c := &cobra.Command{Use: "rewrite PACK", Short: "Write a pack anew, without what was dropped; give one an index",
		Long: "Where the store copies ranges and tells their checksums, what stays is copied there, and only\n" +
			"what lies beside the gaps passes through this machine. Else, and with --level, all of it does,\n" +
			"and is held against its checksums on the way. The pack is the old one until the new one is whole.",
		Example: "  lumtra pack rewrite north/archive/tiles.tar.zst", Args: cobra.ExactArgs(1)}
	c.Flags().IntVar(&level, "level", 0, "how hard to compress: zstd 1 to 22, gzip 1 to 9; 0 is the usual")
	c.RunE = a.with(func(ctx context.Context, s *service.Service, args []string) error {
		return a.eachPack(ctx, s, args[0], func(at workspace.At) error {
			did, err := s.RewritePack(ctx, at, level)
			if err != nil {
				return a.nothingThere(err)
			}
			text := "Written anew: " + at.String()
			if did.Copied > 0 {
				text += fmt.Sprintf("; the store copied %s itself, and %s were sent", bytesText(did.Copied),
					bytesText(did.Sent))
			} else if did.Why != "" {
				text += "; all of it passed through here: " + did.Why
			}
			a.out.say("acted", map[string]any{"what": "rewrite", "objects": 1, "copied": did.Copied, "sent": did.Sent},
				text+".")
			return nil
		})
	})
	return c
}

func (a *app) packSampleCommand() *cobra.Command {
	var opts sample.Options
	line, to, export := "", "", ""
	c := &cobra.Command{Use: "sample SOURCE",
		Short: "Try compressors on a part of the files: size and speed side by side",
		Long: "Some of each kind of file is read, in all 48 MiB at the most. What packs are made in can be " +
			"recommended;\n" +
			"the others are there for comparison.",
		Example: "  lumtra pack sample /data/tiles/ --line '80 MB/s' --to north --export tiles.pdf",
		Args:    cobra.ExactArgs(1)}
	c.Flags().StringVar(&to, "to", "", "the endpoint that all of it would go to, by whose rates it is priced")
	c.Flags().StringVar(&export, "export", "", "also write it to a file: .svg, .pdf, .csv or .json")
	c.Flags().StringVar(&line, "line", "", "how fast the way to the target is, such as '80 MB/s'")
	c.Flags().DurationVar(&opts.PerTrial, "per-trial", 0, "how long each compressor is tried (default 1.5s)")
	c.RunE = a.with(func(ctx context.Context, s *service.Service, args []string) (err error) {
		if line != "" {
			if opts.Line, err = pace.ParseRate(line); err != nil {
				return misused("--line: %w", err)
			}
		}
		at, err := packAt(s, args[0])
		if err != nil {
			return err
		}
		if at.Key != "" && !strings.HasSuffix(at.Key, "/") {
			at.Key += "/"
		}
		form := report.Format(strings.TrimPrefix(strings.ToLower(filepath.Ext(export)), "."))
		if form == "json" {
			form = report.JSONLines
		}
		if export != "" && !slices.Contains(report.Formats, form) {
			return misused("--export writes .svg, .pdf, .csv and .json, not %q", filepath.Ext(export))
		}
		found, err := s.Sample(ctx, at, to, opts)
		if err != nil {
			return a.nothingThere(err)
		}
		a.saySample(found)
		if export == "" {
			return nil
		}
		err = workspace.WriteFile(export, func(w io.Writer) error {
			return report.Sample(w, at.String(), found, form)
		})
		if err == nil {
			a.out.say("exported", map[string]any{"file": export}, "Written to "+object.Display(export)+".")
		}
		return err
	})
	return c
}

// saySample prints a sampling.
func (a *app) saySample(s *sample.Sampling) {
	single := fmt.Sprintf("As they are: at least %s that write", object.Count(s.Single.Requests, "request"))
	if s.Rates != nil {
		single += ", " + s.Money(s.Single)
		if s.Rates.Example {
			single += ", by rates that are only examples"
		}
	}
	a.out.say("sampled", map[string]any{"files": s.Files, "bytes": s.Bytes, "read": s.Read, "processors": s.Processors,
		"requests": s.Single.Requests, "once": s.Single.Once, "monthly": s.Single.Monthly},
		fmt.Sprintf("%s files, %s; tried on %s of them with %s.\n%s.\n%-8s %7s %10s %16s %16s %10s %9s  %s",
			countText(s.Files), bytesText(s.Bytes), bytesText(s.Read),
			object.Count(int64(s.Processors), "processor"), single, "", "size", "of all", "pack MB/s 1/all",
			"read MB/s 1/all", "takes", "requests", "costs"))
	for i, t := range s.Trials {
		mark := ""
		if i == s.Best {
			mark = "  ◂"
		}
		kinds := []map[string]any{}
		for _, k := range s.Kinds {
			if ratio, ok := t.OfKind[k.Ending]; ok {
				kinds = append(kinds, map[string]any{"ending": k.Ending, "ratio": ratio})
			}
		}
		mb := func(one, all float64) string { return fmt.Sprintf("%.0f / %.0f", one/1e6, all/1e6) }
		a.out.say("trial", map[string]any{"name": t.Name, "form": string(t.Form), "ratio": t.Ratio, "size": t.Size,
			"in": t.In, "in_all": t.InAll, "out": t.Out, "out_all": t.OutAll, "seconds": t.Time.Seconds(),
			"kinds": kinds, "requests": t.Bill.Requests, "once": t.Bill.Once, "monthly": t.Bill.Monthly,
			"best": i == s.Best},
			strings.TrimRight(fmt.Sprintf("%-8s %6.1f%% %10s %16s %16s %10s %9s  %s", t.Name, 100*t.Ratio,
				bytesText(t.Size), mb(t.In, t.InAll), mb(t.Out, t.OutAll), t.Time.Round(time.Millisecond*10),
				countText(t.Bill.Requests), s.Money(t.Bill)), " ")+mark)
	}
	best := s.Trials[s.Best]
	for _, k := range s.Kinds {
		name := k.Ending
		if name == "" {
			name = "without ending"
		}
		if ratio, ok := best.OfKind[k.Ending]; ok && ratio > 0.95 && best.Form != pack.Plain {
			a.out.say("note", map[string]any{"text": name + " does not compress"}, fmt.Sprintf(
				"    %s (%s) does not compress, and is stored as it is", object.Display(name), bytesText(k.Bytes)))
		}
	}
	a.out.say("note", map[string]any{"text": best.Name + ": " + s.Why}, best.Name+": "+s.Why+".")
}
