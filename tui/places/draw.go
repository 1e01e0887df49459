package places

import (
	"fmt"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/tui/kit"
)

// Render draws the tree and, where there is room, the facts beside it.
func (s *Screen) Render(width, height int) string {
	s.page = max(height-2, 1)
	if width < 100 {
		upper := height * 2 / 3
		return s.tree(width, upper) + "\n" + kit.RuleLine(s.Theme, width) + "\n" + s.pane(width, height-upper-1)
	}
	left := width * 11 / 20
	return kit.Beside(s.Theme, s.tree(left, height), s.pane(width-left-3, height))
}

func (s *Screen) tree(width, height int) string {
	if len(s.rows) == 0 {
		return kit.Lines([]string{"", "  No endpoints in endpoints.toml yet."}, width, height)
	}
	var lines []string
	first, last := s.cursor.Window(len(s.rows), height)
	for i := first; i < last; i++ {
		lines = append(lines, kit.Row(s.Theme, s.line(s.rows[i], width-2), width, i == s.cursor.At))
	}
	return kit.Lines(lines, width, height)
}

func (s *Screen) line(n *node, width int) string {
	t := s.Theme
	indent := strings.Repeat("  ", n.depth)
	sign, style := "  ", t.Paper
	switch {
	case n.more:
		return indent + t.Ash.Render("  … more below")
	case n.folder && n.open:
		sign, style = "▾ ", t.Strong
	case n.folder:
		sign, style = "▸ ", t.Strong
	case n.entry.Kind == object.Special:
		style = t.Ash
	}
	right := ""
	switch {
	case n.loading:
		right = t.Lamp.Render("reading …")
	case n.err != nil:
		right = t.Flare.Render("▲ cannot be read")
	case n.endpoint != nil:
		right = t.Ash.Render(kindText(n.endpoint))
	case n.folder && n.loaded && len(n.children) == 0:
		right = t.Ash.Render("empty")
	case !n.folder && n.entry.Kind == object.Object:
		right = t.Paper.Render(kit.Size(n.entry.Size)) + "  " + t.Ash.Render(n.entry.Modified.Local().Format("2006-01-02 15:04"))
	case n.entry.Kind == object.Special:
		right = t.Ash.Render("link or special file")
	}
	room := width - ansi.StringWidth(right) - len(indent) - 3
	return indent + t.Ash.Render(sign) + kit.Fit(style.Render(kit.Name(n.name, room)), room) + " " + right
}

func kindText(e *job.Endpoint) string {
	if e.Kind == job.KindFolder {
		return "folder"
	}
	speaks := "S3 API"
	if e.Kind == job.KindBlob {
		speaks = "Azure Blob API"
	}
	if e.StandIn != "" {
		speaks += ", stand-in"
	}
	return speaks
}

// pane tells the facts of what is under the cursor.
func (s *Screen) pane(width, height int) string {
	t, n := s.Theme, s.at()
	if n == nil {
		return kit.Lines(nil, width, height)
	}
	f, known := s.facts[n.path]
	lines := []string{t.Strong.Render(kit.Name(n.name, width)), ""}
	fact := func(name, value string) {
		for i, part := range strings.Split(ansi.Hardwrap(object.Display(value), max(width-15, 10), true), "\n") {
			if i > 0 {
				name = ""
			}
			lines = append(lines, t.Ash.Render(kit.Fit(name, 14))+" "+t.Paper.Render(part))
		}
	}
	if err := n.err; err != nil || f.err != nil {
		if err == nil {
			err = f.err
		}
		for _, part := range strings.Split(ansi.Wordwrap(err.Error(), max(width, 10), " "), "\n") {
			lines = append(lines, t.Flare.Render(part))
		}
		lines = append(lines, "")
	}
	switch e := n.endpoint; {
	case e != nil && e.Kind == job.KindFolder:
		fact("folder", e.Path)
	case e != nil && e.StandIn != "":
		fact("stand-in kept", e.StandIn)
		fact("line", strings.TrimSpace(e.Speed+"/s "+e.Latency))
	case e != nil:
		fact("address", e.Address)
	}
	if e := n.endpoint; e != nil {
		for _, x := range [][2]string{{"access key", e.AccessKey}, {"account", e.Account}, {"secret from", e.SecretFrom}, {"signature from", e.SignatureFrom}} {
			if x[1] != "" {
				fact(x[0], x[1])
			}
		}
	}
	switch {
	case !known:
		lines = append(lines, t.Ash.Render("looking …"))
	case f.abilities != nil && f.err == nil:
		s.abilities(f, fact)
	case f.err == nil && !n.folder:
		entryFacts(f.entry, fact)
	}
	return kit.Lines(lines, width, height)
}

func (s *Screen) abilities(f facts, fact func(name, value string)) {
	a := f.abilities
	fact("speaks", a.Protocol)
	limit := func(n int64) string {
		if n == 0 {
			return "as large as there is room"
		}
		return "up to " + kit.Size(n)
	}
	fact("objects", limit(a.MaxObject))
	if a.MaxParts > 0 {
		fact("parts", fmt.Sprintf("%s to %s, at most %s", kit.Size(a.MinPart), kit.Size(a.MaxPart), kit.Count(int64(a.MaxParts))))
	}
	if a.StoredSums != object.NoSum {
		fact("keeps sums", a.StoredSums.String()+", verified as content arrives")
	} else {
		fact("keeps sums", "none: a proof reads the files")
	}
	if a.KeepsTimes {
		fact("times", "kept as they were at the source")
	} else {
		fact("times", "when it was stored; the original beside it")
	}
	if a.Conditions {
		fact("overwriting", "only what the plan saw")
	}
	fact("longest key", fmt.Sprintf("%s bytes", kit.Count(int64(a.MaxKey))))
}

func entryFacts(e object.Entry, fact func(name, value string)) {
	const exact = "2006-01-02 15:04:05 MST"
	if e.Kind == object.Special {
		fact("kind", "a link or special file: never copied")
		return
	}
	fact("size", fmt.Sprintf("%s (%s bytes)", kit.Size(e.Size), kit.Count(e.Size)))
	fact("modified", e.Modified.Local().Format(exact))
	if !e.Original.IsZero() {
		fact("original time", e.Original.Local().Format(exact))
	}
	if e.Mode != 0 {
		fact("permissions", e.Mode.String())
	}
	for _, x := range [][2]string{{"type", e.ContentType}, {"class", e.Class}, {"version", e.Version}, {"ETag", e.ETag}} {
		if x[1] != "" {
			fact(x[0], x[1])
		}
	}
	for _, sum := range e.Sums {
		fact(sum.Kind.String(), sum.Hex())
	}
	var names []string
	for name := range e.Metadata {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		fact("· "+name, e.Metadata[name])
	}
}
