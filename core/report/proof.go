package report

import (
	"fmt"
	"io"
	"strings"

	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgpdf"
	"gonum.org/v1/plot/vg/vgsvg"

	"lumtra/core/proof"
)

// Proof writes the document of a proof to w as a drawing, with the differences
// to name.
func Proof(w io.Writer, s *proof.Summary, differences []proof.Line, f Format) error {
	if f != PDF && f != SVG {
		return fmt.Errorf("a proof is drawn as %s or %s; its folder has the rest", PDF, SVG)
	}
	var text strings.Builder
	if err := proof.WriteDocument(&text, s, differences); err != nil {
		return err
	}
	lines := strings.Split(strings.TrimRight(text.String(), "\n"), "\n")
	const width, row = 842, 13
	height := vg.Length(90 + row*len(lines))
	var canvas vg.CanvasWriterTo
	if f == PDF {
		canvas = vgpdf.New(width, height)
	} else {
		canvas = vgsvg.New(width, height)
	}
	c := &sheet{draw.New(canvas), height}
	c.box(0, 0, width, height, rgb(0xfbf9f4))
	mark := rgb(0x2f8f83)
	if !s.Holds() {
		mark = rgb(0xc2350f)
	}
	c.box(40, 30, 6, vg.Length(row*len(lines)), mark)
	for i, line := range lines {
		// In columns, since the letters differ in width.
		head, rest, columns := strings.Cut(line, "  ")
		y, size := vg.Length(42+row*i), vg.Length(9)
		if i == 0 {
			size = 14
		}
		if !columns {
			c.say(56, y, size, line)
			continue
		}
		c.say(56, y, size, head)
		c.say(150, y, size, strings.Join(strings.Fields(rest), " "))
	}
	c.say(40, height-16, 7, "Drawn by Lumtra.")
	_, err := canvas.WriteTo(w)
	return err
}
