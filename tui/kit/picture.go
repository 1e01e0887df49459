package kit

import (
	"bytes"
	"fmt"
	"image"
	"io"
	"os"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/ansi/kitty"
	"github.com/charmbracelet/x/ansi/sixel"
	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"lumtra/core/object"
)

// Pixels is how a terminal takes a picture in full resolution; "" for not at all.
type Pixels string

// The ways. Sixel is what terminals tell by attribute 4 of their primary device attributes
// (DEC STD 070), Placed the graphics protocol of chunks of RGBA in APC sequences.
const (
	Sixel  Pixels = "sixel"
	Placed Pixels = "placed"
)

// Room is how many pixels a picture may have on the terminal: as that told the system, or cells
// of 8 by 16. The last line is for words.
func Room() (width, height int) {
	ws, err := unix.IoctlGetWinsize(int(os.Stdout.Fd()), unix.TIOCGWINSZ)
	if err != nil || ws.Row < 2 || ws.Col < 1 {
		ws = &unix.Winsize{Row: 24, Col: 80}
	}
	if ws.Xpixel == 0 || ws.Ypixel == 0 {
		return 8 * int(ws.Col), 16 * (int(ws.Row) - 1)
	}
	return int(ws.Xpixel), int(ws.Ypixel) / int(ws.Row) * (int(ws.Row) - 1)
}

// Drawn is a picture as the terminal takes it.
func (p Pixels) Drawn(img image.Image) (string, error) {
	var b bytes.Buffer
	if p == Placed {
		err := kitty.EncodeGraphics(&b, img, &kitty.Options{Action: kitty.TransmitAndPut, Format: kitty.RGBA,
			Transmission: kitty.Direct, Chunk: true, Quiet: 2, DoNotMoveCursor: true,
			ImageWidth: img.Bounds().Dx(), ImageHeight: img.Bounds().Dy()})
		return b.String(), err
	}
	if err := new(sixel.Encoder).Encode(&b, img); err != nil {
		return "", err
	}
	return ansi.SixelGraphics(0, 1, 0, b.Bytes()), nil
}

// ShowPicture gives the whole terminal to a picture until a key is pressed, and then goes on
// with what done makes of how that went.
func ShowPicture(p Pixels, img image.Image, name string, done func(error) tea.Msg) tea.Cmd {
	return tea.Exec(&picture{how: p, img: img, name: name}, done)
}

// picture has the terminal for a while, as an editor has.
type picture struct {
	how  Pixels
	img  image.Image
	name string
	in   io.Reader
	out  io.Writer
}

// Run draws and waits for a key. What the key sends is read whole, so that nothing of it is
// taken for keys afterwards.
func (p *picture) Run() error {
	began := time.Now()
	defer func() { time.Sleep(leastAway - time.Since(began)) }()
	drawn, err := p.how.Drawn(p.img)
	if err != nil {
		return err
	}
	if f, ok := p.in.(*os.File); ok {
		if was, err := term.MakeRaw(int(f.Fd())); err == nil {
			defer func() { _ = term.Restore(int(f.Fd()), was) }()
		}
	}
	b := p.img.Bounds()
	says := fmt.Sprintf("%s, shown %d × %d. Any key goes back.", object.Display(p.name), b.Dx(), b.Dy())
	// The alternate screen, so that what was there before Lumtra stays as it was.
	if _, err = fmt.Fprintf(p.out, "\x1b[?1049h\x1b[?25l\x1b[2J\x1b[H%s\x1b[999;1H%s", drawn, says); err != nil {
		return err
	}
	_, err = p.in.Read(make([]byte, 256))
	gone := ""
	if p.how == Placed {
		gone = ansi.KittyGraphics(nil, "a=d", "d=A", "q=2")
	}
	fmt.Fprintf(p.out, "%s\x1b[2J\x1b[?25h\x1b[?1049l", gone)
	if err == io.EOF {
		err = nil
	}
	return err
}

// SetStdin and SetStdout give it the terminal.
func (p *picture) SetStdin(r io.Reader) { p.in = r }

// SetStdout see SetStdin.
func (p *picture) SetStdout(w io.Writer) { p.out = w }

// SetStderr see SetStdin: nothing is written there.
func (p *picture) SetStderr(io.Writer) {}
