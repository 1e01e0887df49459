package places

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/handle"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/service/browse"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
)

// removeSheet asks before removing what is marked, or what is under the cursor.
func (s *Screen) removeSheet() tea.Cmd {
	picks := s.picks()
	bucket := workspace.At{Endpoint: picks[0].Endpoint, Bucket: picks[0].Bucket}
	if picks[0] == bucket && bucket.Bucket != "" {
		return s.emptyBucket(true)
	}
	if picks[0].Key == "" {
		return s.removeEndpoint(picks[0].Endpoint)
	}
	return s.count("Delete "+pickText(picks), picks, true, func(all handle.Count) tea.Cmd {
		return func() tea.Msg { // while the count still stands there
			keeps := s.Service.Keeps(s.ctx, picks[0])
			return countedMsg{all, func(all handle.Count) tea.Cmd { return s.removeForm(picks, all, keeps) }}
		}
	})
}

// The ways to remove where versions are kept.
const (
	mark    = "add a delete marker: older versions stay"
	forGood = "delete permanently: every version and marker"
)

// removeForm asks how to remove, where there is a choice, and then for the number that goes.
func (s *Screen) removeForm(picks []workspace.At, all handle.Count, keeps browse.Keeping) tea.Cmd {
	if keeps == browse.KeepsUntilRewritten {
		now := handle.Count{Objects: all.Objects, Bytes: all.Bytes, Example: all.Example}
		return s.form(s.removeTyped(picks, now, false, "It stays in the pack until that is written anew: until then U "+
			"brings it back."))
	}
	if keeps == browse.KeepsNone || all.Objects == 0 {
		return s.form(s.removeTyped(picks, all, true, "No older versions are kept here: what goes is gone."))
	}
	f := &kit.Form{Title: "Delete " + pickText(picks), Does: "go on",
		Notes:  []string{"Versions are kept here: what is hidden can be brought back with U."},
		Fields: []*kit.Field{{Name: "how", Value: mark, Choices: []string{mark, forGood}}}}
	if keeps == browse.KeepsUnknown {
		f.Notes = []string{"Whether older versions are kept here could not be found out: what goes may be gone."}
	}
	f.Behind = func(f *kit.Form) []string { return s.removeCommand(picks, all, f.Get("how") == forGood) }
	f.Submit = func(f *kit.Form) tea.Cmd {
		if f.Get("how") == forGood {
			return s.form(s.removeTyped(picks, all, true, "Every version and delete marker goes, too."))
		}
		now := handle.Count{Objects: all.Objects, Bytes: all.Bytes, Example: all.Example}
		return s.form(s.removeTyped(picks, now, false, "Older versions stay; U brings back what is hidden."))
	}
	return s.form(f)
}

func (s *Screen) removeCommand(picks []workspace.At, all handle.Count, deep bool) []string {
	if deep {
		return words([]string{"delete"}, picks, append(number(all.All()), "--permanently")...)
	}
	return words([]string{"delete"}, picks, number(all.Objects)...)
}

// removeTyped asks for the number of what goes.
func (s *Screen) removeTyped(picks []workspace.At, goes handle.Count, deep bool, note string) *kit.Form {
	f := &kit.Form{Title: "Delete " + pickText(picks), Does: "delete", Notes: []string{note}}
	f.Warning = []string{"This deletes " + countText(goes) + "."}
	if goes.All() == 0 {
		f.Warning = []string{"There is nothing there any more."}
	}
	f.Behind = func(*kit.Form) []string { return s.removeCommand(picks, goes, deep) }
	s.typing(f, goes.All(), func(typed int64) (*browse.Act, error) {
		return s.Service.Remove(picks, deep, goes, typed)
	}, parents(picks...))
	return f
}

func (s *Screen) emptySheet() tea.Cmd { return s.emptyBucket(false) }

// emptyBucket asks before emptying a bucket, and perhaps removing it: which of
// the two is offered first is what was asked for.
func (s *Screen) emptyBucket(remove bool) tea.Cmd {
	at, _ := s.at()
	at.Key = ""
	word := s.bucketWord(at.Endpoint)
	return s.count("Empty "+at.String(), []workspace.At{at}, true, func(all handle.Count) tea.Cmd {
		f := &kit.Form{Title: "Empty " + at.String(), Does: "go ahead"}
		f.Warning = []string{"This deletes permanently " + countText(all) + "."}
		if all.All() == 0 {
			f.Warning = []string{"The " + word + " is empty already."}
		}
		then := []string{"and delete the " + word, "and keep the " + word}
		first := then[1]
		if remove {
			first = then[0]
		}
		f.Fields = append(f.Fields, &kit.Field{Name: "then", Value: first, Choices: then})
		f.Behind = func(f *kit.Form) []string {
			does := map[bool]string{true: "delete", false: "empty"}[f.Get("then") == then[0]]
			return words([]string{"bucket", does}, []workspace.At{at}, number(all.All())...)
		}
		return s.typed(f, all.All(), func(typed int64) (*browse.Act, error) {
			return s.Service.EmptyBucket(at, f.Get("then") == then[0], all, typed)
		}, []workspace.At{{Endpoint: at.Endpoint}, at})
	})
}

// moveSheet asks where to move or copy things.
func (s *Screen) moveSheet() tea.Cmd {
	picks := s.picks()
	if picks[0].Key == "" {
		return kit.Cmd(kit.Say{Text: "A " + s.bucketWord(picks[0].Endpoint) +
			" cannot be moved: put it into the tray with t, and drop it where it " +
			"should go.", Bad: true})
	}
	return s.count("Move or copy "+pickText(picks), picks, false, func(all handle.Count) tea.Cmd {
		here := picks[0]
		here.Key = object.Parent(here.Key)
		way := []string{"move", "copy"}
		f := &kit.Form{Title: "Move or copy " + pickText(picks), Does: "go ahead",
			Notes: []string{countText(all) +
				". Nothing that is there is written over; an original goes only once its copy is there."},
			Fields: []*kit.Field{{Name: "how", Value: way[0], Choices: way},
				{Name: "to", Value: here.String() + map[bool]string{true: "/"}[here.Key == ""],
					Hint: "endpoint/bucket/folder/ or a new name"}}}
		f.Behind = func(f *kit.Form) []string { return words([]string{f.Get("how")}, picks, f.Get("to")) }
		touches(f, all.All())
		f.Submit = func(f *kit.Form) tea.Cmd {
			if !told(f, all.All()) {
				return nil
			}
			to, err := s.Service.AtOf(f.Get("to"))
			if err != nil {
				f.Err = err
				return nil
			}
			if to.Key != "" && !strings.HasSuffix(to.Key, "/") && strings.HasSuffix(f.Get("to"), "/") {
				to.Key += "/"
			}
			levels := append(parents(picks...), parents(to)...)
			return s.start(f,
				func() (*browse.Act, error) { return s.Service.Copy(picks, to, f.Get("how") == "move", all) },
				append(levels, to))
		}
		return s.form(f)
	})
}

// editSheet edits metadata and tags: of one, or the same of many.
func (s *Screen) editSheet() tea.Cmd {
	picks := s.picks()
	at := picks[0]
	f := &kit.Form{Title: "Metadata and tags of " + pickText(picks), Does: "change",
		Notes: []string{`name = value sets, a name alone deletes; several with semicolons between, and \; for one ` +
			`that is meant. What is not named stays.`},
		Fields: []*kit.Field{{Name: "metadata", Hint: "site = lower weir; recordist = no. 7"},
			{Name: "type", Hint: "as it is"},
			{Name: "tags", Hint: "season = spring; draft"}}}
	if known, ok := s.facts[at]; ok && len(picks) == 1 {
		if why := known.Lacks[place.Tags]; why != "" {
			f.Fields = f.Fields[:2]
		}
		f.Fields[0].Value = pairs(own(known.Entry.Metadata))
		f.Fields[1].Value = known.Entry.ContentType
		if len(f.Fields) > 2 {
			f.Fields[2].Value = pairs(known.Tags)
		}
	}
	before := []string{f.Fields[0].Value, f.Fields[1].Value, ""}
	if len(f.Fields) > 2 {
		before[2] = f.Fields[2].Value
	}
	f.Behind = func(f *kit.Form) []string {
		for _, x := range []struct {
			name   string
			before string
		}{{"tags", before[2]}, {"metadata", before[0]}} {
			if c, err := parsePairs(nil, f.Get(x.name), x.before); err == nil && !c.Empty() {
				return words([]string{x.name}, picks, pairsOf(c.Set, c.Drop)...)
			}
		}
		return words([]string{"metadata"}, picks[:1])
	}
	f.Submit = func(f *kit.Form) tea.Cmd {
		change, err := parsePairs(strings.ToLower, f.Get("metadata"), before[0])
		tags, bad := parsePairs(nil, f.Get("tags"), before[2])
		if err = errors.Join(err, bad); err != nil {
			f.Err = err
			return nil
		}
		if typ := f.Get("type"); typ != before[1] {
			change.ContentType = typ
		}
		return s.count("Change "+pickText(picks), picks, false, func(all handle.Count) tea.Cmd {
			if change.Empty() && tags.Empty() {
				return kit.Cmd(doneMsg{say: "Nothing was to be changed."})
			}
			begin := func() (*browse.Act, error) { return s.Service.Change(picks, change, tags, all) }
			if all.All() <= 1 {
				return s.start(f, begin, parents(picks...))
			}
			ask := &kit.Form{Title: f.Title, Does: "change them", Warning: []string{"This changes " + countText(all) +
				", each of them in the same way."},
				Notes: []string{"A bucket's own tags are something else, and stay."}}
			touches(ask, all.All())
			ask.Submit = func(ask *kit.Form) tea.Cmd {
				if !told(ask, all.All()) {
					return nil
				}
				return s.start(ask, begin, parents(picks...))
			}
			return s.form(ask)
		})
	}
	return s.form(f)
}

// own are the metadata that are not Lumtra's.
func own(metadata map[string]string) map[string]string {
	kept := map[string]string{}
	for name, value := range metadata {
		if !strings.HasPrefix(name, "lumtra-") && !strings.HasPrefix(name, "lumtra_") {
			kept[name] = value
		}
	}
	return kept
}

// patternSheet marks all that match a pattern, once they were shown.
func (s *Screen) patternSheet() tea.Cmd {
	in := s.folder()
	const most = 5000
	f := &kit.Form{Title: "Mark by pattern in " + in.String(), Does: "find",
		Notes: []string{"* and ? stay within one part of a name; **/ in front looks in all folders below. Nothing " +
			"is done before you have seen what matches."},
		Fields: []*kit.Field{{Name: "pattern", Hint: "**/*.tmp"}}}
	f.Submit = func(f *kit.Form) tea.Cmd {
		pattern := f.Get("pattern")
		return try(f, "looking", func() (tea.Msg, error) {
			found, n, err := s.Service.Matching(s.ctx, in, pattern, most)
			if err != nil {
				return nil, err
			}
			if len(found) == 0 {
				return nil, fmt.Errorf("nothing in %s matches %q", in, pattern)
			}
			return sheetMsg{s.matches(in, pattern, found, n)}, nil
		})
	}
	return s.form(f)
}

// matches shows what a pattern found; enter marks it.
func (s *Screen) matches(in workspace.At, pattern string, found []object.Entry, n handle.Count) sheet {
	x := &textSheet{s: s, title: fmt.Sprintf("%q matches %s", pattern, countText(n)),
		more: []kit.Key{{Press: "enter", Does: "mark them"}}}
	x.body = func(width int) []string {
		var lines []string
		for _, e := range found {
			lines = append(lines,
				s.Theme.Paper.Render(kit.Fit(kit.Name(strings.TrimPrefix(e.Key, in.Key), width-12),
					width-12))+s.Theme.Ash.Render(kit.FitLeft(kit.Size(e.Size), 12)))
		}
		if int64(len(found)) < n.Objects {
			lines = append(lines,
				s.Theme.Flare.Render(fmt.Sprintf("Only the first %s can be marked.", kit.Count(int64(len(found))))))
		}
		return lines
	}
	x.on = func(key string, _ *textSheet) tea.Cmd {
		if key != "enter" {
			return nil
		}
		s.marks = s.marks[:0]
		for _, e := range found {
			s.marks = append(s.marks, workspace.At{Endpoint: in.Endpoint, Bucket: in.Bucket, Key: e.Key})
		}
		s.sheet = nil
		return kit.Cmd(kit.Say{Text: object.Count(int64(len(found)), "object") + " marked."})
	}
	return x
}

func (s *Screen) undeleteSheet() tea.Cmd {
	picks := s.picks()
	f := &kit.Form{Title: "Undelete in " + pickText(picks), Does: "bring back",
		Notes: []string{"Every object here whose newest state is a deletion becomes what it was before."}}
	f.Behind = func(*kit.Form) []string { return words([]string{"undelete"}, picks) }
	f.Submit = func(f *kit.Form) tea.Cmd {
		return s.start(f, func() (*browse.Act, error) { return s.Service.Undelete(picks) },
			append(parents(picks...), picks...))
	}
	if e := s.entry(); len(picks) == 1 && e.Kind == object.Marker || len(picks) == 1 && e.Removed {
		return f.Submit(f) // one that is seen to be gone: nothing is lost by bringing it back
	}
	return s.form(f)
}

// linkSheet makes a signed link and shows it once.
func (s *Screen) linkSheet() tea.Cmd {
	at, _ := s.at()
	version := ""
	if v := s.version(); v != nil && s.pane.bead > 0 {
		version = v.Version
	}
	f := &kit.Form{Title: "Link to " + at.String(), Does: "make the link",
		Notes: []string{"Whoever has the link can read this object, and nothing else, until it expires. It cannot " +
			"be taken back."},
		Fields: []*kit.Field{{Name: "good for", Value: "24h", Hint: "30m, 24h, 7d"}}}
	f.Behind = func(f *kit.Form) []string { return []string{"link", ref(at), "--valid", f.Get("good for")} }
	f.Submit = func(f *kit.Form) tea.Cmd {
		valid, err := span(f.Get("good for"))
		if err != nil {
			f.Err = err
			return nil
		}
		return try(f, "signing", func() (tea.Msg, error) {
			link, err := s.Service.Link(s.ctx, at, version, valid)
			if err != nil {
				return nil, err
			}
			until := s.Now().Add(valid).Local().Format("2006-01-02 15:04 MST")
			x := &textSheet{s: s, title: "Good until " + until,
				more: []kit.Key{{Press: "y", Does: "copy: to the clipboard"}}}
			x.body = func(width int) []string {
				var lines []string
				for _, part := range strings.Split(hardwrap(link, width), "\n") {
					lines = append(lines, s.Theme.Paper.Render(part))
				}
				return lines
			}
			x.on = func(key string, _ *textSheet) tea.Cmd {
				if key == "y" {
					return tea.Batch(tea.SetClipboard(link),
						kit.Cmd(kit.Say{Text: "The link is in the clipboard, if the terminal lets it in."}))
				}
				return nil
			}
			return sheetMsg{x}, nil
		})
	}
	return s.form(f)
}

// span reads a length of time, days included.
func span(text string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if n, err := strconv.Atoi(strings.TrimSpace(days)); err == nil && n > 0 {
			return time.Duration(n) * 24 * time.Hour, nil
		}
	}
	d, err := time.ParseDuration(strings.ReplaceAll(text, " ", ""))
	if err != nil || d <= 0 {
		return 0, fmt.Errorf("%q is no length of time; it reads like 30m, 24h or 7d", object.Display(text))
	}
	return d, nil
}

// bringBack makes the chosen version the newest again.
func (s *Screen) bringBack() tea.Cmd {
	at, _ := s.at()
	v := s.version()
	switch {
	case v == nil || s.pane.bead == 0 && v.Kind != object.Marker:
		return kit.Cmd(kit.Say{Text: "This is the newest already; left goes to older ones."})
	case v.Kind == object.Marker:
		return kit.Cmd(kit.Say{Text: "A delete marker has no content; left goes to what lay under it."})
	}
	version := v.Version
	f := &kit.Form{Title: "Bring back an older state of " + at.String(), Does: "bring it back",
		Notes: []string{fmt.Sprintf("What it was on %s, %s, becomes the newest version; the one that is newest now "+
			"stays behind it.", v.Modified.Local().Format("2006-01-02 15:04:05"), kit.Size(v.Size))}}
	f.Behind = func(*kit.Form) []string { return []string{"versions", "back", ref(at), version} }
	f.Submit = func(f *kit.Form) tea.Cmd {
		return try(f, "bringing it back", func() (tea.Msg, error) {
			return doneMsg{say: "Brought back as the newest version; nothing was lost by it.", again: parents(at)},
				s.Service.BringBack(s.ctx, at, version)
		})
	}
	return s.form(f)
}

// removeVersionSheet asks before removing one version for good.
func (s *Screen) removeVersionSheet() tea.Cmd {
	at, _ := s.at()
	v := s.version()
	if v == nil {
		return nil
	}
	one := *v
	what := "this version of " + kit.Size(one.Size)
	if one.Kind == object.Marker {
		what = "this delete marker, which brings back what lies under it"
	}
	f := &kit.Form{Title: "Delete permanently: a version of " + at.String(), Does: "delete",
		Warning: []string{"This deletes " + what + "."}}
	f.Behind = func(*kit.Form) []string {
		return append([]string{"versions", "delete", ref(at), one.Version}, number(1)...)
	}
	return s.typed(f, 1, func(int64) (*browse.Act, error) { return s.Service.RemoveVersion(at, one) }, parents(at))
}
