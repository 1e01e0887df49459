package preview

import (
	"bytes"
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
	return has(head, 0, "\x89PNG\r\n") || has(head, 0, "\xff\xd8\xff") || has(head, 0, "GIF8") || has(head, 0, "BM") && has(head, 6, "\x00\x00\x00\x00") ||
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

// picture draws an image into width by height cells of two pixels each.
func picture(data []byte, width, height int) *Preview {
	cfg, _, err := image.DecodeConfig(bytes.NewReader(data))
	switch {
	case err != nil:
		return hexadecimal(data[:min(len(data), textBytes)], len(data) > textBytes)
	case cfg.Width <= 0 || cfg.Height <= 0 || cfg.Width > maxPixels/cfg.Height:
		return pictureFacts(data, "too many pixels: not drawn")
	case cfg.Width*cfg.Height > fewPixels && cfg.Width*cfg.Height/mostPacked > len(data):
		return pictureFacts(data, "more pixels than its bytes tell apart: not drawn")
	}
	img, _, err := image.Decode(bytes.NewReader(data))
	if err != nil {
		return pictureFacts(data, "it is damaged: "+err.Error())
	}
	p := pictureFacts(data, "")
	w, h := fit(cfg.Width, cfg.Height, max(width, 1), max(2*height, 2))
	small := image.NewRGBA(image.Rect(0, 0, w, h))
	draw.ApproxBiLinear.Scale(small, small.Bounds(), img, img.Bounds(), draw.Src, nil)
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
