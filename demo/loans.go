package demo

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math"
	"strings"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/service"
	"lumtra/service/workspace"
)

// loans fills the bucket of things lent and borrowed, which keeps versions: a
// catalogue that was corrected twice, a letter removed by mistake, a deposit in
// a cold class, a picture, and an upload that somebody left half-way.
func loans(ctx context.Context, s *service.Service) error {
	at := workspace.At{Endpoint: "north-store", Bucket: "loans"}
	if _, err := s.SetVersioning(ctx, at, true); err != nil {
		return err
	}
	p, err := s.Root(at)
	if err != nil {
		return err
	}
	if _, err := p.Stat(ctx, object.Ref{Key: "catalogue.csv"}); err == nil {
		return nil
	}
	put := func(key string, data []byte, opts place.WriteOptions) {
		if err == nil {
			_, err = p.Write(ctx, key, bytes.NewReader(data), int64(len(data)), opts)
		}
	}
	for n := 1; n <= 3; n++ {
		put("catalogue.csv", catalogue(n),
			place.WriteOptions{ContentType: "text/csv", Metadata: map[string]string{"kept-by": "the reading room",
				"revision": fmt.Sprint(n)}})
	}
	put("letters/from the ferryman.txt",
		[]byte("The reeds were cut too early this year, and with them went the warblers.\nI send you what the tape "+
			"recorder heard before.\n"), place.WriteOptions{ContentType: "text/plain"})
	put("letters/list of tapes.json",
		[]byte(`[{"tape": 1, "side": "A", "site": "ferry steps", "minutes": 31}, {"tape": 1, "side": "B", "site": `+
			`"weir", "minutes": 28}, {"tape": 2, "side": "A", "site": "mudflat", "minutes": 44}]`),
		place.WriteOptions{ContentType: "application/json"})
	put("deposits/storm tide 1987.wav", bytes.Repeat([]byte("tide"), 50_000),
		place.WriteOptions{Class: "GLACIER", ContentType: "audio/wav"})
	put("pictures/marsh at dusk.png", dusk(), place.WriteOptions{ContentType: "image/png"})
	if err != nil {
		return err
	}
	if err := place.Can(p).Tags.SetTags(ctx, object.Ref{Key: "catalogue.csv"},
		map[string]string{"season": "2026", "state": "checked"}); err != nil {
		return err
	}
	up, err := place.Can(p).Parts.Begin(ctx, "deposits/dawn of 1991, reel 4.wav", place.WriteOptions{})
	if err == nil {
		_, err = place.Can(p).Parts.WritePart(ctx, up, 1, 0, strings.NewReader(strings.Repeat("reel", 5<<18)), 5<<20,
			object.Sum{})
	}
	return errors.Join(err, p.Remove(ctx, object.Ref{Key: "letters/from the ferryman.txt"})[0])
}

// catalogue is the list of loans as it was revised for the nth time.
func catalogue(n int) []byte {
	var b strings.Builder
	b.WriteString("number,title,site,lent to,since\n")
	for i := range 8 + 9*n {
		fmt.Fprintf(&b, "SSA-%04d,%s,%s,%s,2026-%02d-%02d\n", 40+i*7, voices[(i*3)%len(voices)], sites[i%len(sites)],
			[]string{"island school", "reading room", "tide office", "village choir"}[(i+n)%4], 1+i%10, 1+(i*11+n)%28)
	}
	return []byte(b.String())
}

// dusk paints the marsh at dusk: sky, sun, water with its light, reeds.
func dusk() []byte {
	const w, h = 240, 150
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			f := float64(y) / h
			r, g, b := 30+150*f*f, 24+70*f, 60+30*f
			dx, dy := float64(x-150), float64(y-78)
			if sun := math.Hypot(dx, dy); y < 90 {
				glow := math.Exp(-sun / 34)
				r, g, b = r+190*glow, g+120*glow, b+30*glow
			} else {
				ripple := 0.5 + 0.5*math.Sin(float64(y)*1.3+math.Sin(float64(x)*0.21)*2)
				light := math.Exp(-math.Abs(dx)/(14+float64(y-90)*0.7)) * ripple
				r, g, b = 18+200*light, 40+120*light, 58+40*light
			}
			if reed := 112 + 20*math.Sin(float64(x)*0.9)*math.Sin(float64(x)*0.13); float64(y) > reed &&
				(x*7919)%5 < 2 {
				r, g, b = 10, 16, 18
			}
			img.SetRGBA(x, y, color.RGBA{uint8(min(r, 255)), uint8(min(g, 255)), uint8(min(b, 255)), 255})
		}
	}
	var out bytes.Buffer
	if err := png.Encode(&out, img); err != nil {
		panic(err) // a picture in memory cannot fail to be written to memory
	}
	return out.Bytes()
}
