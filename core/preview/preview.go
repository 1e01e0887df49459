package preview

import (
	"bytes"
	"context"
	"fmt"
	"image/color"
	"io"
	"path"
	"strings"
	"unicode/utf8"

	"lumtra/core/object"
	"lumtra/core/place"
)

// Kind is what a preview shows.
type Kind string

// The kinds.
const (
	Text    Kind = "text"
	Table   Kind = "table"
	Picture Kind = "picture"
	Audio   Kind = "audio"
	Archive Kind = "archive"
	Bytes   Kind = "bytes"
	Empty   Kind = "empty"
)

// Fact is one thing said of the content.
type Fact struct{ Name, Value string }

// Preview is what there is to look at. Which fields are filled follows from Kind.
type Preview struct {
	Kind  Kind
	Facts []Fact
	// Lines are text, members of an archive, or bytes in hexadecimal.
	Lines []string
	// Header and Rows are a table's.
	Header []string
	Rows   [][]string
	// Pixels are rows of a picture, scaled down to what was asked for.
	Pixels [][]color.RGBA
	// Cut tells that there is more than is shown.
	Cut bool
}

const (
	// textBytes is how much of a text, table or archive is read; pictureBytes
	// how large a picture may be, since a part of one shows nothing.
	textBytes    = 256 << 10
	pictureBytes = 24 << 20
	maxLines     = 400
)

// Make reads what is needed of an object and makes a preview that fits width by
// height cells; a cell shows two pixels of a picture, one above the other.
func Make(ctx context.Context, p place.Place, e object.Entry, width, height int) (*Preview, error) {
	if e.Size == 0 {
		return &Preview{Kind: Empty}, nil
	}
	head, err := read(ctx, p, e, min(e.Size, textBytes))
	if err != nil {
		return nil, err
	}
	cut := int64(len(head)) < e.Size
	if isPicture(head) {
		if e.Size > pictureBytes {
			return pictureFacts(head, fmt.Sprintf("larger than %d MiB: not drawn", pictureBytes>>20)), nil
		}
		if cut {
			if head, err = read(ctx, p, e, e.Size); err != nil {
				return nil, err
			}
		}
		return picture(head, width, height), nil
	}
	return Of(head, e.Key, e.Size), nil
}

func read(ctx context.Context, p place.Place, e object.Entry, n int64) ([]byte, error) {
	r, _, err := p.Read(ctx, e.Key, place.ReadOptions{Version: e.Version, Length: n})
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return io.ReadAll(io.LimitReader(r, n))
}

// Of makes a preview of content that is no picture from its first bytes; name
// and size are those of the whole.
func Of(head []byte, name string, size int64) *Preview {
	cut := int64(len(head)) < size
	if facts := audio(head, size); facts != nil {
		return &Preview{Kind: Audio, Facts: facts}
	}
	if p := archive(head, cut); p != nil {
		return p
	}
	if !isText(head, cut) {
		return hexadecimal(head, cut)
	}
	switch ext := strings.ToLower(path.Ext(name)); ext {
	case ".csv", ".tsv":
		if p := commas(head, ext == ".tsv", cut); p != nil {
			return p
		}
	case ".json", ".jsonl", ".ndjson", ".geojson":
		if p := jsonTable(head, cut); p != nil {
			return p
		}
	}
	return text(head, cut)
}

// isText tells text by its bytes: UTF-8 without the controls that no text has.
func isText(head []byte, cut bool) bool {
	for i := 0; i < len(head); {
		r, n := utf8.DecodeRune(head[i:])
		if r == utf8.RuneError && n == 1 {
			return cut && len(head)-i < utf8.UTFMax // a rune cut in two
		}
		if r < ' ' && !strings.ContainsRune("\n\r\t\f\x1b", r) {
			return false
		}
		i += n
	}
	return true
}

func text(head []byte, cut bool) *Preview {
	p := &Preview{Kind: Text}
	lines := strings.Split(strings.ReplaceAll(string(head), "\r\n", "\n"), "\n")
	if cut {
		lines = lines[:max(len(lines)-1, 1)] // the last one may be half
	} else if lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	p.Cut = cut || len(lines) > maxLines
	for _, line := range lines[:min(len(lines), maxLines)] {
		p.Lines = append(p.Lines, strings.ReplaceAll(line, "\t", "    "))
	}
	return p
}

// hexadecimal shows bytes sixteen a line, with those that are letters beside.
func hexadecimal(head []byte, cut bool) *Preview {
	p := &Preview{Kind: Bytes, Cut: cut}
	for at := 0; at < len(head) && len(p.Lines) < maxLines; at += 16 {
		row := head[at:min(at+16, len(head))]
		var left, right strings.Builder
		for i := range 16 {
			if i == 8 {
				left.WriteByte(' ')
			}
			if i >= len(row) {
				left.WriteString("   ")
				continue
			}
			fmt.Fprintf(&left, "%02x ", row[i])
			if c := row[i]; c >= 0x20 && c < 0x7f {
				right.WriteByte(c)
			} else {
				right.WriteRune('·')
			}
		}
		p.Lines = append(p.Lines, fmt.Sprintf("%06x  %s %s", at, left.String(), right.String()))
	}
	p.Cut = p.Cut || len(head) > 16*maxLines
	return p
}

func has(head []byte, at int, magic string) bool {
	return len(head) >= at+len(magic) && bytes.Equal(head[at:at+len(magic)], []byte(magic))
}
