package report

import (
	"image/color"
	"io"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgsvg"
)

// sheet is a drawing under way, in points, with its origin at the top left.
type sheet struct {
	surface
	height vg.Length
}

// surface is what a drawing is put on: a form to write it in.
type surface interface {
	// box fills a rectangle.
	box(x, y, width, height vg.Length, c color.Color)
	// say writes a line with its base at y.
	say(x, y, size vg.Length, words string)
	// width is how wide a line would be.
	width(size vg.Length, words string) vg.Length
	// turn begins another page.
	turn()
	// writeTo writes all pages, and ends the drawing.
	writeTo(w io.Writer) error
}

// newSheet begins a drawing of one page.
func newSheet(f Format, width, height vg.Length) *sheet {
	if f == PDF {
		return &sheet{newPDF(width, height), height}
	}
	canvas := vgsvg.New(width, height)
	return &sheet{&svgSurface{draw.New(canvas), canvas, height}, height}
}

// svgSurface is one drawing without pages.
type svgSurface struct {
	draw.Canvas
	canvas *vgsvg.Canvas
	height vg.Length
}

func (s *svgSurface) box(x, y, width, height vg.Length, c color.Color) {
	s.FillPolygon(c, []vg.Point{{X: x, Y: s.height - y}, {X: x + width, Y: s.height - y},
		{X: x + width, Y: s.height - y - height}, {X: x, Y: s.height - y - height}})
}

func (s *svgSurface) style(size vg.Length) text.Style {
	return text.Style{Color: ink, Font: font.From(plot.DefaultFont, size), Handler: plot.DefaultTextHandler}
}

func (s *svgSurface) say(x, y, size vg.Length, words string) {
	s.FillText(s.style(size), vg.Point{X: x, Y: s.height - y}, words)
}

func (s *svgSurface) width(size vg.Length, words string) vg.Length { return s.style(size).Width(words) }

func (s *svgSurface) turn() {}

func (s *svgSurface) writeTo(w io.Writer) error {
	_, err := s.canvas.WriteTo(w)
	return err
}
