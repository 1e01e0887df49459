package now

import (
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"lumtra/tui/kit"
	"lumtra/tui/look"
)

// scale maps time to cells: the present, less what was panned, lies two thirds
// across.
type scale struct {
	start time.Time
	step  time.Duration // a cell's
	width int
	line  int // the cell of the present; outside when panned away
}

func (s *Screen) scale(width int) scale {
	span := zooms[s.zoom]
	sc := scale{step: span / time.Duration(max(width, 1)), width: width}
	// The grid stands still and the present moves along it a cell at a time.
	at := s.State.At.Add(-s.pan).Truncate(sc.step)
	sc.start = at.Add(-sc.step * time.Duration(width*2/3))
	sc.line = sc.cell(s.State.At)
	return sc
}

func (sc scale) cell(t time.Time) int {
	d := t.Sub(sc.start)
	if d < 0 {
		return int((d+1)/sc.step) - 1
	}
	return int(d / sc.step)
}

func (sc scale) time(cell int) time.Time { return sc.start.Add(time.Duration(cell) * sc.step) }

// ground is a cell with nothing in it.
func (sc scale) ground(t *look.Theme, cell int) string {
	if cell == sc.line {
		return t.Lamp.Render("│")
	}
	return t.Rule.Render("·")
}

func (sc scale) blank(t *look.Theme) string {
	if sc.line < 0 || sc.line >= sc.width {
		return ""
	}
	return strings.Repeat(" ", sc.line) + t.Lamp.Render("│")
}

// within sets text on an empty row, with the line of the present behind it.
func (sc scale) within(t *look.Theme, text string, width int) string {
	n := ansi.StringWidth(text)
	if sc.line <= n || sc.line >= sc.width {
		return kit.Fit(text, width)
	}
	return text + strings.Repeat(" ", sc.line-n) + t.Lamp.Render("│")
}

// marks are the distances labels may have.
var marks = []struct {
	every time.Duration
	form  string
}{
	{time.Minute, "15:04"}, {5 * time.Minute, "15:04"}, {15 * time.Minute, "15:04"}, {time.Hour, "15:04"},
	{3 * time.Hour, "Mon 15:04"},
	{12 * time.Hour, "Mon 15:04"}, {24 * time.Hour, "Mon 2 Jan"}, {7 * 24 * time.Hour, "2 Jan"},
}

// axis labels the time, and the present.
func (sc scale) axis(t *look.Theme) string {
	mark := marks[len(marks)-1]
	for _, m := range marks {
		if m.every/sc.step >= 14 {
			mark = m
			break
		}
	}
	cells := []rune(strings.Repeat(" ", sc.width))
	put := func(at int, text string) {
		for i, r := range []rune(text) {
			if at+i >= 0 && at+i < len(cells) {
				cells[at+i] = r
			}
		}
	}
	_, zone := sc.start.Zone()
	shift := time.Duration(zone) * time.Second
	spare := func(c, n int) bool { return sc.line < 0 || c+n < sc.line || c > sc.line+5 } // the present's own label
	for at := sc.start.Add(shift).Truncate(mark.every).Add(-shift); sc.cell(at) < sc.width; at = at.Add(mark.every) {
		if c := sc.cell(at); c >= 0 && spare(c, len(mark.form)+1) && c+len(mark.form) < sc.width {
			put(c, "╵"+at.Local().Format(mark.form))
		}
	}
	text := t.Ash.Render(string(cells))
	if sc.line >= 0 && sc.line+4 <= sc.width {
		text = t.Ash.Render(string(cells[:sc.line])) + t.Lamp.Render("│now") +
			t.Ash.Render(string(cells[min(sc.line+4, len(cells)):]))
	}
	return text
}
