package pack

import (
	"encoding/binary"
	"hash/crc32"
	"io"

	"lumtra/core/object"
)

// footer is the last piece of ours in a pack: it tells where the index lies. All numbers are
// little-endian; docs/packs.md has the table.
type footer struct {
	// end is the offset in the object behind the last frame of members: what another addition keeps.
	// index is where the index begins, packed how many bytes of it there are, without what is around
	// its pieces. stream is how long the stream of members is.
	end, index, packed, stream int64
	// members counts what is there, dropped what is there no more and still takes room; size and
	// dead are their bytes.
	members, dropped, size, dead int64
	// sum is the CRC-64/NVME of the object up to end.
	sum uint64
}

// le is how all numbers of a pack are written.
var le = binary.LittleEndian

// kept is the checksum of what is kept when something is added.
func (f *footer) kept() object.Sum {
	return object.Sum{Kind: object.CRC64NVME, Value: string(binary.BigEndian.AppendUint64(nil, f.sum))}
}

// setSum sets it.
func (f *footer) setSum(sum object.Sum) { f.sum = binary.BigEndian.Uint64([]byte(sum.Value)) }

const (
	footMagic = "LumPack1"
	footSize  = 8 + 9*8 + 4
)

func (f *footer) numbers() []*int64 {
	return []*int64{&f.end, &f.index, &f.packed, &f.stream, &f.members, &f.dropped, &f.size, &f.dead}
}

// encode is the footer's bytes.
func (f *footer) encode() []byte {
	b := append(make([]byte, 0, footSize), footMagic...)
	for _, n := range f.numbers() {
		b = le.AppendUint64(b, uint64(*n))
	}
	b = le.AppendUint64(b, f.sum)
	return le.AppendUint32(b, crc32.Checksum(b, crc32.MakeTable(crc32.Castagnoli)))
}

// decodeFooter reads one; ok is false where none is there.
func decodeFooter(b []byte) (f footer, ok bool) {
	if len(b) != footSize || string(b[:8]) != footMagic ||
		crc32.Checksum(b[:footSize-4], crc32.MakeTable(crc32.Castagnoli)) !=
			le.Uint32(b[footSize-4:]) {
		return f, false
	}
	b = b[8:]
	for _, n := range f.numbers() {
		*n = int64(le.Uint64(b))
		if b = b[8:]; *n < 0 {
			return f, false
		}
	}
	f.sum = le.Uint64(b)
	return f, true
}

// seekTableTail is how long the end of a seek table is: the number of frames, a descriptor, its magic.
const seekTableTail = 9

// foot finds the footer at the end of an object of size bytes, of which tail is the end. It gives the
// offset in the object at which the piece with the footer begins; behind is how many bytes of the
// object are needed, counted from its end, where the tail is too short to tell.
func (form Form) foot(tail []byte, size int64) (f footer, at, behind int64) {
	left := int64(len(tail))
	if form == Zstd { // the seek table comes last
		if left < seekTableTail || le.Uint32(tail[left-4:]) != seekMagic {
			return f, -1, 0
		}
		frames := int64(le.Uint32(tail[left-seekTableTail:]))
		left -= 8 + frames*8 + seekTableTail
	}
	before, after := form.around()
	at = left - after - footSize - before
	if at < 0 {
		if behind = int64(len(tail)) - at; behind > size || behind > mostTail {
			return f, -1, 0
		}
		return f, -1, behind
	}
	f, ok := decodeFooter(tail[at+before : at+before+footSize])
	at += size - int64(len(tail))
	if !ok || f.index > at || f.end > f.index || form.wrapped(f.packed) != at-f.index {
		return footer{}, -1, 0
	}
	return f, at, 0
}

// mostTail is how much of the end of a pack is read to find its footer, in bytes: seek tables of
// packs of some TiB have tens of MB.
const mostTail = 256 << 20

// pieces is the index as it lies in the object, without what is around its pieces.
type pieces struct {
	form Form
	from int64 // of the first piece, in the object
	size int64
	raw  io.ReaderAt
}

// ReadAt reads the index; what is around its pieces is left out.
func (p *pieces) ReadAt(b []byte, off int64) (n int, err error) {
	if off < 0 || off >= p.size {
		return 0, io.EOF
	}
	want := b[:min(int64(len(b)), p.size-off)]
	before, behind := p.form.around()
	whole := chunkSize + before + behind
	first, last := off/chunkSize, (off+int64(len(want))-1)/chunkSize
	raw := make([]byte, min((last+1)*whole, p.form.wrapped(p.size))-first*whole)
	if _, err := p.raw.ReadAt(raw, p.from+first*whole); err != nil {
		return 0, err
	}
	for at := off - first*chunkSize; n < len(want); {
		piece, in := at/chunkSize, at%chunkSize
		from := piece*whole + before + in
		k := copy(want[n:], raw[from:min(from+chunkSize-in, int64(len(raw))-behind)])
		n, at = n+k, at+int64(k)
	}
	if n < len(b) {
		err = io.EOF
	}
	return n, err
}
