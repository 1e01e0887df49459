package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/plan"
	"lumtra/core/rule"
	"lumtra/service"
	"lumtra/service/cycle"
	"lumtra/service/workroom"
	"lumtra/service/workspace"
)

// bringing is what brings things somewhere without a job: a plan of its own, carried out.
type bringing struct {
	use, short, long, example string
	fromHere, toHere          bool // the sources, the target are paths of this machine
	move                      bool
	packs                     *rule.Packs // nil but where packs are made
}

const landing = `
Where TO ends in "/", or is a bucket or a folder that is there, each thing lands in it under its
own name; else the one thing that is brought gets TO as its name. It goes by a plan, as a job's
run does: nothing that is there and other is replaced unless --when-different says so.`

var bringings = []bringing{
	{use: "put FILE... TO", short: "Bring files and folders of this machine to a place", fromHere: true,
		long: "FILE is a path of this machine; TO is ENDPOINT/BUCKET/PATH." + landing,
		example: "  lumtra put takes/a.wav north/archive/takes/\n" +
			"  lumtra put takes/ north/archive/2027/ --matching '**/*.wav' --class STANDARD_IA\n" +
			"  lumtra put report-final.pdf north/archive/report.pdf --when-different replace"},
	{use: "get FROM... TO", short: "Bring objects and folders of a place to this machine", toHere: true,
		long: "TO is a path of this machine, or \"-\" to print one object." + landing,
		example: "  lumtra get north/archive/takes/a.wav .\n" +
			"  lumtra get north/archive/takes/ /data/restored/\n  lumtra get north/archive/notes.txt -"},
	{use: "copy FROM... TO", short: "Copy objects and folders from places to a place",
		long: "A path that begins with \"/\", \"./\" or \"../\" is of this machine. Within a store, the store " +
			"copies." + landing,
		example: "  lumtra copy north/archive/takes/ hill/mirror/\n" +
			"  lumtra copy north/archive/a.wav north/archive/b.wav"},
	{use: "move FROM... TO", short: "Move objects and folders from places to a place", move: true,
		long: "What was moved is deleted at its source only once its copy is proven." + landing,
		example: "  lumtra move north/archive/incoming/ north/archive/2027/\n" +
			"  lumtra move north/archive/a.wav north/archive/b.wav"},
}

// bringFlags are what these commands can be told.
type bringFlags struct {
	things
	different, class string
	metadata         []string
	planOnly         bool
	here, prove      bool
	despite          []string
}

func (a *app) bringCommand(b bringing) *cobra.Command {
	o := &bringFlags{}
	c := &cobra.Command{Use: b.use, Short: b.short, Long: b.long, Example: b.example, Args: cobra.MinimumNArgs(2)}
	c.RunE = a.with(func(ctx context.Context, s *service.Service, args []string) error {
		if b.toHere && args[len(args)-1] == "-" {
			return a.print(ctx, s, c.OutOrStdout(), args[:len(args)-1])
		}
		drop, err := b.drop(ctx, s, o, args)
		if err != nil {
			return a.nothingThere(err)
		}
		return a.bring(ctx, s, o, drop, again(c, args))
	})
	f := c.Flags()
	o.pattern(c)
	f.StringVar(&o.different, "when-different", "", "when the target differs: replace, skip, if-newer or keep-both")
	f.StringVar(&o.class, "class", "", "storage class at the target")
	f.StringArrayVar(&o.metadata, "metadata", nil, "NAME=VALUE to set at the target; may be given again")
	f.BoolVar(&o.planOnly, "plan-only", false, "tell what would be done, and do nothing")
	f.BoolVar(&o.prove, "prove", false, "prove it afterwards")
	f.BoolVar(&o.here, "here", false, "in this process, also when the background service is running")
	f.StringSliceVar(&o.despite, "despite", nil, "run although these checks know that it would fail: "+
		strings.Join(workroom.Blockers, ", "))
	return c
}

// drop is what the command line says.
func (b bringing) drop(ctx context.Context, s *service.Service, o *bringFlags, args []string) (*workspace.Drop, error) {
	sources, to := args[:len(args)-1], args[len(args)-1]
	d := &workspace.Drop{Move: b.move, Different: rule.WhenDifferent(o.different), Class: o.class}
	set, err := changes(o.metadata, nil)
	if err != nil {
		return nil, err
	}
	d.Metadata = set.Set
	if b.packs != nil {
		rules := rule.Default()
		rules.Packs = *b.packs
		if _, what := rules.Check(); what != "" {
			return nil, misused("--%s", what)
		}
		d.Packs = *b.packs
	}
	for _, text := range sources {
		at, err := b.source(ctx, s, text)
		if err != nil {
			return nil, err
		}
		d.Items = append(d.Items, at)
	}
	if o.matching != "" && len(d.Items) != 1 {
		return nil, misused("--matching looks below one folder, and %d things are named", len(d.Items))
	}
	if err := b.target(ctx, s, d, to); err != nil {
		return nil, err
	}
	if o.matching != "" {
		if !d.Items[0].Pick().Prefix {
			return nil, misused("--matching looks below a folder, and %s is an object", sources[0])
		}
		lands := d.Lands()[0]
		d.Only = []string{rule.Literal(strings.TrimPrefix(lands.Key, d.Target.Key)) + o.matching}
	}
	return d, nil
}

// source finds what is to be brought.
func (b bringing) source(ctx context.Context, s *service.Service, text string) (workspace.At, error) {
	if b.fromHere || ofHere(text) {
		file, _, in := pack.Split(text)
		if !in {
			file = text
		}
		if _, err := os.Stat(file); errors.Is(err, os.ErrNotExist) {
			return workspace.At{}, fmt.Errorf("%w: there is no file or folder %s", errNothing, object.Display(text))
		}
		return workspace.Local(text)
	}
	at, err := atOf(s, text)
	switch {
	case err != nil:
		return at, err
	case s.AtTop(at):
		return at, misused("%s is a whole endpoint; name a bucket, or what is in it", text)
	case at.Key == "":
		return at, nil // all of it
	}
	return at, there(ctx, s, at, text)
}

// target says where things land: in a folder, or under another name.
func (b bringing) target(ctx context.Context, s *service.Service, d *workspace.Drop, text string) error {
	var at workspace.At
	var err error
	if b.toHere || ofHere(text) {
		if at, err = workspace.Local(text); err == nil && strings.HasSuffix(text, "/") &&
			!strings.HasSuffix(at.Key, "/") && at.Key != "" {
			at.Key += "/"
		}
	} else {
		at, err = atOf(s, text)
	}
	if err != nil {
		return err
	}
	if s.AtTop(at) {
		return misused("%s is a whole endpoint; name a bucket to bring it to", text)
	}
	if at.Key != "" && !strings.HasSuffix(at.Key, "/") {
		folder := at
		folder.Key += "/"
		if isFolder(ctx, s, folder) {
			at = folder
		}
	}
	d.Target = at
	if at.Key == "" || strings.HasSuffix(at.Key, "/") {
		return nil
	}
	if len(d.Items) > 1 {
		return misused("%d things land in a folder: end it with \"/\", as in %s/", len(d.Items), text)
	}
	d.Target.Key = object.Parent(at.Key)
	name := strings.TrimPrefix(at.Key, d.Target.Key)
	if d.Items[0].Pick().Prefix {
		name += "/"
	}
	d.Names = []string{name}
	return nil
}

// isFolder tells whether something lies below a prefix.
func isFolder(ctx context.Context, s *service.Service, at workspace.At) bool {
	if at.Endpoint == "" {
		info, err := os.Stat("/" + at.Key)
		return err == nil && info.IsDir()
	}
	for _, err := range s.List(ctx, at, false, false) {
		return err == nil
	}
	return false
}

// bring plans what a drop says and carries it out.
func (a *app) bring(ctx context.Context, s *service.Service, o *bringFlags, d *workspace.Drop, again []string) error {
	job, err := s.Bring(workspace.FromShell, d)
	if err != nil {
		return err
	}
	for i, lands := range d.Lands() {
		if i == 3 && !a.out.json {
			a.out.say("", nil, fmt.Sprintf("… and %d more", len(d.Items)-i))
			break
		}
		a.out.say("lands", map[string]any{"from": d.Items[i].String(), "to": lands.String(), "job": job},
			fmt.Sprintf("%s lands as %s", d.Items[i], lands))
	}
	info, err := a.makePlan(ctx, s, job, workroom.Freshness{})
	switch changed := info.Totals[plan.Change]; {
	case err != nil:
		return err
	case len(info.Tallies) > 0 && info.Tallies[0].Takes == 0:
		a.out.say("nothing-to-do", map[string]any{"message": "the pattern matches nothing"},
			fmt.Sprintf("%s matches nothing there.", o.matching))
		return errNothing
	case changed.Count > 0 && d.Different == "":
		a.next("replace what is there (or: skip, newer, keep-both)", append(again, "--when-different", "replace")...)
		return fmt.Errorf("%w: %s at the target already, and other; --when-different says what becomes of that",
			workroom.ErrHeld, plural(changed.Count, "object is", "objects are"))
	case o.planOnly:
		a.nextOfPlan(&info)
		return nil
	}
	way := s.Cycle()
	if o.here {
		way = s.CycleHere()
	}
	policy := cycle.Policy{Number: info.Number, Despite: o.despite}
	if o.prove {
		policy.Prove = &workroom.ProveOptions{}
	}
	return a.goOn(ctx, s, way, job, policy)
}

// print writes one object to out, whatever is in it.
func (a *app) print(ctx context.Context, s *service.Service, out io.Writer, from []string) error {
	if len(from) != 1 {
		return misused("one object can be printed, and %d are named", len(from))
	}
	at, err := atOf(s, from[0])
	if err == nil {
		err = there(ctx, s, at, from[0])
	}
	if err != nil {
		return a.nothingThere(err)
	}
	if strings.HasSuffix(at.Key, "/") {
		return misused("%s is a folder: there is nothing to print", from[0])
	}
	_, err = s.ReadTo(ctx, at, "", out)
	return err
}
