package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"lumtra/core/handle"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/service"
	"lumtra/service/browse"
	"lumtra/service/workspace"
)

// mostMatching is how many objects a pattern may pick: they are held in memory.
const mostMatching = 1_000_000

// things are what a command is about: objects and folders of one bucket or folder endpoint.
type things struct {
	matching string
	approve  int64
	given    bool // approve was
}

// pattern adds the flag that picks by a pattern.
func (t *things) pattern(c *cobra.Command) {
	c.Flags().StringVar(&t.matching, "matching", "",
		`take what matches this pattern below the one folder that is named: "*" and "?" stay within a part of `+
			`the name, "**/" spans parts`)
}

// number adds the flag that approves.
func (t *things) number(c *cobra.Command) {
	c.Flags().Int64Var(&t.approve, "approve", 0, "do it, if this is the number of things that it is about")
}

// pick finds what the arguments name. A name that ends in "/" means all below it.
func (a *app) pick(ctx context.Context, s *service.Service, t *things, args []string) ([]workspace.At, error) {
	var picks []workspace.At
	for _, text := range args {
		at, err := atOf(s, text)
		if err != nil {
			return nil, err
		}
		picks = append(picks, at)
	}
	if t.matching != "" {
		if len(picks) != 1 {
			return nil, misused("--matching looks below one folder, and %d places are named", len(picks))
		}
		return a.match(ctx, s, picks[0], t.matching)
	}
	for i, at := range picks {
		if err := there(ctx, s, at, args[i]); err != nil {
			return nil, err
		}
	}
	return picks, nil
}

// there tells whether something is what it is named as: an object, or a folder by the "/" at
// its end.
func there(ctx context.Context, s *service.Service, at workspace.At, text string) error {
	if s.AtTop(at) {
		return misused("%s is a whole endpoint; name a bucket and what is in it", text)
	}
	if at.Key == "" {
		return misused("%s is all there is of it; name what is in it, or use --matching '**'; `lumtra bucket "+
			"--help` tells what is done with a bucket itself", text)
	}
	if strings.HasSuffix(at.Key, "/") {
		return nil
	}
	_, err := s.Describe(ctx, at, "")
	if err == nil || place.KindOf(err) != place.NotFound {
		return err
	}
	folder := at
	folder.Key += "/"
	for range s.List(ctx, folder, true, false) {
		return misused("%s is a folder; write %s/ to mean all below it", text, text)
	}
	return fmt.Errorf("%w: nothing lies at %s", errNothing, object.Display(text))
}

// match tells what a pattern matches, and picks it.
func (a *app) match(ctx context.Context, s *service.Service, at workspace.At, pattern string) ([]workspace.At, error) {
	if at.Key != "" && !strings.HasSuffix(at.Key, "/") {
		at.Key += "/"
	}
	found, count, err := s.Matching(ctx, at, pattern, mostMatching)
	if err != nil {
		return nil, err
	}
	fields := map[string]any{"pattern": pattern, "below": at.String(), "objects": count.Objects, "bytes": count.Bytes}
	if count.Objects == 0 {
		a.out.say("matches", fields, fmt.Sprintf("%s matches nothing below %s.", pattern, at))
		return nil, errNothing
	}
	if int64(len(found)) < count.Objects {
		return nil, misused("%s matches %s objects, and %s are the most at once: use a narrower one", pattern,
			countText(count.Objects), countText(mostMatching))
	}
	text := fmt.Sprintf("%s matches %s, %s, below %s:", pattern, plural(count.Objects, "object", "objects"),
		bytesText(count.Bytes), at)
	for _, e := range found[:min(3, len(found))] {
		text += "\n    " + object.DisplayKey(e.Key)
	}
	if len(found) > 3 {
		text += "\n    …"
	}
	a.out.say("matches", fields, text)
	picks := make([]workspace.At, len(found))
	for i := range found {
		picks[i] = workspace.At{Endpoint: at.Endpoint, Bucket: at.Bucket, Key: found[i].Key}
	}
	return picks, nil
}

// measure counts what the picks are.
func (a *app) measure(ctx context.Context, s *service.Service, picks []workspace.At, deep bool) (handle.Count, error) {
	t := a.teller()
	tell := func(c handle.Count) {}
	if !t.json {
		tell = func(c handle.Count) { t.say("counting: " + countedText(c)) }
		defer t.say("")
	}
	total, err := s.Measure(ctx, picks, deep, slowed(t, tell))
	if err == nil && total.All() == 0 {
		a.out.say("nothing-to-do", map[string]any{"message": "nothing is there"},
			fmt.Sprintf("Nothing lies at %s.", picks[0])+asPattern(picks[0].String()))
		return total, errNothing
	}
	return total, err
}

// countedText is how much was counted.
func countedText(c handle.Count) string {
	text := fmt.Sprintf("%s, %s", plural(c.Objects, "object", "objects"), bytesText(c.AllBytes()))
	if c.Versions > 0 {
		text += ", " + plural(c.Versions, "older version", "older versions")
	}
	if c.Markers > 0 {
		text += ", " + plural(c.Markers, "delete marker", "delete markers")
	}
	if c.Uploads > 0 {
		text += ", " + plural(c.Uploads, "unfinished upload", "unfinished uploads")
	}
	return text
}

func countFields(c handle.Count) map[string]any {
	return map[string]any{"objects": c.Objects, "bytes": c.AllBytes(), "versions": c.Versions, "markers": c.Markers,
		"uploads": c.Uploads}
}

// finish tells how far an act is until it has ended, and how it ended.
func (a *app) finish(ctx context.Context, act *browse.Act, done string) error {
	defer context.AfterFunc(ctx, act.Stop)()
	t := a.teller()
	end := during(t.every, func() {
		r := act.State()
		if !t.json {
			t.say(act.What + ": " + countedText(r.Done) + " of " + countedText(r.Total))
			return
		}
		fields := countFields(r.Done)
		fields["what"], fields["of_number"] = act.What, r.Total.All()
		a.out.say("acting", fields, "")
	})
	err := act.Wait()
	if end(); !t.json {
		t.say("")
	}
	r := act.State()
	text := fmt.Sprintf("%s: %s.", done, countedText(r.Done))
	if r.Left > 0 {
		text += fmt.Sprintf(" There was nothing to do for %s.", plural(r.Left, "other", "others"))
	}
	if r.Failed > 0 {
		text += fmt.Sprintf(" %s failed:", plural(r.Failed, "thing", "things"))
	}
	var problems []string
	for _, p := range r.Problems {
		problems = append(problems, p.Error())
		text += "\n    " + message(p, 0)
	}
	fields := countFields(r.Done)
	fields["what"], fields["failed"], fields["left"], fields["problems"] = act.What, r.Failed, r.Left, problems
	if err == nil || r.Done.All() > 0 || r.Failed > 0 {
		a.out.say("acted", fields, text)
	}
	if err == nil && r.Failed > 0 {
		return errFailures
	}
	return err
}

// again is the command line that was given, without an approval.
func again(c *cobra.Command, args []string) []string {
	words := append(strings.Fields(c.CommandPath())[1:], args...)
	c.Flags().Visit(func(f *flagOf) {
		switch f.Name {
		case "approve", "workspace", "state", "json", "trust", "unchanged-ok", "yes":
			return
		}
		switch {
		case f.Value.Type() == "bool":
			words = append(words, "--"+f.Name)
		default:
			for _, v := range valuesOf(f) {
				words = append(words, "--"+f.Name, v)
			}
		}
	})
	return words
}

// changes reads "name=value" and names to drop.
func changes(set, drop []string) (place.MetadataChange, error) {
	c := place.MetadataChange{Drop: drop}
	for _, text := range set {
		name, value, ok := strings.Cut(text, "=")
		if !ok || name == "" {
			return c, misused("%q is no NAME=VALUE", text)
		}
		if c.Set == nil {
			c.Set = map[string]string{}
		}
		c.Set[name] = value
	}
	return c, nil
}

// handled measures what is picked, has it approved and does it.
func (a *app) handled(ctx context.Context, s *service.Service, c *cobra.Command, t *things, args []string, deep bool,
	would, done string, free int64, do func(picks []workspace.At, total handle.Count) (*browse.Act, error)) error {
	picks, err := a.pick(ctx, s, t, args)
	if err != nil {
		return a.nothingThere(err)
	}
	total, err := a.measure(ctx, s, picks, deep)
	if err != nil {
		return err
	}
	if total.All() > free {
		what := fmt.Sprintf("This %s %s at %s", would, countedText(total), picks[0])
		if len(picks) > 1 {
			what += fmt.Sprintf(" and %d more", len(picks)-1)
		}
		if total.Example != "" {
			what += ", such as " + object.Display(total.Example)
		}
		t.given = c.Flags().Changed("approve")
		if err := a.approved(ctx, total.All(), t.approve, t.given, what+".", countFields(total),
			again(c, args)...); err != nil {
			return err
		}
	}
	act, err := do(picks, total)
	if err != nil {
		return err
	}
	return a.finish(ctx, act, done)
}

// nothingThere tells that something is not there, which is an end of its own.
func (a *app) nothingThere(err error) error {
	if text := strings.TrimPrefix(err.Error(), errNothing.Error()+": "); errors.Is(err, errNothing) &&
		text != errNothing.Error() {
		a.out.say("nothing-to-do", map[string]any{"message": text},
			strings.ToUpper(text[:1])+text[1:]+"."+asPattern(text))
	}
	return err
}

// asPattern says how patterns are given, where a key that is not there may have been meant as one.
func asPattern(at string) string {
	if !strings.ContainsAny(at, "*?") {
		return ""
	}
	return " A pattern goes with the folder that it is for, as in: --matching '*.wav'"
}
