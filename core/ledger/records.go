package ledger

import (
	"bufio"
	"encoding/binary"
	"hash/crc32"
	"io"

	"lumtra/core/object"
)

// A ledger is an append-only log. Effects are named by their number in the plan.
//
//	record = length of body (uvarint), CRC-32C of body (4 bytes), body
//	body   = type (1 byte), effect number (uvarint), fields by type
const ledgerMagic = "LUMTRAL3"

const (
	recordStart  = 's' // text: the plan's print; first record of the file
	recordDone   = 'd' // bytes moved, sum, then what is there: ETag, size, time; digest; 1 if held against the source
	recordIntend = 'i' // time: an upload is about to be opened; 0, or one more than there were, and their IDs
	recordBegin  = 'b' // upload ID, part size
	recordPart   = 'p' // part number, size, ETag, sum
	recordAbort  = 'a' // the upload was dropped
	recordFound  = 'g' // what was opened without an answer is seen to
	recordFailed = 'f' // cause, text
	recordTry    = 'y' // time, attempt, text: an attempt that failed
	recordDoubt  = 'q' // what is at the target may not be what was sent
	recordMet    = 'm' // what is at the target is not what the plan saw
	recordSeenTo = 't' // what was to become of the source is done
)

var crc = crc32.MakeTable(crc32.Castagnoli)

// appendRecord adds a record to b; fields adds those of its type.
func appendRecord(b []byte, kind byte, effect int64, fields func([]byte) []byte) []byte {
	var room [256]byte
	body := append(room[:0], kind)
	body = fields(binary.AppendUvarint(body, uint64(effect)))
	return frame(b, body)
}

func frame(b, body []byte) []byte {
	b = binary.AppendUvarint(b, uint64(len(body)))
	b = binary.LittleEndian.AppendUint32(b, crc32.Checksum(body, crc))
	return append(b, body...)
}

// longestRecord bounds what a damaged length can make a reader take.
const longestRecord = 1 << 20

// mostEffects bounds an effect's number: no plan has more.
const mostEffects = 1 << 32

// records reads a ledger from behind its magic, record by record, and stops at
// the first that is not whole.
type records struct {
	r    *bufio.Reader
	at   int64 // where the next record begins
	body []byte
	// start is where the body lies in the file.
	start int64
}

func newRecords(r io.Reader) *records {
	return &records{r: bufio.NewReaderSize(r, 256<<10), at: int64(len(ledgerMagic))}
}

// next reads a record; body is good until the next call.
func (s *records) next() bool {
	size, err := binary.ReadUvarint(s.r)
	if err != nil || size == 0 || size > longestRecord {
		return false
	}
	var sum [4]byte
	if _, err := io.ReadFull(s.r, sum[:]); err != nil {
		return false
	}
	if uint64(cap(s.body)) < size {
		s.body = make([]byte, size)
	}
	s.body = s.body[:size]
	if _, err := io.ReadFull(s.r, s.body); err != nil ||
		crc32.Checksum(s.body, crc) != binary.LittleEndian.Uint32(sum[:]) {
		return false
	}
	if n, used := binary.Uvarint(s.body[1:]); used <= 0 || n > mostEffects {
		return false
	}
	var length [binary.MaxVarintLen64]byte
	s.start = s.at + int64(binary.PutUvarint(length[:], size)) + 4
	s.at = s.start + int64(size)
	return true
}

// mostTorn is how far behind damage whole records are looked for.
const mostTorn = 4 << 20

// goesOn tells whether whole records stand behind what could not be read at a place:
// then it is no end that a crash has cut short, but damage.
func goesOn(file io.ReaderAt, from int64) bool {
	tail := make([]byte, mostTorn)
	n, _ := file.ReadAt(tail, from)
	tail = tail[:n]
	for at := 1; at < len(tail); at++ {
		size, used := binary.Uvarint(tail[at:])
		body := at + used + 4
		if used <= 0 || size < 2 || size > longestRecord || uint64(len(tail)-min(body, len(tail))) < size {
			continue
		}
		if crc32.Checksum(tail[body:body+int(size)], crc) == binary.LittleEndian.Uint32(tail[body-4:]) {
			return true
		}
	}
	return false
}

// fields gives what the record holds behind its type, the effect first.
func (s *records) fields() fields { return fields{b: s.body[1:]} }

// mostText bounds a text in a record, so that every record can be read back: nothing
// that a place is believed is longer, and of what it says in its own words the
// beginning is enough.
const mostText = object.MostName

func appendText(b []byte, s string) []byte {
	s = s[:min(len(s), mostText)]
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}

func appendSum(b []byte, s object.Sum) []byte {
	return appendText(binary.AppendUvarint(b, uint64(s.Kind)), s.Value)
}

// fields reads a record's body; the checksum vouches for its form.
type fields struct {
	b []byte
	// short tells that a text went on behind the end.
	short bool
}

func (f *fields) uvarint() uint64 {
	v, n := binary.Uvarint(f.b)
	f.b = f.b[max(n, 0):]
	return v
}

// size is a number of bytes, which no forged one makes negative or a sum overflow.
func (f *fields) size() int64 { return int64(min(f.uvarint(), object.MostSize)) }

func (f *fields) varint() int64 {
	v, n := binary.Varint(f.b)
	f.b = f.b[max(n, 0):]
	return v
}

func (f *fields) text() string {
	n := f.uvarint()
	if n > uint64(len(f.b)) {
		n, f.short = uint64(len(f.b)), true
	}
	s := string(f.b[:n])
	f.b = f.b[n:]
	return s
}

func (f *fields) sum() object.Sum {
	return object.Sum{Kind: object.SumKind(f.uvarint()), Value: f.text()}
}

// bitmap is a set of effect numbers: a million of them in a row take 125 KB, and one alone
// a page, however large it is.
type bitmap struct{ pages map[int64]*page }

// page holds the numbers of one stretch.
type page [128]uint64

func (p *page) at(n int64) (word *uint64, bit uint64) { return &p[n/64%int64(len(p))], 1 << (n % 64) }

func pageOf(n int64) int64 { return n / 64 / int64(len(page{})) }

// set adds n and tells whether it is new.
func (b *bitmap) set(n int64) bool {
	p := b.pages[pageOf(n)]
	if p == nil {
		if b.pages == nil {
			b.pages = map[int64]*page{}
		}
		p = new(page)
		b.pages[pageOf(n)] = p
	}
	word, bit := p.at(n)
	was := *word
	*word |= bit
	return *word != was
}

// clear takes n out.
func (b *bitmap) clear(n int64) {
	if p := b.pages[pageOf(n)]; p != nil {
		word, bit := p.at(n)
		*word &^= bit
	}
}

func (b *bitmap) has(n int64) bool {
	p := b.pages[pageOf(n)]
	if p == nil {
		return false
	}
	word, bit := p.at(n)
	return *word&bit != 0
}
