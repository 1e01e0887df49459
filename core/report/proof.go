package report

import (
	"fmt"
	"io"
	"strings"

	"gonum.org/v1/plot/vg"

	"lumtra/core/proof"
)

// Proof writes the document of a proof to w, with the differences to name: as
// pages to print or as one drawing.
func Proof(w io.Writer, s *proof.Summary, differences []proof.Line, f Format) error {
	var text strings.Builder
	if err := proof.WriteDocument(&text, s, differences); err != nil {
		return err
	}
	lines := strings.Split(strings.TrimRight(text.String(), "\n"), "\n")
	switch f {
	case SVG:
		height := pageMargins + pageRow*vg.Length(len(lines))
		c := newSheet(f, pageWidth, height)
		proofPage(c, s, lines, "")
		return c.writeTo(w)
	case PDF:
		c := newSheet(f, pageWidth, pageHeight)
		perPage := int((pageHeight - pageMargins) / pageRow)
		pages := (len(lines) + perPage - 1) / perPage
		for n := range pages {
			if n > 0 {
				c.turn()
			}
			foot := fmt.Sprintf("Proof %d of %s, page %d of %d.", s.Number, s.Job, n+1, pages)
			proofPage(c, s, lines[n*perPage:min((n+1)*perPage, len(lines))], foot)
		}
		return c.writeTo(w)
	}
	return fmt.Errorf("a proof is drawn as %s or %s; its folder has the rest", PDF, SVG)
}

// The page, in points: A4 across.
const (
	pageWidth, pageHeight = 842, 595
	pageMargins           = 90
	pageRow               = 13
	// longestLine is how many letters fit at the size the lines are set in.
	longestLine = 150
)

// proofPage draws some lines of the document beside a bar in the colour of the
// verdict.
func proofPage(c *sheet, s *proof.Summary, lines []string, foot string) {
	c.box(0, 0, pageWidth, c.height, rgb(0xfbf9f4))
	mark := rgb(0x2f8f83)
	if !s.Holds() {
		mark = rgb(0xc2350f)
	}
	c.box(40, 30, 6, pageRow*vg.Length(len(lines)), mark)
	for i, line := range lines {
		y, size := vg.Length(42+pageRow*i), vg.Length(9)
		if strings.HasPrefix(line, fmt.Sprintf("Proof %d of", s.Number)) {
			size = 14
		}
		// In columns, since the letters differ in width.
		head, rest, columns := strings.Cut(line, "  ")
		if !columns {
			c.say(56, y, size, shortened(line))
			continue
		}
		c.say(56, y, size, head)
		rest = strings.TrimLeft(rest, " ")
		if objects, bytes, ok := strings.Cut(rest, " objects "); ok && strings.Trim(objects, "0123456789,") == "" {
			bytes = strings.TrimLeft(bytes, " ")
			c.say(230-c.width(size, objects), y, size, objects+" objects")
			c.say(330-c.width(size, bytes), y, size, bytes)
			continue
		}
		c.say(150, y, size, shortened(rest))
	}
	c.say(40, c.height-16, 7, strings.TrimSpace(foot+" Drawn by Lumtra."))
}

// shortened leaves out the middle of a line that is too long for the page.
func shortened(line string) string {
	if r := []rune(line); len(r) > longestLine {
		return string(r[:longestLine/2]) + " … " + string(r[len(r)-longestLine/2:])
	}
	return line
}
