package preview

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/color"

	_ "image/gif" // decoders register themselves
	_ "image/jpeg"
	_ "image/png"

	_ "golang.org/x/image/bmp"
	"golang.org/x/image/draw"
	_ "golang.org/x/image/tiff"
	_ "golang.org/x/image/webp"

	"lumtra/core/object"
	"lumtra/core/place"
)

// maxPixels keeps a small file from claiming to be an enormous picture: decoded, a
// pixel takes up to 8 bytes, and half as much again on the way.
const maxPixels = 16_000_000

// mostPacked is how many pixels a byte may stand for in a picture of more than
// fewPixels: more is a blank sheet at best, and made to cost a lot at worst.
const (
	mostPacked = 500
	fewPixels  = 500_000
)

func isPicture(head []byte) bool {
	return has(head, 0, "\x89PNG\r\n") || has(head, 0, "\xff\xd8\xff") || has(head, 0, "GIF8") ||
		has(head, 0, "BM") && has(head, 6, "\x00\x00\x00\x00") ||
		has(head, 0, "II*\x00") || has(head, 0, "MM\x00*") || has(head, 0, "RIFF") && has(head, 8, "WEBP")
}

func pictureFacts(data []byte, note string) *Preview {
	p := &Preview{Kind: Picture}
	if cfg, form, err := image.DecodeConfig(bytes.NewReader(data)); err == nil {
		p.Facts = append(p.Facts, Fact{"picture", fmt.Sprintf("%s, %d × %d", form, cfg.Width, cfg.Height)})
	}
	if note != "" {
		p.Facts = append(p.Facts, Fact{"preview", note})
	}
	return p
}

// errNoPicture tells that bytes which begin like a picture are none.
var errNoPicture = errors.New("not a picture")

// pixels decodes a picture into at most width by height pixels. A small file that claims to be an
// enormous picture is refused before anything is decoded.
func pixels(data []byte, width, height int) (*image.RGBA, error) {
	cfg, _, err := image.DecodeConfig(bytes.NewReader(data))
	switch {
	case err != nil:
		return nil, errNoPicture
	case cfg.Width <= 0 || cfg.Height <= 0 || cfg.Width > maxPixels/cfg.Height:
		return nil, errors.New("too many pixels: not drawn")
	case cfg.Width*cfg.Height > fewPixels && cfg.Width*cfg.Height/mostPacked > len(data):
		return nil, errors.New("more pixels than its bytes tell apart: not drawn")
	}
	img, _, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("it is damaged: %w", err)
	}
	w, h := fit(cfg.Width, cfg.Height, max(width, 1), max(height, 2))
	small := image.NewRGBA(image.Rect(0, 0, w, h))
	draw.ApproxBiLinear.Scale(small, small.Bounds(), img, img.Bounds(), draw.Src, nil)
	return small, nil
}

// Full reads a picture to be shown on its own, in at most width by height pixels; never enlarged.
func Full(ctx context.Context, p place.Place, e object.Entry, width, height int) (image.Image, error) {
	if e.Size > pictureBytes {
		return nil, fmt.Errorf("larger than %d MiB: not drawn", pictureBytes>>20)
	}
	data, err := read(ctx, p, e, e.Size)
	if err != nil {
		return nil, err
	}
	return pixels(data, width, height)
}

// picture draws an image into width by height cells of two pixels each.
func picture(data []byte, width, height int) *Preview {
	small, err := pixels(data, width, 2*height)
	if errors.Is(err, errNoPicture) {
		return hexadecimal(data[:min(len(data), textBytes)], len(data) > textBytes)
	}
	if err != nil {
		return pictureFacts(data, err.Error())
	}
	p := pictureFacts(data, "")
	w, h := small.Rect.Dx(), small.Rect.Dy()
	for y := range h {
		row := make([]color.RGBA, w)
		for x := range row {
			row[x] = small.RGBAAt(x, y)
		}
		p.Pixels = append(p.Pixels, row)
	}
	return p
}

// fit scales a picture into a room, keeping its shape and never enlarging it.
func fit(w, h, roomW, roomH int) (int, int) {
	if w <= roomW && h <= roomH {
		return w, h
	}
	if w*roomH > h*roomW {
		return roomW, max(h*roomW/w, 1)
	}
	return max(w*roomH/h, 1), roomH
}
