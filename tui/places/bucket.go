package places

import (
	"errors"
	"fmt"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/handle"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
)

// publicChoices are what anybody may do, in the words of a form.
var publicChoices = map[place.Public]string{place.PublicNo: "no: only who signs and is let",
	place.PublicRead: "read: objects whose names they know", place.PublicList: "list: and read every object"}

// bucketFacts asks for what belongs to a bucket and not to its objects: its tags, and who may
// reach it.
func (s *Screen) bucketFacts() tea.Cmd {
	at, _ := s.at()
	s.sheet = &textSheet{s: s, title: "The " + s.bucketWord(at.Endpoint) + " " + at.String()}
	return func() tea.Msg {
		tags, err := s.Service.BucketTags(s.ctx, at)
		if err != nil && place.KindOf(err) != place.Denied {
			return failedMsg{err}
		}
		access, bad := s.Service.Access(s.ctx, at)
		if bad != nil {
			return failedMsg{bad}
		}
		return sheetMsg{&formSheet{s, s.bucketForm(at, tags, access, err).Init()}}
	}
}

// bucketForm changes them. noTags is why the tags could not be read, if that is so.
func (s *Screen) bucketForm(at workspace.At, tags map[string]string, access place.Access, noTags error) *kit.Form {
	f := &kit.Form{Title: "The " + s.bucketWord(at.Endpoint) + " " + at.String(), Does: "change it",
		Notes: []string{"Who may reach it: " + access.Public.Words() + "."}}
	for _, w := range access.Words {
		f.Notes = append(f.Notes, "· "+object.Display(w))
	}
	before := pairs(tags)
	if noTags == nil {
		f.Fields = append(f.Fields, &kit.Field{Name: "tags", Value: before, Hint: "owner = archive; season = spring"})
		f.Notes = append(f.Notes, `Its own tags: name = value sets, with semicolons between; what is taken out goes.`)
	}
	was, known := publicChoices[access.Public]
	choices := []string{publicChoices[place.PublicNo], publicChoices[place.PublicRead], publicChoices[place.PublicList]}
	if !known {
		was = "as it is: anybody may write"
		choices = append(choices, was)
	}
	f.Fields = append(f.Fields, &kit.Field{Name: "anybody may", Value: was, Choices: choices})
	wanted := func(f *kit.Form) (change place.MetadataChange, public place.Public, err error) {
		if noTags == nil {
			change, err = parsePairs(nil, f.Get("tags"), before)
		}
		public = access.Public
		for p, text := range publicChoices {
			if text == f.Get("anybody may") {
				public = p
			}
		}
		return change, public, err
	}
	f.Behind = func(f *kit.Form) []string {
		change, public, err := wanted(f)
		switch {
		case err == nil && !change.Empty():
			return append([]string{"bucket", "tags", ref(at)}, pairsOf(change.Set, change.Drop)...)
		case public != access.Public:
			return []string{"bucket", "access", ref(at), "--public", string(public)}
		}
		return []string{"bucket", "access", ref(at)}
	}
	f.Submit = func(f *kit.Form) tea.Cmd {
		change, public, err := wanted(f)
		switch {
		case err != nil:
			f.Err = err
			return nil
		case change.Empty() && public == access.Public:
			f.Err = errors.New("nothing was changed; esc leaves it")
			return nil
		case public != access.Public && public != place.PublicNo:
			return s.count("Open "+at.String(), []workspace.At{at}, false, func(all handle.Count) tea.Cmd {
				return s.form(s.openForm(at, change, public, all))
			})
		}
		return s.changeBucket(f, at, change, public, public != access.Public)
	}
	return f
}

// openForm asks before a bucket is opened to everybody.
func (s *Screen) openForm(at workspace.At, change place.MetadataChange, public place.Public,
	all handle.Count) *kit.Form {
	f := &kit.Form{Title: "Open " + at.String() + " to everybody", Does: "open it",
		Warning: []string{fmt.Sprintf("%s holds %s: from then on %s.", at, countText(all), public.Words()),
			fmt.Sprintf("Type the number of things in it, %d, to go ahead.", all.All())},
		Fields: []*kit.Field{{Name: "number", Hint: "the number above"}}}
	f.Behind = func(*kit.Form) []string {
		return append([]string{"bucket", "access", ref(at), "--public", string(public)}, number(all.All())...)
	}
	f.Submit = func(f *kit.Form) tea.Cmd {
		if !numbered(f, all.All()) {
			f.Err = fmt.Errorf("this is not the number: %d things are in it", all.All())
			return nil
		}
		return s.changeBucket(f, at, change, public, true)
	}
	return f
}

// changeBucket changes tags and access, and says what was read back.
func (s *Screen) changeBucket(f *kit.Form, at workspace.At, change place.MetadataChange, public place.Public,
	access bool) tea.Cmd {
	return try(f, "changing it, and asking whether it took", func() (tea.Msg, error) {
		say := ""
		if !change.Empty() {
			tags, err := s.Service.ChangeBucketTags(s.ctx, at, change)
			if err != nil {
				return nil, err
			}
			say = fmt.Sprintf("Read back from the store: %s has %s. ", at, object.Count(int64(len(tags)), "tag"))
		}
		if access {
			is, err := s.Service.SetPublic(s.ctx, at, public)
			if err != nil {
				return nil, err
			}
			say += fmt.Sprintf("Read back from the store: %s.", is.Public.Words())
		}
		return doneMsg{say: say}, nil
	})
}

// addSheet brings files of this machine here, without an endpoint for them, as a plan.
func (s *Screen) addSheet() tea.Cmd {
	to := s.folder()
	f := &kit.Form{Title: "Bring files of this machine to " + to.String(), Does: "make the plan",
		Notes: []string{"A file or a folder, by its path; it lands here under its own name. Nothing is sent before " +
			"you have seen the plan."},
		Fields: []*kit.Field{{Name: "path", Hint: "/home/ada/takes, or relative to where Lumtra was started"}}}
	f.Behind = func(f *kit.Form) []string {
		if f.Get("path") == "" {
			return nil
		}
		return []string{"put", f.Get("path"), ref(to)}
	}
	f.Submit = func(f *kit.Form) tea.Cmd {
		path := f.Get("path")
		return try(f, "looking", func() (tea.Msg, error) {
			if path == "" {
				return nil, errors.New("a path is wanted")
			}
			from, err := s.Service.LocalThere(path)
			if err != nil {
				return nil, err
			}
			name, err := s.Service.Bring(workspace.FromTray, &workspace.Drop{Items: []workspace.At{from}, Target: to})
			return broughtMsg{name}, err
		})
	}
	return s.form(f)
}

// broughtMsg tells of a job that brings things somewhere.
type broughtMsg struct{ job string }

// brought goes to the plan of a job that brings things somewhere.
func (s *Screen) brought(job string) tea.Cmd {
	s.sheet = nil
	return tea.Sequence(kit.Cmd(kit.Refresh{}), kit.Cmd(kit.Open{View: kit.Plan, Job: job}),
		kit.Cmd(kit.PlanAnew{Job: job}))
}
