package report

import (
	"fmt"
	"io"
	"strings"

	"github.com/dustin/go-humanize"
	"gonum.org/v1/plot/vg"
)

// Floor is a row of a drawing of how a program is built: rooms of one height, what they are
// for, and whether its data passes through on its way.
type Floor struct {
	Name, Does string
	Rooms      []Room
	Passed     bool
}

// Room is a package, with how many lines it has.
type Room struct {
	Name  string
	Lines int
}

// House draws floors as SVG, the first at the bottom, with the names of the rooms below them.
func House(w io.Writer, floors []Floor) error {
	const width, row, left = 842, 46, 228
	most := 1
	for _, f := range floors {
		all := 0
		for _, r := range f.Rooms {
			all += r.Lines
		}
		most = max(most, all)
	}
	height := vg.Length(row*len(floors) + 96)
	s := newSheet(SVG, width, height)
	s.box(0, 0, width, height, rgb(0xfbf9f4))
	s.say(40, 36, 15, "The house, from the ground up")
	s.say(40, 52, 8.5, "Imports only go down. A room is as wide as it has lines. The band is the way of the data: "+
		"survey, plan, run, proof.")
	for n, f := range floors {
		y := height - vg.Length(row*(n+1)) - 24
		s.box(40, y, width-80, row-4, rgb(0xf1ede3))
		if f.Passed {
			s.box(40, y-4, 6, row, rgb(0xb8741a))
		}
		s.say(54, y+15, 10.5, f.Name)
		for i, line := range wrapped(s, 7, left-64, f.Does) {
			s.say(54, y+25+vg.Length(8*i), 7, line)
		}
		x := vg.Length(left)
		for _, r := range f.Rooms {
			wide := max(vg.Length(r.Lines)*(width-left-90)/vg.Length(most), 4)
			s.box(x, y+6, wide, 12, rgb(0x7fb8ae))
			x += wide + 3
		}
		s.rooms(f.Rooms, left, width-48, y+27)
	}
	return s.writeTo(w)
}

// rooms writes the names of rooms, in as many lines as it takes.
func (s *sheet) rooms(all []Room, left, right, y vg.Length) {
	x := left
	for i, r := range all {
		text := fmt.Sprintf("%s %s", r.Name, humanize.Comma(int64(r.Lines)))
		if i < len(all)-1 {
			text += ","
		}
		wide := s.width(6.5, text+" ") * otherFonts
		if x+wide > right {
			x, y = left, y+8
		}
		s.say(x, y, 6.5, text)
		x += wide + 2
	}
}

// otherFonts is how much wider letters may be where the drawing is looked at.
const otherFonts = 1.25

// wrapped breaks words into lines of at most so much width.
func wrapped(s *sheet, size, width vg.Length, text string) (lines []string) {
	line := ""
	for _, word := range strings.Fields(text) {
		if next := line + " " + word; line != "" && s.width(size, next)*otherFonts > width {
			lines, line = append(lines, line), word
		} else if line == "" {
			line = word
		} else {
			line = next
		}
	}
	return append(lines, line)
}
