package standin

import (
	"encoding/binary"
	"slices"
	"time"
)

// packed is the versions of one key in a few bytes, newest first: a stand-in
// with millions of objects holds each in about a tenth of what the fields and
// maps of a [version] would take. It is taken apart for each request that asks.
//
// A version is a byte of flags, then, as far as the flags say so: the ID, the
// ETag, the class, size and time, the four maps, the extents, and the rest. Texts
// and lists have their length before them; names that every object has are one
// byte (see [wellKnown]).
type packed string

const (
	packedNull     = 1 << iota // the ID is "null"
	packedMarker               // a delete marker
	packedRemoved              // removed and kept
	packedRestored             // Restored and Until follow
	packedSnapshot             // Snapshot follows
)

// wellKnown are names and values that are written as one byte.
var wellKnown = []string{"", ownSum, "Content-Type", "Content-Encoding", "X-Amz-Meta-Lumtra-Mtime",
	"X-Amz-Meta-Lumtra-Mode",
	"X-Ms-Meta-Lumtra_mtime", "X-Ms-Meta-Lumtra_mode", "X-Ms-Meta-Lumtra_crc64nvme", "Content-Md5", packName,
	"application/octet-stream", "null"}

func appendText(b []byte, s string) []byte {
	if i := slices.Index(wellKnown, s); i >= 0 {
		return append(b, byte(i))
	}
	b = binary.AppendUvarint(b, uint64(len(s)+len(wellKnown)))
	return append(b, s...)
}

func appendMap(b []byte, m map[string]string) []byte {
	b = binary.AppendUvarint(b, uint64(len(m)))
	for name, value := range m {
		b = appendText(appendText(b, name), value)
	}
	return b
}

// pack puts the versions of a key together.
func pack(stack []*version) packed {
	var room [512]byte
	b := room[:0]
	for _, v := range stack {
		flags := byte(0)
		for _, f := range []struct {
			on  bool
			bit byte
		}{{v.ID == "null", packedNull}, {v.Marker, packedMarker}, {v.Removed, packedRemoved},
			{!v.Restored.IsZero() || !v.Until.IsZero(), packedRestored}, {v.Snapshot != "", packedSnapshot}} {
			if f.on {
				flags |= f.bit
			}
		}
		b = append(b, flags)
		if flags&packedNull == 0 {
			b = appendText(b, v.ID)
		}
		b = appendText(appendText(b, v.ETag), v.Class)
		b = binary.AppendUvarint(b, uint64(v.Size))
		b = binary.AppendVarint(b, v.Modified.UnixNano())
		rest := len(b)
		for _, m := range []map[string]string{v.Header, v.Meta, v.Sums, v.Tags} {
			b = appendMap(b, m)
		}
		b = binary.AppendUvarint(b, uint64(len(v.Body)))
		for _, x := range v.Body {
			b = binary.AppendUvarint(appendText(b, x.File), uint64(x.Offset))
			b = binary.AppendUvarint(b, uint64(x.Size))
		}
		if flags&packedRestored != 0 {
			b = binary.AppendVarint(b, nano(v.Restored))
			b = binary.AppendVarint(b, nano(v.Until))
		}
		if flags&packedSnapshot != 0 {
			b = appendText(b, v.Snapshot)
		}
		// Its length goes before what a listing has no need of.
		size := binary.AppendUvarint(nil, uint64(len(b)-rest))
		b = slices.Insert(b, rest, size...)
	}
	return packed(b)
}

func nano(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixNano()
}

func fromNano(n int64) time.Time {
	if n == 0 {
		return time.Time{}
	}
	return time.Unix(0, n).UTC()
}

// unpacking is a reader of one key's versions, which were packed here and so
// need no checks.
type unpacking struct{ rest packed }

func (u *unpacking) number() uint64 {
	var n uint64
	for i := 0; ; i++ {
		c := u.rest[i]
		n |= uint64(c&0x7f) << (7 * i)
		if c < 0x80 {
			u.rest = u.rest[i+1:]
			return n
		}
	}
}

func (u *unpacking) signed() int64 {
	n := u.number()
	return int64(n>>1) ^ -int64(n&1)
}

func (u *unpacking) text() string {
	n := int(u.number())
	if n < len(wellKnown) {
		return wellKnown[n]
	}
	n -= len(wellKnown)
	s := string(u.rest[:n])
	u.rest = u.rest[n:]
	return s
}

func (u *unpacking) table() map[string]string {
	n := u.number()
	if n == 0 {
		return nil
	}
	m := make(map[string]string, n)
	for range n {
		name := u.text()
		m[name] = u.text()
	}
	return m
}

// unpack takes the versions of a key apart. A light one leaves out what a listing
// does not show.
func (p packed) unpack(key string, light bool) []*version {
	var stack []*version
	for u := (unpacking{p}); u.rest != ""; {
		flags := u.rest[0]
		u.rest = u.rest[1:]
		v := &version{Key: key, ID: "null", Marker: flags&packedMarker != 0, Removed: flags&packedRemoved != 0}
		if flags&packedNull == 0 {
			v.ID = u.text()
		}
		v.ETag, v.Class = u.text(), u.text()
		v.Size, v.Modified = int64(u.number()), time.Unix(0, u.signed()).UTC()
		size := int(u.number())
		stack = append(stack, v)
		if light {
			u.rest = u.rest[size:]
			continue
		}
		v.Header, v.Meta, v.Sums, v.Tags = u.table(), u.table(), u.table(), u.table()
		for range u.number() {
			v.Body = append(v.Body, extent{u.text(), int64(u.number()), int64(u.number())})
		}
		if flags&packedRestored != 0 {
			v.Restored, v.Until = fromNano(u.signed()), fromNano(u.signed())
		}
		if flags&packedSnapshot != 0 {
			v.Snapshot = u.text()
		}
	}
	return stack
}
