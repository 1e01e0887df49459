package preview

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"fmt"
	"io"
	"strings"
	"time"
)

// audio reads the facts of the usual forms of sound from their headers; nil for
// anything else.
func audio(head []byte, size int64) []Fact {
	switch {
	case has(head, 0, "RIFF") && has(head, 8, "WAVE"), has(head, 0, "RF64") && has(head, 8, "WAVE"):
		return wave(head, size)
	case has(head, 0, "fLaC"):
		return flac(head)
	case has(head, 0, "FORM") && (has(head, 8, "AIFF") || has(head, 8, "AIFC")):
		return aiff(head)
	case has(head, 0, "OggS"):
		return ogg(head)
	case has(head, 0, "ID3"), len(head) > 3 && head[0] == 0xff && head[1]&0xe0 == 0xe0 && head[1]&0x06 != 0:
		return mpeg(head)
	}
	return nil
}

func length(seconds float64) Fact {
	return Fact{"length", time.Duration(seconds * float64(time.Second)).Round(10 * time.Millisecond).String()}
}

func sound(form string, rate, channels, bits int) []Fact {
	facts := []Fact{{"sound", form}, {"sampling", fmt.Sprintf("%d Hz", rate)}}
	if bits > 0 {
		facts[1].Value += fmt.Sprintf(", %d bit", bits)
	}
	return append(facts,
		Fact{"channels",
			map[int]string{1: "1, mono",
				2: "2, stereo"}[channels] + map[bool]string{true: fmt.Sprint(channels)}[channels > 2]})
}

// wave walks the chunks of a WAVE file (Multimedia Programming Interface and
// Data Specifications 1.0; EBU Tech 3306 for RF64, 3285 for "bext").
func wave(head []byte, size int64) []Fact {
	facts, second, data := []Fact{{"sound", "WAVE"}}, 0.0, int64(-1)
	var more []Fact
	for at := 12; at+8 <= len(head); {
		id, n := string(head[at:at+4]), int64(binary.LittleEndian.Uint32(head[at+4:]))
		body := head[at+8:]
		switch {
		case id == "fmt " && n >= 16 && len(body) >= 16:
			form := map[uint16]string{1: "WAVE, PCM", 3: "WAVE, floating point",
				0xfffe: "WAVE, extensible"}[binary.LittleEndian.Uint16(body)]
			if form == "" {
				form = "WAVE, compressed"
			}
			facts = sound(form, int(binary.LittleEndian.Uint32(body[4:])), int(binary.LittleEndian.Uint16(body[2:])),
				int(binary.LittleEndian.Uint16(body[14:])))
			second = float64(binary.LittleEndian.Uint32(body[8:]))
		case id == "data":
			if data = n; n == 0xffffffff || n > size {
				data = size - int64(at) - 8
			}
		case id == "bext" && len(body) >= 346:
			for _, x := range []struct {
				name     string
				from, to int
			}{{"description", 0, 256}, {"recorded by", 256, 288}, {"recorded on", 320, 330}} {
				if text := strings.TrimRight(string(body[x.from:x.to]), "\x00 "); text != "" {
					more = append(more, Fact{x.name, text})
				}
			}
		}
		at += 8 + int(min(n+n&1, int64(len(head)))) // n may be any 32 bits
	}
	if second > 0 && data >= 0 {
		facts = append(facts, length(float64(data)/second))
	}
	return append(facts, more...)
}

// flac reads STREAMINFO and VORBIS_COMMENT (RFC 9639, sections 8.2 and 8.6).
func flac(head []byte) []Fact {
	facts := []Fact{{"sound", "FLAC"}}
	for at := 4; at+4 <= len(head); {
		kind, n := head[at]&0x7f, int(head[at+1])<<16|int(head[at+2])<<8|int(head[at+3])
		body := head[at+4:]
		switch {
		case kind == 0 && len(body) >= 18:
			x := binary.BigEndian.Uint64(body[10:])
			rate := int(x >> 44)
			facts = sound("FLAC", rate, int(x>>41&7)+1, int(x>>36&31)+1)
			if rate > 0 {
				facts = append(facts, length(float64(x&(1<<36-1))/float64(rate)))
			}
		case kind == 4 && len(body) >= n:
			facts = append(facts, comments(body[:n])...)
		}
		if head[at]&0x80 != 0 {
			return facts
		}
		at += 4 + n
	}
	return facts
}

// comments are the named remarks that FLAC and Ogg share.
func comments(body []byte) (facts []Fact) {
	next := func() string {
		if len(body) < 4 {
			body = nil
			return ""
		}
		n := int(binary.LittleEndian.Uint32(body))
		if body = body[4:]; n < 0 || n > len(body) {
			body = nil
			return ""
		}
		text := string(body[:n])
		body = body[n:]
		return text
	}
	next() // who wrote the file
	if len(body) < 4 {
		return nil
	}
	body = body[4:]
	for len(facts) < 12 && len(body) > 0 {
		if name, value, ok := strings.Cut(next(), "="); ok && len(value) < 300 {
			facts = append(facts, Fact{strings.ToLower(name), value})
		}
	}
	return facts
}

// aiff reads the common chunk (Audio Interchange File Format 1.3).
func aiff(head []byte) []Fact {
	for at := 12; at+8 <= len(head); {
		n := int(binary.BigEndian.Uint32(head[at+4:]))
		if body := head[at+8:]; string(head[at:at+4]) == "COMM" && len(body) >= 18 {
			frames := binary.BigEndian.Uint32(body[2:])
			// An 80-bit number: exponent and the whole of the fraction.
			rate := float64(binary.BigEndian.Uint64(body[10:]))
			for e := int(binary.BigEndian.Uint16(body[8:])&0x7fff) - 16383; e < 63 && rate > 0; e++ {
				rate /= 2
			}
			facts := sound("AIFF", int(rate), int(binary.BigEndian.Uint16(body)),
				int(binary.BigEndian.Uint16(body[6:])))
			if rate > 0 {
				facts = append(facts, length(float64(frames)/rate))
			}
			return facts
		}
		at += 8 + min(n+n&1, len(head))
	}
	return []Fact{{"sound", "AIFF"}}
}

// ogg reads the first packet of the stream (RFC 3533, RFC 7845).
func ogg(head []byte) []Fact {
	if i := bytes.Index(head[:min(len(head), 512)], []byte("\x01vorbis")); i >= 0 && len(head) >= i+16 {
		return sound("Ogg, Vorbis", int(binary.LittleEndian.Uint32(head[i+12:])), int(head[i+11]), 0)
	}
	if i := bytes.Index(head[:min(len(head), 512)], []byte("OpusHead")); i >= 0 && len(head) >= i+16 {
		return sound("Ogg, Opus", int(binary.LittleEndian.Uint32(head[i+12:])), int(head[i+9]), 0)
	}
	return []Fact{{"sound", "Ogg"}}
}

// mpeg reads the first frame's header (ISO/IEC 11172-3, section 2.4.1.3).
func mpeg(head []byte) []Fact {
	at := 0
	if has(head, 0, "ID3") && len(head) > 10 {
		at = 10 + (int(head[6])<<21 | int(head[7])<<14 | int(head[8])<<7 | int(head[9]))
	}
	facts := []Fact{{"sound", "MPEG audio"}}
	if at+4 > len(head) || head[at] != 0xff || head[at+1]&0xe0 != 0xe0 {
		return facts
	}
	version, layer := head[at+1]>>3&3, 4-int(head[at+1]>>1&3)
	rate := []int{44100, 48000, 32000, 0}[head[at+2]>>2&3]
	if version == 2 {
		rate /= 2
	} else if version == 0 {
		rate /= 4
	}
	channels := 2
	if head[at+3]>>6 == 3 {
		channels = 1
	}
	return sound(fmt.Sprintf("MPEG audio, layer %d", layer), rate, channels, 0)
}

// archive lists the members of a tar, also a gzipped one, as far as the bytes
// go, and names a zip, whose list is at its end.
func archive(head []byte, cut bool) *Preview {
	var r io.Reader = bytes.NewReader(head)
	form := "tar"
	switch {
	case has(head, 0, "\x1f\x8b"):
		gz, err := gzip.NewReader(r)
		if err != nil {
			return nil
		}
		r, form = io.LimitReader(gz, 64*textBytes), "tar, gzipped"
	case has(head, 0, "PK\x03\x04"):
		return zipped(head, cut)
	case !has(head, 257, "ustar"):
		return nil
	}
	p := &Preview{Kind: Archive, Facts: []Fact{{"archive", form}}, Cut: cut}
	members := tar.NewReader(r)
	for len(p.Lines) < maxLines {
		h, err := members.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			p.Cut = true
			break
		}
		p.Lines = append(p.Lines, fmt.Sprintf("%12d  %s  %s", h.Size, h.ModTime.UTC().Format("2006-01-02 15:04"),
			h.Name))
	}
	if len(p.Lines) == 0 { // gzipped, but no tar
		return nil
	}
	return p
}

func zipped(head []byte, cut bool) *Preview {
	p := &Preview{Kind: Archive, Facts: []Fact{{"archive", "zip"}}}
	z, err := zip.NewReader(bytes.NewReader(head), int64(len(head)))
	if cut || err != nil {
		p.Facts = append(p.Facts, Fact{"members", "listed at the file's end, which was not read"})
		return p
	}
	for _, f := range z.File[:min(len(z.File), maxLines)] {
		p.Lines = append(p.Lines, fmt.Sprintf("%12d  %s  %s", f.UncompressedSize64,
			f.Modified.UTC().Format("2006-01-02 15:04"), f.Name))
	}
	p.Cut = len(z.File) > maxLines
	return p
}
