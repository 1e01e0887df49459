package kit

import (
	"bytes"
	"image"
	"image/color"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi/sixel"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func halves() image.Image {
	img := image.NewRGBA(image.Rect(0, 0, 40, 24))
	for y := range 24 {
		for x := range 40 {
			img.Set(x, y, color.RGBA{uint8(255 * (x / 20)), 0, 255, 255})
		}
	}
	return img
}

// What is sent by sixel is the picture, pixel for pixel, once read back by a decoder.
func TestSixel(t *testing.T) {
	drawn, err := Sixel.Drawn(halves())
	require.NoError(t, err)
	body, ok := strings.CutPrefix(drawn, "\x1bP")
	require.True(t, ok)
	_, body, _ = strings.Cut(body, "q")
	back, err := new(sixel.Decoder).Decode(strings.NewReader(strings.TrimSuffix(body, "\x1b\\")))
	require.NoError(t, err)
	require.Equal(t, 40, back.Bounds().Dx())
	for _, at := range []image.Point{{0, 0}, {19, 23}, {20, 0}, {39, 23}} {
		r, g, b, _ := back.At(at.X, at.Y).RGBA()
		wantR, wantG, wantB, _ := halves().At(at.X, at.Y).RGBA()
		assert.Equal(t, []uint32{wantR, wantG, wantB}, []uint32{r, g, b}, at)
	}
}

// A picture has the terminal until a key; the name cannot steer it, and nothing stays behind.
func TestPictureHasTheTerminal(t *testing.T) {
	for _, how := range []Pixels{Sixel, Placed} {
		var out bytes.Buffer
		keys := strings.NewReader("\x1b[A\x1b[A")
		p := &picture{how: how, img: halves(), name: "dusk\x1b[2J.png"}
		p.SetStdin(keys)
		p.SetStdout(&out)
		require.NoError(t, p.Run())
		assert.Contains(t, out.String(), `dusk\x1b[2J.png, shown 40 × 24. Any key goes back.`)
		assert.True(t, strings.HasSuffix(out.String(), "\x1b[?1049l"), "back to what was shown")
		assert.Equal(t, how == Placed, strings.Contains(out.String(), "a=d"), "placed pictures are taken away again")
		assert.Zero(t, keys.Len(), "no rest of the key is taken for one")
	}
	p := &picture{how: Sixel, img: halves(), in: strings.NewReader(""), out: new(bytes.Buffer)}
	assert.NoError(t, p.Run(), "a terminal that is gone")
	assert.NotNil(t, ShowPicture(Sixel, halves(), "", func(error) tea.Msg { return nil }))
}
