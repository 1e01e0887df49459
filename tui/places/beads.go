package places

import (
	"fmt"
	"strings"

	"lumtra/core/object"
	"lumtra/tui/kit"
)

// beads draw an object's versions along a string, oldest at the left: a full
// bead is content, a hollow one a delete marker.
func (s *Screen) beads(versions []object.Entry, width int) []string {
	t := s.Theme
	n := min(len(versions), max((width-4)/3, 1))
	// the string is as long as there is room
	gap := t.Rule.Render(strings.Repeat("─", min(max((width-4)/max(n-1, 1)-1, 2), 12)))
	from := min(max(s.pane.bead-n/2, 0), len(versions)-n)
	var line strings.Builder
	for i := from + n - 1; i >= from; i-- {
		v := versions[i]
		bead, style := "●", t.Tide
		switch {
		case v.Kind == object.Marker || v.Removed:
			bead, style = "○", t.Flare
		case i > 0:
			style = t.Dusk
		}
		if i == s.pane.bead {
			bead = t.Lamp.Bold(true).Render("‹") + style.Render(bead) + t.Lamp.Bold(true).Render("›")
		} else {
			bead = style.Render(bead)
		}
		line.WriteString(bead)
		if i > from {
			line.WriteString(gap)
		}
	}
	left, right := "", ""
	if from+n < len(versions) {
		left = t.Ash.Render("…")
	}
	if from > 0 {
		right = t.Ash.Render("…")
	}
	v := versions[s.pane.bead]
	what := "the newest"
	if len(versions) == 1 {
		what = "the only one"
	}
	if s.pane.bead > 0 {
		what = fmt.Sprintf("%d before the newest", s.pane.bead)
	}
	text := fmt.Sprintf("%s · %s · %s", object.Count(int64(len(versions)), "version"), what,
		v.Modified.Local().Format("2006-01-02 15:04:05"))
	if v.Kind != object.Marker {
		text += " · " + kit.Size(v.Size)
	}
	return []string{left + line.String() + right, t.Ash.Render(kit.Fit(text, width))}
}

// compareLines hold a version against the newest one.
func (s *Screen) compareLines(l *liner, old, now object.Entry) {
	t := s.Theme
	l.lines = append(l.lines, t.Strong.Render("This version against the newest"), "")
	row := func(name, a, b string) {
		style, sign := t.Ash, "  "
		if a != b {
			style, sign = t.Lamp, "≠ "
		}
		half := max((l.width-18)/2, 6)
		l.lines = append(l.lines, style.Render(sign+kit.Fit(name, 12))+"  "+
			t.Paper.Render(kit.Fit(kit.Name(a, half), half))+"  "+t.Paper.Render(kit.Name(b, half)))
	}
	kind := func(e object.Entry) string {
		if e.Kind == object.Marker {
			return "delete marker"
		}
		return "content"
	}
	const exact = "2006-01-02 15:04:05"
	row("", "this version", "the newest")
	row("kind", kind(old), kind(now))
	row("stored", old.Modified.Local().Format(exact), now.Modified.Local().Format(exact))
	row("size", kit.Count(old.Size), kit.Count(now.Size))
	row("ETag", old.ETag, now.ETag)
	row("class", old.Class, now.Class)
	l.gap()
	if old.ETag != "" && old.ETag == now.ETag && old.Size == now.Size {
		l.text(t.Tide.Render, "The content is the same by the store's own mark.")
	} else {
		l.text(t.Paper.Render, fmt.Sprintf("The content differs: %s bytes then, %s now.", kit.Count(old.Size),
			kit.Count(now.Size)))
	}
}
