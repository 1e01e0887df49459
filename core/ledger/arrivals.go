package ledger

import (
	"encoding/binary"
	"io"
	"os"

	"lumtra/core/object"
)

// Arrivals is what a ledger knows to be at the receiving side since each finished
// effect, of which effects the source was seen to afterwards, and of which what is
// there may not be what was sent. It tells the state when it was opened. Effects are
// asked for in rising order: it holds a few bits of each, and where the records lie
// of a stretch of them at a time, however many there are.
type Arrivals struct {
	file    *os.File
	spans   []effectSpan
	From    int64   // the first effect of the stretch at hand; -1 for none
	at      []int64 // where the fields of its effects begin; 0 for none
	after   bitmap
	doubted bitmap
	met     bitmap
	// questions counts the records that raise a doubt.
	questions int
}

// effectSpan is a run of bytes of the ledger, and the effects it tells of.
type effectSpan struct{ from, to, least, most int64 }

// Tests make them small.
var (
	// stretch is how many effects' places are held at a time: 8 MiB of them.
	stretch = int64(1 << 20)
	// spanSize is how much of the ledger is read to find some of its effects. Runs go
	// through a plan in its order, so that a stretch lies in few spans.
	spanSize = int64(4 << 20)
)

// OpenArrivals reads the ledger at path.
func OpenArrivals(path string) (*Arrivals, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	a := &Arrivals{file: file, From: -1}
	if _, err := file.Seek(int64(len(ledgerMagic)), io.SeekStart); err != nil {
		file.Close()
		return nil, err
	}
	span := effectSpan{from: int64(len(ledgerMagic)), least: -1}
	all := newRecords(file)
	for all.next() {
		effect, _ := binary.Uvarint(all.body[1:])
		n := int64(effect)
		switch all.body[0] {
		case recordDone:
			a.doubted.clear(n)
			a.met.clear(n)
			if span.least < 0 || n < span.least {
				span.least = n
			}
			span.most = max(span.most, n)
		case recordSeenTo:
			a.after.set(n)
		case recordDoubt:
			a.doubted.set(n)
			a.questions++
		case recordMet:
			a.met.set(n)
			a.questions++
		}
		if span.to = all.at; span.to-span.from >= spanSize {
			a.spans, span = append(a.spans, span), effectSpan{from: span.to, least: -1}
		}
	}
	if span.to > span.from {
		a.spans = append(a.spans, span)
	}
	return a, nil
}

// load finds the records of the stretch that an effect is in.
func (a *Arrivals) load(effect int64) error {
	a.From = effect / stretch * stretch
	var most int64
	for _, span := range a.spans {
		most = max(most, span.most+1-a.From)
	}
	if most = min(most, stretch); int64(cap(a.at)) < most {
		a.at = make([]int64, most)
	}
	a.at = a.at[:max(most, 0)]
	clear(a.at)
	for _, span := range a.spans {
		if span.least < 0 || span.least >= a.From+stretch || span.most < a.From {
			continue
		}
		if _, err := a.file.Seek(span.from, io.SeekStart); err != nil {
			return err
		}
		all := newRecords(io.LimitReader(a.file, span.to-span.from))
		for all.at = span.from; all.next(); {
			effect, used := binary.Uvarint(all.body[1:])
			if n := int64(effect) - a.From; all.body[0] == recordDone && n >= 0 && n < int64(len(a.at)) {
				a.at[n] = all.start + 1 + int64(used)
			}
		}
	}
	return nil
}

// fewFields is what the fields of a finished effect mostly take, mostFields more than
// they ever do: an ETag can be long, the rest is not.
const (
	fewFields  = 2 << 10
	mostFields = fewFields + mostText
)

// Entry is what is there since the effect: ETag, size, time, the checksum that
// was sent, and the digest if one was computed. It is false for an effect that
// is not done.
func (a *Arrivals) Entry(effect int64) (e object.Entry, ok bool, err error) {
	if a.file == nil {
		return e, false, nil
	}
	if a.From < 0 || effect < a.From || effect >= a.From+stretch {
		if err := a.load(effect); err != nil {
			return e, false, err
		}
	}
	if effect-a.From >= int64(len(a.at)) || a.at[effect-a.From] == 0 {
		return e, false, nil
	}
	at := a.at[effect-a.From]
	var few [fewFields]byte
	room := few[:]
read:
	n, err := a.file.ReadAt(room, at)
	if err != nil && err != io.EOF {
		return e, false, err
	}
	f := fields{b: room[:n]}
	f.uvarint() // bytes moved
	sum := f.sum()
	e.ETag, e.Size = f.text(), f.size()
	if f.short && len(room) < mostFields {
		room = make([]byte, mostFields)
		goto read
	}
	e.Modified = object.ReadTime(f.varint)
	for _, s := range []object.Sum{sum, f.sum()} {
		if s.Kind != object.NoSum {
			e.Sums = append(e.Sums, s)
		}
	}
	e.Unverified = f.uvarint() != 1
	return e, true, nil
}

// SeenTo tells whether the effect's source was seen to.
func (a *Arrivals) SeenTo(effect int64) bool { return a.after.has(effect) }

// Doubted tells that what is at the target may not be what was sent: a write ended
// before its content was looked at, or was found another later.
func (a *Arrivals) Doubted(effect int64) bool { return a.doubted.has(effect) }

// Met tells that the run met something at the target that its plan had not seen.
func (a *Arrivals) Met(effect int64) bool { return a.met.has(effect) }

// Questions tells whether any doubt was raised at all, even if it was settled since.
func (a *Arrivals) Questions() bool { return a.questions > 0 }

// Close closes the ledger.
func (a *Arrivals) Close() error {
	if a.file == nil {
		return nil
	}
	return a.file.Close()
}
