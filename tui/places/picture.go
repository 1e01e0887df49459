package places

import (
	"image"
	"image/color"
	"os"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"lumtra/core/preview"
	"lumtra/tui/kit"
)

// isPicture tells that the preview is of a picture.
func (s *Screen) isPicture() bool { return s.pane.look != nil && s.pane.look.Kind == preview.Picture }

// pictureMsg brings a picture to be shown on its own.
type pictureMsg struct {
	name string
	img  image.Image
	err  error
}

// fullPicture fetches the picture that is previewed in as many pixels as the terminal has.
func (s *Screen) fullPicture() tea.Cmd {
	at, e, ok := s.previewed()
	switch {
	case !ok || !s.isPicture():
		return nil
	case s.Pixels == "":
		return kit.Cmd(kit.Say{Text: "This terminal does not say that it takes pictures in full resolution."})
	}
	width, height := kit.Room()
	return func() tea.Msg {
		img, err := s.Service.Picture(s.ctx, at, e, width, height)
		return pictureMsg{last(at), img, err}
	}
}

// showPicture gives it the terminal until a key is pressed.
func (s *Screen) showPicture(msg pictureMsg) tea.Cmd {
	if msg.err != nil {
		return kit.Cmd(kit.Say{Text: kit.Reason(msg.err), Bad: true})
	}
	return kit.ShowPicture(s.Pixels, msg.img, msg.name, func(err error) tea.Msg {
		if err != nil {
			return kit.Say{Text: kit.Reason(err), Bad: true}
		}
		return nil
	})
}

// pixels draw a picture, two pixels a cell: the upper one is the letter's
// colour, the lower one its ground.
func pixels(rows [][]color.RGBA) []string {
	if os.Getenv("NO_COLOR") != "" {
		return shades(rows)
	}
	var lines []string
	for y := 0; y < len(rows); y += 2 {
		var b strings.Builder
		for x, up := range rows[y] {
			style := lipgloss.NewStyle().Foreground(up)
			if y+1 < len(rows) {
				style = style.Background(rows[y+1][x])
			}
			b.WriteString(style.Render("▀"))
		}
		lines = append(lines, b.String())
	}
	return lines
}

// shades draw a picture without colours, a cell as dense as it is bright.
func shades(rows [][]color.RGBA) []string {
	const glyphs = " ·░▒▓█"
	var lines []string
	for y := 0; y < len(rows); y += 2 {
		var b strings.Builder
		for x, c := range rows[y] {
			light := int(c.R)*3 + int(c.G)*6 + int(c.B)
			if y+1 < len(rows) {
				d := rows[y+1][x]
				light = (light + int(d.R)*3 + int(d.G)*6 + int(d.B)) / 2
			}
			b.WriteRune([]rune(glyphs)[light*5/2550])
		}
		lines = append(lines, b.String())
	}
	return lines
}
