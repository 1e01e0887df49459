package catalog

import (
	"encoding/binary"
	"errors"
	"fmt"

	"lumtra/core/object"
)

// Which optional fields an encoded entry has.
const (
	hasETag = 1 << iota
	hasVersion
	hasClass
	hasMode
	hasSums
	isSpecial
)

// AppendEntry appends e, without its key, in the compact form that catalogs
// and plans keep: flags, size, nanoseconds since 1970, then what the flags say.
func AppendEntry(b []byte, e *object.Entry) []byte {
	var flags byte
	for _, f := range []struct {
		on  bool
		bit byte
	}{{e.ETag != "", hasETag}, {e.Version != "", hasVersion}, {e.Class != "", hasClass}, {e.Mode != 0, hasMode},
		{len(e.Sums) > 0, hasSums}, {e.Kind == object.Special, isSpecial}} {
		if f.on {
			flags |= f.bit
		}
	}
	b = append(b, flags)
	b = binary.AppendUvarint(b, uint64(e.Size))
	b = object.AppendTime(b, e.Modified)
	for _, text := range []string{e.ETag, e.Version, e.Class} {
		if text != "" {
			b = binary.AppendUvarint(b, uint64(len(text)))
			b = append(b, text...)
		}
	}
	if e.Mode != 0 {
		b = binary.AppendUvarint(b, uint64(e.Mode.Perm()))
	}
	if len(e.Sums) > 0 {
		b = binary.AppendUvarint(b, uint64(len(e.Sums)))
		for _, s := range e.Sums {
			b = append(b, byte(s.Kind), byte(len(s.Value)))
			b = append(b, s.Value...)
		}
	}
	return b
}

var errShort = errors.New("catalog: an entry is cut short")

// DecodeEntry reads what AppendEntry wrote into e, leaving the key alone, and
// returns the bytes behind it.
func DecodeEntry(b []byte, e *object.Entry) ([]byte, error) {
	d := decoder{b: b}
	flags := d.byte()
	*e = object.Entry{Key: e.Key, Latest: true}
	e.Size = int64(d.uvarint())
	e.Modified = object.ReadTime(d.varint)
	if flags&hasETag != 0 {
		e.ETag = d.text(d.uvarint())
	}
	if flags&hasVersion != 0 {
		e.Version = d.text(d.uvarint())
	}
	if flags&hasClass != 0 {
		e.Class = d.text(d.uvarint())
	}
	if flags&hasMode != 0 {
		e.Mode = object.ModeOf(uint32(d.uvarint()))
	}
	if flags&hasSums != 0 {
		for n := d.uvarint(); n > 0 && !d.short; n-- {
			kind := object.SumKind(d.byte())
			e.Sums = append(e.Sums, object.Sum{Kind: kind, Value: d.text(uint64(d.byte()))})
		}
	}
	if flags&isSpecial != 0 {
		e.Kind = object.Special
	}
	if d.short {
		return nil, errShort
	}
	for _, s := range e.Sums {
		if _, err := object.ParseSumKind(s.Kind.String()); err != nil || s.Kind == object.NoSum ||
			len(s.Value) != s.Kind.Size() {
			return nil, errShort
		}
	}
	if err := e.Sane(); err != nil {
		return nil, fmt.Errorf("catalog: %w", err)
	}
	return d.b, nil
}

// decoder reads fields until one is not there, and remembers that.
type decoder struct {
	b     []byte
	short bool
}

func (d *decoder) byte() byte {
	if len(d.b) == 0 {
		d.short = true
		return 0
	}
	v := d.b[0]
	d.b = d.b[1:]
	return v
}

func (d *decoder) uvarint() uint64 {
	v, n := binary.Uvarint(d.b)
	if n <= 0 {
		d.short = true
		return 0
	}
	d.b = d.b[n:]
	return v
}

func (d *decoder) varint() int64 {
	v, n := binary.Varint(d.b)
	if n <= 0 {
		d.short = true
		return 0
	}
	d.b = d.b[n:]
	return v
}

func (d *decoder) text(n uint64) string {
	if n > uint64(len(d.b)) {
		d.short = true
		return ""
	}
	v := string(d.b[:n])
	d.b = d.b[n:]
	return v
}
