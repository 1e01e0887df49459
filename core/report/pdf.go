package report

import (
	"fmt"
	"image/color"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"codeberg.org/go-fonts/liberation/liberationserifregular"
	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/sfnt"
	"gonum.org/v1/plot/vg"
)

// pdf is a document whose text is Unicode: of each font the letters that are used are
// embedded, with what they mean, so that names can be searched for and copied.
type pdf struct {
	doc   *fpdf.Fpdf
	size  fpdf.SizeType
	known map[*typeface]string // the fonts in the document, by their names there
}

func newPDF(width, height vg.Length) *pdf {
	size := fpdf.SizeType{Wd: float64(width), Ht: float64(height)}
	p := &pdf{fpdf.NewCustom(&fpdf.InitType{OrientationStr: "P", UnitStr: "pt", Size: size}), size,
		map[*typeface]string{}}
	p.doc.SetAutoPageBreak(false, 0)
	p.doc.SetMargins(0, 0, 0)
	p.doc.SetCreator("Lumtra", true)
	p.doc.AddPage()
	return p
}

func (p *pdf) turn() { p.doc.AddPage() }

func (p *pdf) box(x, y, width, height vg.Length, c color.Color) {
	r, g, b, _ := c.RGBA()
	p.doc.SetFillColor(int(r>>8), int(g>>8), int(b>>8))
	p.doc.Rect(float64(x), float64(y), float64(width), float64(height), "F")
}

func (p *pdf) say(x, y, size vg.Length, words string) {
	r, g, b, _ := ink.RGBA()
	p.doc.SetTextColor(int(r>>8), int(g>>8), int(b>>8))
	p.runs(size, words, func(run string, width vg.Length) {
		p.doc.Text(float64(x), float64(y), run)
		x += width
	})
}

func (p *pdf) width(size vg.Length, words string) (all vg.Length) {
	p.runs(size, words, func(_ string, width vg.Length) { all += width })
	return all
}

// runs splits a line by the fonts its letters are in, and chooses each in turn.
func (p *pdf) runs(size vg.Length, words string, each func(run string, width vg.Length)) {
	var in *typeface
	run := ""
	flush := func() {
		if run != "" {
			p.choose(in, size)
			each(run, vg.Length(p.doc.GetStringWidth(run)))
		}
		run = ""
	}
	for _, r := range words {
		face, letters := faceFor(r)
		if face != in {
			flush()
			in = face
		}
		run += letters
	}
	flush()
}

func (p *pdf) choose(face *typeface, size vg.Length) {
	name := p.known[face]
	if name == "" {
		name = fmt.Sprint("face", len(p.known))
		p.known[face] = name
		p.doc.AddUTF8FontFromBytes(name, "", slices.Clone(face.data))
	}
	p.doc.SetFont(name, "", float64(size))
}

func (p *pdf) writeTo(w io.Writer) error { return p.doc.Output(w) }

// typeface is a TrueType font, and which letters it has.
type typeface struct {
	data []byte
	font *sfnt.Font
}

func (t *typeface) has(r rune) bool {
	i, err := t.font.GlyphIndex(nil, r)
	return err == nil && i != 0
}

// ours has Latin, Greek and Cyrillic.
var ours = sync.OnceValue(func() *typeface {
	t, err := parseFace(liberationserifregular.TTF)
	if err != nil {
		panic(err) // it is part of the program
	}
	return t
})

// faceFor is the font that a letter is written in, and how: as it is where ours or a
// font of this machine has it, else as an escape.
func faceFor(r rune) (*typeface, string) {
	switch {
	case ours().has(r):
		return ours(), string(r)
	case r > 0xffff: // which the library does not write
		return ours(), fmt.Sprintf(`\U%08x`, r)
	}
	if t := machine.find(r); t != nil {
		return t, string(r)
	}
	return ours(), fmt.Sprintf(`\u%04x`, r)
}

// machine are the fonts of this machine, read when they are first needed.
var machine faces

type faces struct {
	mu      sync.Mutex
	listed  bool
	paths   []string // not yet read
	read    []*typeface
	missing map[rune]bool
}

// mostFace is how large a font file may be, mostFaces how many are read.
const (
	mostFace  = 32 << 20
	mostFaces = 400
)

// find is a font of this machine that has the letter, nil if none does.
func (f *faces) find(r rune) *typeface {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.missing[r] {
		return nil
	}
	for _, t := range f.read {
		if t.has(r) {
			return t
		}
	}
	if !f.listed {
		f.listed, f.paths, f.missing = true, fontFiles(), map[rune]bool{}
	}
	for len(f.paths) > 0 {
		path := f.paths[0]
		f.paths = f.paths[1:]
		data, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		t, err := parseFace(data)
		if err != nil {
			continue
		}
		f.read = append(f.read, t)
		if t.has(r) {
			return t
		}
	}
	f.missing[r] = true
	return nil
}

// fontFiles are the TrueType files where fonts lie, plain ones first.
func fontFiles() (paths []string) {
	dirs := []string{"/usr/share/fonts", "/usr/local/share/fonts"}
	if home, err := os.UserHomeDir(); err == nil {
		dirs = append(dirs, filepath.Join(home, ".fonts"), filepath.Join(home, ".local/share/fonts"))
	}
	for _, dir := range dirs {
		filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() || !strings.EqualFold(filepath.Ext(path), ".ttf") ||
				len(paths) == mostFaces {
				return nil
			}
			if info, err := d.Info(); err == nil && info.Size() <= mostFace {
				paths = append(paths, path)
			}
			return nil
		})
	}
	fancy := func(path string) bool {
		name := strings.ToLower(filepath.Base(path))
		return slices.ContainsFunc([]string{"bold", "italic", "oblique", "light", "condensed", "mono"},
			func(s string) bool { return strings.Contains(name, s) })
	}
	slices.SortStableFunc(paths, func(a, b string) int {
		switch x, y := fancy(a), fancy(b); {
		case x == y:
			return strings.Compare(a, b)
		case y:
			return -1
		}
		return 1
	})
	return paths
}

// parseFace reads a font, if both libraries can: one knows its letters, the other
// writes them.
func parseFace(data []byte) (t *typeface, err error) {
	defer func() {
		if recover() != nil {
			t, err = nil, fmt.Errorf("the font cannot be read")
		}
	}()
	parsed, err := sfnt.Parse(data)
	if err != nil {
		return nil, err
	}
	try := fpdf.New("P", "pt", "A4", "")
	try.AddUTF8FontFromBytes("try", "", slices.Clone(data))
	try.SetFont("try", "", 9)
	if try.Err() {
		return nil, try.Error()
	}
	return &typeface{data, parsed}, nil
}
