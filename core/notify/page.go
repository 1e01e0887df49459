package notify

import (
	"bytes"
	"html/template"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
)

var page = template.Must(template.New("mail").Parse(`<!doctype html>
<html><body style="font-family: sans-serif; color: #22262e; background: #ffffff; max-width: 44em">
<h2 style="font-size: 1.1em; color: {{.Color}}">{{.Subject}}</h2>
{{range .Lines}}<p style="margin: .3em 0">{{.}}</p>
{{end}}{{if .Picture}}
<p><img src="cid:rate.png" width="560" height="120" alt="rate over the run, at most {{.Most}}"><br>
<small style="color: #6b6f76">rate over the run, at most {{.Most}}</small></p>
{{end}}<p style="color: #6b6f76"><small>{{.Title}}, {{.At}}</small></p>
</body></html>
`))

// colors are those of kinds, dark enough for a white ground.
var colors = map[Kind]string{Failure: "#a8321c", Missed: "#a8321c", Silence: "#a8321c", Lag: "#a8321c",
	Guard:       "#8a5a00",
	Credentials: "#8a5a00"}

// htmlOf is a message as a page, and the picture in it; nil for none.
func htmlOf(m *Message) (text string, picture []byte, err error) {
	var b bytes.Buffer
	most := 0.0
	if len(m.Rates) > 1 {
		most = slices.Max(m.Rates)
		if picture, err = rates(m.Rates); err != nil {
			return "", nil, err
		}
	}
	c := colors[m.Kind]
	if c == "" {
		c = "#1d6f63"
	}
	err = page.Execute(&b, map[string]any{"Subject": m.Subject, "Lines": strings.Split(m.Text, "\n"), "Title": m.Title,
		"At": m.At.Local().Format("Mon 2006-01-02 15:04:05 -07:00"), "Picture": picture != nil,
		"Color": template.CSS(c),
		"Most":  humanize.IBytes(uint64(max(most, 0))) + "/s"})
	return b.String(), picture, err
}

// rates draws rates as bars.
func rates(all []float64) ([]byte, error) {
	const width, height = 560, 120
	img := image.NewPaletted(image.Rect(0, 0, width, height), color.Palette{color.White, color.RGBA{0x2a, 0x95, 0x86,
		255},
		color.RGBA{0xc8, 0xcb, 0xd0, 255}})
	top := max(slices.Max(all), 1)
	for i, v := range all {
		x0, x1 := i*width/len(all), (i+1)*width/len(all)
		y := height - 1 - int(v/top*(height-4))
		draw.Draw(img, image.Rect(x0, y, max(x1-1, x0+1), height-1), image.NewUniform(img.Palette[1]), image.Point{},
			draw.Src)
	}
	draw.Draw(img, image.Rect(0, height-1, width, height), image.NewUniform(img.Palette[2]), image.Point{}, draw.Src)
	var b bytes.Buffer
	err := png.Encode(&b, img)
	return b.Bytes(), err
}
