package places

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"lumtra/core/object"
	"lumtra/core/preview"
	"lumtra/core/probe"
	"lumtra/service/browse"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
)

// facts are what is known of one thing, or why nothing is.
type facts struct {
	browse.Description
	err error
}

type factsMsg struct {
	at    workspace.At
	facts facts
}

// pane is what stands beside the tree: the thing under the cursor.
type pane struct {
	focused bool // keys walk along the versions
	bead    int  // 0 is the newest
	compare bool // the chosen version is held against the current one

	older   facts // of the chosen version, once they are there
	olderOf string

	look    *preview.Preview
	of      look // what it is a preview of
	err     error
	fetched bool
	scroll  int
	large   bool // the preview has the whole pane
}

// look names what is previewed.
type look struct {
	at      workspace.At
	version string
	width   int
	height  int
}

type previewMsg struct {
	of   look
	look *preview.Preview
	err  error
}

func (p *pane) leave() { *p = pane{} }

// take keeps the bead on the string when facts come anew.
func (p *pane) take(msg factsMsg) {
	p.bead = min(p.bead, max(len(msg.facts.Versions)-1, 0))
}

func (p *pane) show(msg previewMsg) {
	if msg.of == p.of {
		p.look, p.err, p.fetched = msg.look, msg.err, true
	}
}

// ask fetches the facts of what the cursor rests on, and a preview of it.
func (s *Screen) ask() tea.Cmd {
	at, ok := s.at()
	if !ok {
		return nil
	}
	if f, known := s.facts[at]; known {
		if f.err == nil && s.entry().Kind != object.Prefix {
			return s.preview()
		}
		return nil
	}
	return tea.Batch(s.describe(at), s.preview())
}

// describe fetches the facts of what the cursor is on.
func (s *Screen) describe(at workspace.At) tea.Cmd {
	folder := s.entry().Kind == object.Prefix
	return func() tea.Msg {
		var f facts
		if folder {
			f.Description,
				f.err = s.Service.DescribePlace(s.ctx, workspace.At{Endpoint: at.Endpoint, Bucket: at.Bucket})
		} else {
			f.Description, f.err = s.Service.Describe(s.ctx, at, "")
		}
		return factsMsg{at, f}
	}
}

// previewed is the object under the cursor, or the version of it that is chosen: its Version is ""
// for the newest.
func (s *Screen) previewed() (workspace.At, object.Entry, bool) {
	at, ok := s.at()
	e := s.entry()
	if !ok || e.Kind != object.Object && e.Kind != object.Marker {
		return at, e, false
	}
	v := s.version()
	if v != nil {
		e = *v
	}
	if v == nil || s.pane.bead == 0 {
		e.Version = ""
	}
	return at, e, e.Kind == object.Object && !e.Removed
}

// preview fetches something to look at of the object under the cursor, or of
// the version that is chosen.
func (s *Screen) preview() tea.Cmd {
	at, e, ok := s.previewed()
	if !ok {
		return nil
	}
	of := look{at, e.Version, max(s.width, 20), s.room()}
	if s.pane.of == of {
		return nil
	}
	s.pane.of, s.pane.fetched = of, false
	look := func() tea.Msg {
		p, err := s.Service.Preview(s.ctx, at, e, of.width, of.height)
		return previewMsg{of, p, err}
	}
	if of.version == "" {
		return look
	}
	return tea.Batch(look, func() tea.Msg {
		f, err := s.Service.Describe(s.ctx, at, of.version)
		return olderMsg{of, facts{f, err}}
	})
}

// olderMsg brings the facts of an older version.
type olderMsg struct {
	of    look
	facts facts
}

// room is how many lines a picture may take.
func (s *Screen) room() int {
	if s.pane.large {
		return max(s.height-5, 4)
	}
	return max(min(s.height/2, s.height-18), 4)
}

// version is the chosen version of the object under the cursor; nil where none
// are known.
func (s *Screen) version() *object.Entry {
	at, _ := s.at()
	f, ok := s.facts[at]
	if !ok || s.pane.bead >= len(f.Versions) {
		return nil
	}
	return &f.Versions[s.pane.bead]
}

// report is the last test of an endpoint. It is asked for a few times a second
// while drawn, so it is kept for some seconds.
func (s *Screen) report(name string) *probe.Report {
	if r, ok := s.reports[name]; ok {
		return r
	}
	r := s.Service.Report(name)
	s.reports[name] = r
	return r
}

// drawPane draws what stands beside the tree.
func (s *Screen) drawPane(width, height int) string {
	s.width, s.height = width, height
	if s.sheet != nil {
		return kit.Lines(s.sheet.lines(width, height), width, height)
	}
	at, ok := s.at()
	l := &liner{s: s, width: width}
	if !ok {
		return kit.Lines(nil, width, height)
	}
	t := s.Theme
	l.lines = append(l.lines, t.Strong.Render(kit.Name(nonEmpty(last(at)), width)), "")
	f, known := s.facts[at]
	if f.err != nil {
		l.text(t.Flare.Render, kit.Reason(f.err))
		l.gap()
	}
	e := s.entry()
	switch {
	case s.here.in.level == nil:
		l.endpointFacts(at.Endpoint)
	case e.Kind == object.Special:
		l.fact("kind", "a link or special file: never copied")
	case e.Kind == object.Prefix:
		if x := s.sums.of(at); s.sums.has(at) && !x.Newest.IsZero() {
			l.fact("below", object.Count(x.Objects, "object")+", "+kit.Size(x.Bytes))
			l.fact("newest", x.Newest.Local().Format("2006-01-02 15:04:05"))
		}
	}
	switch {
	case !known:
		l.text(t.Ash.Render, strings.TrimSpace("looking … "+kit.WaitingFor(at.Endpoint, s.asked, s.Now(),
			"going elsewhere ends it")))
	case f.err == nil && e.Kind == object.Prefix:
		l.abilities(&f)
	case f.err == nil && (e.Kind == object.Object || e.Kind == object.Marker):
		s.objectLines(l, &f, height)
	}
	return kit.Lines(l.lines, width, height)
}

// objectLines draw an object: its string of versions, facts, preview.
func (s *Screen) objectLines(l *liner, f *facts, height int) {
	t := s.Theme
	if s.pane.large {
		s.previewLines(l, height)
		return
	}
	if len(f.Versions) > 1 || len(f.Versions) == 1 && f.Versions[0].Version != "" && f.Versions[0].Version != "null" {
		l.lines = append(l.lines, s.beads(f.Versions, l.width)...)
		l.gap()
	}
	e := f.Entry
	if v := s.version(); v != nil && (s.pane.bead > 0 || v.Kind == object.Marker) {
		if s.pane.compare {
			s.compareLines(l, *v, f.Versions[0])
			return
		}
		e = *v
	}
	tags := f.Tags
	if e.Version != f.Entry.Version { // an older one has facts of its own
		if tags = nil; s.pane.olderOf == e.Version && s.pane.older.err == nil {
			e, tags = s.pane.older.Entry, s.pane.older.Tags
		}
	}
	entryFacts(l, e)
	if h := f.Holds; h != nil && e.Version == f.Entry.Version {
		l.fact("holds", fmt.Sprintf("%s, %s", object.Count(h.Members, "member"), kit.Size(h.Bytes)))
		if h.Dropped > 0 {
			l.fact("dropped", fmt.Sprintf("%s, %s: still takes room", object.Count(h.Dropped, "member"),
				kit.Size(h.Dead)))
		}
	}
	if len(tags) > 0 {
		l.gap()
		for _, name := range sortedNames(tags) {
			l.fact("# "+name, tags[name])
		}
	}
	if f.Holds != nil {
		l.gap()
		l.text(t.Ash.Render, "Enter opens it: what is in it is read one by one, without fetching the whole.")
		return
	}
	if e.Kind == object.Object {
		l.gap()
		l.lines = append(l.lines, t.Rule.Render(strings.Repeat("─", l.width)))
		s.previewLines(l, height)
	}
}

func sortedNames(m map[string]string) []string {
	var names []string
	for name := range m {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

func entryFacts(l *liner, e object.Entry) {
	const exact = "2006-01-02 15:04:05 MST"
	if e.Kind == object.Marker {
		l.fact("deleted", e.Modified.Local().Format(exact))
		l.text(l.s.Theme.Paper.Render,
			"A delete marker: the object is hidden, its older versions are still there. U brings it back.")
		return
	}
	if e.Removed {
		l.text(l.s.Theme.Flare.Render, "Deleted, and kept for a while: U brings it back.")
	}
	l.fact("size", fmt.Sprintf("%s (%s bytes)", kit.Size(e.Size), kit.Count(e.Size)))
	l.fact("modified", e.Modified.Local().Format(exact))
	if !e.Original.IsZero() {
		l.fact("original time", e.Original.Local().Format(exact))
	}
	if e.Mode != 0 {
		l.fact("permissions", e.Mode.String())
	}
	for _, x := range [][2]string{{"type", e.ContentType}, {"class", e.Class}, {"version", e.Version},
		{"ETag", e.ETag}} {
		if x[1] != "" {
			l.fact(x[0], x[1])
		}
	}
	switch e.Archive {
	case object.Archived:
		l.fact("reading", "not before a restore: w asks for one")
	case object.Restoring:
		l.fact("reading", "being restored …")
	case object.Restored:
		l.fact("reading", "restored until "+e.RestoredUntil.Local().Format("2006-01-02 15:04"))
	}
	for _, sum := range e.Sums {
		l.fact(sum.Kind.String(), sum.Hex())
	}
	shown := own(e.Metadata)
	for _, name := range sortedNames(shown) {
		l.fact("· "+name, shown[name])
	}
}

func (s *Screen) previewLines(l *liner, height int) {
	t, p := s.Theme, s.pane
	switch {
	case !p.fetched:
		l.lines = append(l.lines, t.Ash.Render("preview …"))
		return
	case p.err != nil:
		l.text(t.Flare.Render, kit.Reason(p.err))
		return
	case p.look == nil:
		return
	}
	for _, f := range p.look.Facts {
		l.fact(f.Name, f.Value)
	}
	room := max(height-len(l.lines), 1)
	switch p.look.Kind {
	case preview.Empty:
		l.lines = append(l.lines, t.Ash.Render("no content"))
	case preview.Picture:
		l.lines = append(l.lines, pixels(p.look.Pixels)...)
	case preview.Table:
		l.lines = append(l.lines, s.table(p.look, l.width, room)...)
	default:
		from := min(p.scroll, max(len(p.look.Lines)-room+1, 0))
		for _, line := range p.look.Lines[from:min(len(p.look.Lines), from+room)] {
			l.lines = append(l.lines, t.Paper.Render(kit.Fit(object.Display(line), l.width)))
		}
	}
	if p.look.Cut && len(l.lines) < height {
		l.lines = append(l.lines, t.Ash.Render("… there is more"))
	}
}

// table draws rows under their names, columns as wide as what they show needs.
func (s *Screen) table(p *preview.Preview, width, room int) []string {
	t := s.Theme
	from := min(s.pane.scroll, max(len(p.Rows)-room+1, 0))
	rows := p.Rows[from:min(len(p.Rows), from+max(room-1, 1))]
	widths := make([]int, len(p.Header))
	for i, name := range p.Header {
		widths[i] = min(ansi.StringWidth(object.Display(name)), 28)
		for _, row := range rows {
			if i < len(row) {
				widths[i] = min(max(widths[i], ansi.StringWidth(object.Display(row[i]))), 28)
			}
		}
	}
	draw := func(cells []string, style lipgloss.Style) string {
		var b strings.Builder
		for i, w := range widths {
			value := ""
			if i < len(cells) {
				value = cells[i]
			}
			b.WriteString(style.Render(kit.Fit(kit.Name(value, w), w)) + "  ")
		}
		return kit.Fit(b.String(), width)
	}
	lines := []string{draw(p.Header, t.Strong)}
	for _, row := range rows {
		lines = append(lines, draw(row, t.Paper))
	}
	return lines
}

// enterPane has keys walk along the versions of the object.
func (s *Screen) enterPane() tea.Cmd {
	s.pane.focused = true
	return nil
}

func (s *Screen) bigPreview() tea.Cmd {
	s.pane.focused, s.pane.large = true, true
	return s.preview()
}

func (s *Screen) paneKeys() []kit.Key {
	keys := []kit.Key{{Press: "left", Does: "older"}, {Press: "right", Does: "newer"},
		{Press: "b", Does: "bring back: make it the newest"},
		{Press: "c", Does: "compare: with the newest"}, {Press: "f", Does: "fetch: into a file here"},
		{Press: "D", Does: "delete permanently: this version"},
		{Press: "L", Does: "link: to this version"}, {Press: "p", Does: "preview: large or small"},
		{Press: "down", Does: "scroll"}, {Press: "esc", Does: "back to the tree"}}
	if at, _ := s.at(); len(s.facts[at].Versions) < 2 {
		keys = append(keys[7:], keys[4], keys[6])
	}
	if s.isPicture() && s.Pixels != "" {
		keys = append([]kit.Key{{Press: "enter", Does: "the picture in full resolution"}}, keys...)
	}
	return keys
}

func (s *Screen) paneKey(key string) tea.Cmd {
	at, _ := s.at()
	versions := s.facts[at].Versions
	switch key {
	case "esc", "tab":
		s.pane.leave()
		return s.rested() // which asks for the preview of the newest
	case "left", "h":
		s.pane.bead = min(s.pane.bead+1, max(len(versions)-1, 0))
		return s.preview()
	case "right":
		s.pane.bead = max(s.pane.bead-1, 0)
		return s.preview()
	case "down", "j":
		s.pane.scroll++
	case "up", "k":
		s.pane.scroll = max(s.pane.scroll-1, 0)
	case "pgdown", "space":
		s.pane.scroll += s.page
	case "pgup":
		s.pane.scroll = max(s.pane.scroll-s.page, 0)
	case "p":
		s.pane.large = !s.pane.large
		return s.preview()
	case "enter":
		return s.fullPicture()
	case "c":
		if s.pane.bead == 0 {
			return kit.Cmd(kit.Say{Text: "This is the newest; left goes to older ones, to be held against it."})
		}
		s.pane.compare = !s.pane.compare
	case "b":
		return s.bringBack()
	case "f":
		return s.fetchSheet()
	case "D":
		return s.removeVersionSheet()
	case "L":
		return s.linkSheet()
	case "U":
		return s.undeleteSheet()
	}
	return nil
}
