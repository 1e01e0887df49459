package places

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/service/browse"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
)

func hardwrap(text string, width int) string { return ansi.Hardwrap(text, max(width, 8), true) }

// fetchSheet asks for a file to fetch an object or a version into.
func (s *Screen) fetchSheet() tea.Cmd {
	at, _ := s.at()
	version := ""
	if v := s.version(); v != nil && s.pane.bead > 0 {
		version = v.Version
	}
	home, _ := os.Getwd()
	name := strings.NewReplacer("/", "_", "\\", "_").Replace(object.Display(object.Base(at.Key)))
	f := &kit.Form{Title: "Fetch " + at.String(), Does: "fetch",
		Notes:  []string{"Into a file that is not there yet; it is held against the store's checksum as it comes."},
		Fields: []*kit.Field{{Name: "file", Value: filepath.Join(home, name)}}}
	f.Behind = func(f *kit.Form) []string {
		if version != "" {
			return nil
		}
		return []string{"get", ref(at), f.Get("file")}
	}
	f.Submit = func(f *kit.Form) tea.Cmd {
		path := f.Get("file")
		return try(f, "fetching", func() (tea.Msg, error) {
			n, err := s.Service.Fetch(s.ctx, at, version, path)
			return doneMsg{say: fmt.Sprintf("Fetched %s into %s.", kit.Size(n), object.Display(path))}, err
		})
	}
	return s.form(f)
}

// toTray puts what is marked, or what is under the cursor, into the tray.
func (s *Screen) toTray() tea.Cmd {
	if err := s.Service.Toggle(s.picks()); err != nil {
		return kit.Cmd(kit.Say{Text: oneLine(err), Bad: true})
	}
	s.marks = nil
	s.tray, _ = s.Service.Tray()
	return kit.Cmd(kit.Say{Text: fmt.Sprintf("%s in the tray; d drops them on a folder.",
		object.Count(int64(len(s.tray)), "thing"))})
}

// dropTray makes a job of the tray and goes to its plan.
func (s *Screen) dropTray() tea.Cmd {
	to := s.folder()
	name, err := s.Service.Drop(to)
	if err != nil {
		return kit.Cmd(kit.Say{Text: oneLine(err), Bad: true})
	}
	s.tray = nil
	return s.brought(name)
}

// traySheet shows what is in the tray.
func (s *Screen) traySheet() tea.Cmd {
	x := &textSheet{s: s, title: "The tray"}
	if len(s.tray) > 0 {
		x.more = []kit.Key{{Press: "x", Does: "empty it"}}
	}
	x.body = func(width int) []string {
		if len(s.tray) == 0 {
			return []string{s.Theme.Ash.Render("Nothing: t puts things in, from any place.")}
		}
		var lines []string
		for _, at := range s.tray {
			lines = append(lines, s.Theme.Tide.Render("▽ ")+s.Theme.Paper.Render(kit.Name(at.String(), width-2)))
		}
		return append(lines, "", s.Theme.Ash.Render("d on a folder makes a plan that copies them there."))
	}
	x.on = func(key string, _ *textSheet) tea.Cmd {
		if key == "x" {
			if err := s.Service.SetTray(nil); err != nil {
				return kit.Cmd(failedMsg{err})
			}
			s.tray, x.more = nil, nil
		}
		return nil
	}
	s.sheet = x
	return nil
}

// newSheet makes what belongs where the cursor is: an endpoint, a bucket or a
// folder.
func (s *Screen) newSheet() tea.Cmd {
	at, ok := s.at()
	switch {
	case s.here.in == s.root || !ok && at == (workspace.At{}):
		if ok && s.hasBuckets(at.Endpoint) {
			return s.newChoice(at.Endpoint)
		}
		return s.addEndpoint()
	case at.Bucket == "" && s.hasBuckets(at.Endpoint), at.Key == "" && at.Bucket != "":
		if s.entry().Kind == object.Prefix && at.Bucket != "" && s.here.in.child(max(s.here.row, 0)) != nil {
			return s.folderSheet(at)
		}
		return s.bucketSheet(at.Endpoint)
	}
	return s.folderSheet(s.folder())
}

// newChoice asks, on an endpoint, which of the two is meant.
func (s *Screen) newChoice(endpoint string) tea.Cmd {
	what := []string{"another endpoint", "a " + s.bucketWord(endpoint) + " at " + endpoint}
	f := &kit.Form{Title: "New", Does: "go on", Fields: []*kit.Field{{Name: "what", Value: what[0], Choices: what}}}
	f.Submit = func(f *kit.Form) tea.Cmd {
		if f.Get("what") == what[1] {
			return s.bucketSheet(endpoint)
		}
		return s.addEndpoint()
	}
	return s.form(f)
}

func (s *Screen) bucketSheet(endpoint string) tea.Cmd {
	f := &kit.Form{Title: "A " + s.bucketWord(endpoint) + " at " + endpoint, Does: "make it",
		Fields: []*kit.Field{{Name: "name", Hint: "lower-case letters, digits, hyphens"},
			{Name: "versions", Value: "as the store has it", Choices: []string{"as the store has it", "kept"}}}}
	f.Behind = func(f *kit.Form) []string { return []string{"bucket", "make", endpoint + "/" + f.Get("name")} }
	f.Fields[0].HiddenIf = signedAddress
	f.Submit = func(f *kit.Form) tea.Cmd {
		if isAddress(f.Get("name")) {
			return s.pastedEndpoint(f, f.Get("name"))
		}
		name, keep := f.Get("name"), f.Get("versions") == "kept"
		return try(f, "making it", func() (tea.Msg, error) {
			if err := s.Service.MakeBucket(s.ctx, endpoint, name); err != nil {
				return nil, err
			}
			say := "Made " + name + "."
			if keep {
				is, err := s.Service.SetVersioning(s.ctx, workspace.At{Endpoint: endpoint, Bucket: name}, true)
				if err != nil {
					return nil, fmt.Errorf("it is made, but versioning is not on: %w", err)
				}
				say = fmt.Sprintf("Made %s; the store says versioning is %s.", name, is)
			}
			return doneMsg{say: say, again: []workspace.At{{Endpoint: endpoint}}}, nil
		})
	}
	return s.form(f)
}

func (s *Screen) folderSheet(in workspace.At) tea.Cmd {
	if f, ok := s.facts[in]; ok && f.Lacks[place.Folders] != "" {
		return kit.Cmd(kit.Say{Text: "Not here: " + f.Lacks[place.Folders] + "."})
	}
	f := &kit.Form{Title: "A folder in " + in.String(), Does: "make it",
		Fields: []*kit.Field{{Name: "name", Hint: "a name; an address makes an endpoint", HiddenIf: signedAddress}}}
	f.Behind = func(f *kit.Form) []string {
		return []string{"folder", "make", ref(in) + "/" + strings.Trim(f.Get("name"), "/") + "/"}
	}
	f.Submit = func(f *kit.Form) tea.Cmd {
		if isAddress(f.Get("name")) {
			return s.pastedEndpoint(f, f.Get("name"))
		}
		made := in
		made.Key += strings.Trim(f.Get("name"), "/") + "/"
		return try(f, "making it", func() (tea.Msg, error) {
			return doneMsg{say: "Made " + made.String() + ".", again: []workspace.At{in}},
				s.Service.MakeFolder(s.ctx, made)
		})
	}
	return s.form(f)
}

// versioningSheet switches versioning and says what the store says afterwards.
func (s *Screen) versioningSheet() tea.Cmd {
	at, _ := s.at()
	f := &kit.Form{Title: "Versioning of " + at.String(), Does: "switch it",
		Fields: []*kit.Field{{Name: "versions", Value: "kept", Choices: []string{"kept", "no new ones"}}}}
	if known, ok := s.facts[at]; ok && known.Versioning != "" {
		f.Notes = []string{"The store says it is " + string(known.Versioning) + " now."}
	}
	f.Behind = func(f *kit.Form) []string {
		return []string{"bucket", "versioning", ref(at), map[bool]string{true: "on",
			false: "off"}[f.Get("versions") == "kept"]}
	}
	f.Submit = func(f *kit.Form) tea.Cmd {
		on := f.Get("versions") == "kept"
		return try(f, "switching, and asking whether it took", func() (tea.Msg, error) {
			is, err := s.Service.SetVersioning(s.ctx, at, on)
			return doneMsg{say: fmt.Sprintf("Read back from the store: versioning of %s is %s.", at, is)}, err
		})
	}
	return s.form(f)
}

// uploadSheet lists unfinished uploads; x removes them.
func (s *Screen) uploadSheet() tea.Cmd {
	in := s.folder()
	x := &textSheet{s: s, title: "Unfinished uploads in " + in.String()}
	var found []browse.UnfinishedUpload
	fetch := func() tea.Msg {
		all, err := s.Service.Uploads(s.ctx, in)
		if err != nil {
			return failedMsg{err}
		}
		return bodyMsg{func(width int) []string {
			if found = all; len(all) > 0 {
				x.more = []kit.Key{{Press: "x", Does: "delete all shown"}}
			} else {
				return []string{s.Theme.Tide.Render("None: nothing half-sent lies here.")}
			}
			var lines []string
			var sum int64
			for _, u := range all {
				age := "age unknown"
				if !u.Begun.IsZero() {
					age = kit.Span(s.Now().Sub(u.Begun)) + " old"
				}
				room := max(width-40, 8)
				lines = append(lines, s.Theme.Paper.Render(kit.Fit(kit.Name(u.Key, room), room))+
					s.Theme.Ash.Render(fmt.Sprintf(" %11s %9s  %s", object.Count(int64(u.Parts), "part"),
						kit.Size(u.Bytes),
						age)))
				sum += u.Bytes
			}
			return append(lines, "",
				s.Theme.Lamp.Render(fmt.Sprintf("%s, %s: nobody sees them and somebody pays.",
					object.Count(int64(len(all)), "unfinished upload"), kit.Size(sum))))
		}}
	}
	x.on = func(key string, _ *textSheet) tea.Cmd {
		if key != "x" || len(found) == 0 {
			return nil
		}
		var sum int64
		for _, u := range found {
			sum += u.Bytes
		}
		f := &kit.Form{Title: "Delete unfinished uploads in " + in.String(), Does: "delete",
			Warning: []string{fmt.Sprintf("This deletes %s with %s. A run that still sends to one of them has to "+
				"send again.", object.Count(int64(len(found)), "unfinished upload"), kit.Size(sum))}}
		f.Behind = func(*kit.Form) []string {
			return words([]string{"uploads", "delete"}, []workspace.At{in}, number(int64(len(found)))...)
		}
		return s.typed(f, int64(len(found)),
			func(int64) (*browse.Act, error) { return s.Service.AbortUploads(in, found) }, nil)
	}
	s.sheet = x
	return fetch
}

// recordSheet shows what was removed or replaced by hand.
func (s *Screen) recordSheet() tea.Cmd {
	s.sheet = &textSheet{s: s, title: "What was deleted or changed by hand"}
	return func() tea.Msg {
		acts, err := s.Service.Acts(context.WithoutCancel(s.ctx), 200)
		if err != nil {
			return failedMsg{err}
		}
		return bodyMsg{func(width int) []string {
			if len(acts) == 0 {
				return []string{s.Theme.Ash.Render("Nothing yet.")}
			}
			var lines []string
			for _, a := range acts {
				lines = append(lines, s.Theme.Ash.Render(a.At.Local().Format("2006-01-02 15:04:05")+"  "+a.Who)+"  "+
					s.Theme.Paper.Render(object.Display(a.What)))
				text := fmt.Sprintf("    %s · %s, %s", a.Place, object.Count(a.Objects, "object"), kit.Size(a.Bytes))
				if a.Versions > 0 {
					text += ", " + object.Count(a.Versions, "version")
				}
				lines = append(lines, s.Theme.Paper.Render(kit.Fit(object.Display(text), width)))
				if a.Outcome != "done" || a.Failed > 0 {
					lines = append(lines,
						s.Theme.Flare.Render(kit.Fit(fmt.Sprintf("    %s, %d failed", object.Display(a.Outcome),
							a.Failed), width)))
				}
			}
			return lines
		}}
	}
}
