package transfer

import (
	"encoding/binary"
	"io"
	"os"
	"time"

	"lumtra/core/object"
)

// Arrivals is what a ledger knows to be at the receiving side since each
// finished effect, and of which effects the source was seen to afterwards. It
// holds 8 bytes an effect and reads the rest when it is asked for. It tells the
// state when it was opened.
type Arrivals struct {
	file  *os.File
	at    []int64 // where the effect's fields begin; 0 for none
	after bitmap
}

// OpenArrivals reads the ledger at path.
func OpenArrivals(path string) (*Arrivals, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	a := &Arrivals{file: file}
	if _, err := file.Seek(int64(len(ledgerMagic)), io.SeekStart); err != nil {
		file.Close()
		return nil, err
	}
	for all := newRecords(file); all.next(); {
		effect, used := binary.Uvarint(all.body[1:])
		switch all.body[0] {
		case recordDone:
			for uint64(len(a.at)) <= effect {
				a.at = append(a.at, 0)
			}
			a.at[effect] = all.start + 1 + int64(used)
		case recordSettle:
			a.after.set(int64(effect))
		}
	}
	return a, nil
}

// mostFields is more than the fields of a finished effect take: an ETag can be
// long, the rest is not.
const mostFields = 2 << 10

// Entry is what is there since the effect: ETag, size, time, the checksum that
// was sent, and the digest if one was computed. It is false for an effect that
// is not done.
func (a *Arrivals) Entry(effect int64) (e object.Entry, ok bool, err error) {
	if effect >= int64(len(a.at)) || a.at[effect] == 0 {
		return e, false, nil
	}
	var room [mostFields]byte
	n, err := a.file.ReadAt(room[:], a.at[effect])
	if err != nil && err != io.EOF {
		return e, false, err
	}
	f := fields{b: room[:n]}
	f.uvarint() // bytes moved
	sum := f.sum()
	e.ETag, e.Size = f.text(), int64(f.uvarint())
	e.Modified = time.Unix(0, f.varint())
	for _, s := range []object.Sum{sum, f.sum()} {
		if s.Kind != object.NoSum {
			e.Sums = append(e.Sums, s)
		}
	}
	return e, true, nil
}

// Settled tells whether the effect's source was seen to.
func (a *Arrivals) Settled(effect int64) bool { return a.after.has(effect) }

// Close closes the ledger.
func (a *Arrivals) Close() error { return a.file.Close() }
