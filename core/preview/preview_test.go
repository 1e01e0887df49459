package preview_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"io"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/preview"
)

// one is a place with one object.
type one struct {
	place.Place
	data []byte
}

func (o one) Read(_ context.Context, _ string, opts place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	return io.NopCloser(bytes.NewReader(o.data[:min(int64(len(o.data)), opts.Length)])), object.Entry{}, nil
}

func look(t testing.TB, name string, data []byte) *preview.Preview {
	p, err := preview.Make(context.Background(), one{data: data}, object.Entry{Key: name, Size: int64(len(data))}, 20,
		6)
	require.NoError(t, err)
	return p
}

func facts(p *preview.Preview) string {
	var all []string
	for _, f := range p.Facts {
		all = append(all, f.Name+"="+f.Value)
	}
	return strings.Join(all, "; ")
}

func wav(seconds int) []byte {
	var b bytes.Buffer
	le := func(v any) { binary.Write(&b, binary.LittleEndian, v) }
	n := uint32(seconds * 48000 * 2 * 3)
	b.WriteString("RIFF")
	le(n + 36)
	b.WriteString("WAVEfmt ")
	le(uint32(16))
	le(uint16(1))
	le(uint16(2))
	le(uint32(48000))
	le(uint32(48000 * 6))
	le(uint16(6))
	le(uint16(24))
	b.WriteString("data")
	le(n)
	b.Write(make([]byte, n))
	return b.Bytes()
}

func tarball() []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, name := range []string{"day 1/a.wav", "day 1/b\x1b[2J.wav"} {
		w.WriteHeader(&tar.Header{Name: name, Size: 3, Mode: 0o644})
		w.Write([]byte("abc"))
	}
	w.Close()
	return b.Bytes()
}

func TestKinds(t *testing.T) {
	assert.Equal(t, preview.Empty, look(t, "x", nil).Kind)

	p := look(t, "notes.txt", []byte("low tide\r\nwind 3\tNE\n"))
	assert.Equal(t, []string{"low tide", "wind 3    NE"}, p.Lines)
	p = look(t, "long.txt", bytes.Repeat([]byte("a line with ä\n"), 50_000))
	assert.True(t, p.Cut && p.Kind == preview.Text)

	p = look(t, "cards.csv", []byte("card;site\n7;\"weir; lower\"\n8;dam\n"))
	assert.Equal(t, []string{"card", "site"}, p.Header)
	assert.Equal(t, [][]string{{"7", "weir; lower"}, {"8", "dam"}}, p.Rows)
	p = look(t, "takes.json", []byte(`[{"id":1,"who":"no. 7"},{"id":2,"tags":["a"]}]`))
	assert.Equal(t, []string{"id", "who", "tags"}, p.Header)
	assert.Equal(t, []string{"2", "", `["a"]`}, p.Rows[1])
	p = look(t, "takes.jsonl", []byte(strings.Repeat(`{"id":10000000000000001}`+"\n", 3)))
	assert.Equal(t, "10000000000000001", p.Rows[2][0])
	p = look(t, "one.json", []byte(`{"a":{"b":1}}`))
	assert.Equal(t, preview.Text, p.Kind)
	assert.Contains(t, p.Lines, `    "b": 1`)
	assert.Equal(t, preview.Text, look(t, "broken.json", []byte("{not json")).Kind)

	img := image.NewRGBA(image.Rect(0, 0, 200, 100))
	for x := range 200 {
		for y := range 100 {
			img.Set(x, y, color.RGBA{R: uint8(x), G: 200, A: 255})
		}
	}
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, img))
	p = look(t, "tile.png", b.Bytes())
	assert.Equal(t, "picture=png, 200 × 100", facts(p))
	require.Len(t, p.Pixels, 10)
	require.Len(t, p.Pixels[0], 20)
	assert.Less(t, p.Pixels[5][0].R, p.Pixels[5][19].R)
	p = look(t, "half.png", b.Bytes()[:b.Len()/2])
	assert.Contains(t, facts(p), "damaged")

	p = look(t, "dawn.wav", wav(2))
	assert.Equal(t, "sound=WAVE, PCM; sampling=48000 Hz, 24 bit; channels=2, stereo; length=2s", facts(p))
	flac := append([]byte("fLaC\x80\x00\x00\x22"), make([]byte, 34)...)
	binary.BigEndian.PutUint64(flac[18:], 96000<<44|0<<41|23<<36|96000*90)
	assert.Equal(t, "sound=FLAC; sampling=96000 Hz, 24 bit; channels=1, mono; length=1m30s",
		facts(look(t, "a.flac", flac)))

	p = look(t, "pack.tar", tarball())
	assert.Equal(t, preview.Archive, p.Kind)
	assert.Len(t, p.Lines, 2)
	b.Reset()
	gz := gzip.NewWriter(&b)
	gz.Write(tarball())
	gz.Close()
	assert.Equal(t, "archive=tar, gzipped", facts(look(t, "pack.tar.gz", b.Bytes())))

	p = look(t, "unknown", []byte{0, 1, 2, 'L', 'u', 'm', 0xff})
	assert.Equal(t, preview.Bytes, p.Kind)
	assert.Equal(t, fmt.Sprintf("000000  %-50s···Lum·", "00 01 02 4c 75 6d ff"), p.Lines[0])
}

// Whatever the bytes are, looking at them ends well.
func FuzzLook(f *testing.F) {
	for _, data := range [][]byte{wav(0), tarball(), []byte("fLaC\x00\xff\xff\xff"), []byte("FORM0000AIFFCOMM0000"),
		[]byte("OggS\x01vorbis"), []byte("ID3\x04\x00\x00\x7f\x7f\x7f\x7f"),
		[]byte("\x89PNG\r\n\x1a\n"), []byte("[{}"), []byte("a,b\n\""), []byte("RF64\xff\xff\xff\xffWAVEdata"),
		[]byte("fLaC\x84\x00\x00\x0a\x00\x00\x00\x00\x01\x00\x00\x00xx"), []byte("[[[[{\"a\": [[[]]]}]]]]")} {
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, name := range []string{"x.csv", "x.json", "x"} {
			look(t, name, data)
		}
	})
}

// Small files that stand for enormous things are not unpacked.
func TestSmallFilesStaySmall(t *testing.T) {
	var big bytes.Buffer
	require.NoError(t, png.Encode(&big, image.NewPaletted(image.Rect(0, 0, 9000, 9000), color.Palette{color.Black})))
	deepest := strings.Repeat("[", 27_000) + strings.Repeat("]", 27_000)
	for name, do := range map[string]func() *preview.Preview{
		"a picture of 81 million pixels": func() *preview.Preview {
			p, _ := preview.Make(context.Background(), &one{data: big.Bytes()},
				object.Entry{Key: "x.png", Size: int64(big.Len())}, 40, 20)
			return p
		},
		"brackets in brackets": func() *preview.Preview {
			return preview.Of([]byte(deepest), "x.json",
				int64(len(deepest)))
		},
		"a remark that is no remark": func() *preview.Preview {
			return preview.Of([]byte("fLaC\x84\x00\x00\x0a\x00\x00\x00\x00\x01\x00\x00\x00xx"), "x.flac", 18)
		},
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		p := do()
		runtime.ReadMemStats(&after)
		assert.NotNil(t, p, name)
		assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(8<<20), name)
	}
}
