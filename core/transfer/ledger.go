package transfer

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"sync"
	"time"

	"lumtra/core/object"
	"lumtra/core/place"
)

// A ledger is an append-only log of what a run has done. Each record goes to
// the system in one write before the run counts it, so it survives the death
// of the process; a record that a crash cut short is recognised by its
// checksum and dropped. Effects are named by their number in the plan.
//
//	record = length of body (uvarint), CRC-32C of body (4 bytes), body
//	body   = type (1 byte), effect number (uvarint), fields by type
const ledgerMagic = "LUMTRAL3"

const (
	recordStart  = 's' // text: the plan's print; first record of the file
	recordDone   = 'd' // bytes moved, sum, then what is there: ETag, size, time; digest
	recordBegin  = 'b' // upload ID, part size
	recordPart   = 'p' // part number, size, ETag, sum
	recordAbort  = 'a' // the upload was dropped
	recordFailed = 'f' // cause, text
	recordTry    = 'y' // time, attempt, text: an attempt that failed
	recordSettle = 't' // what was to become of the source is done
)

// uploadState is a big object begun and not finished.
type uploadState struct {
	id       string
	partSize int64
	parts    map[int]place.Part
}

// Ledger is an open ledger with what it says so far. Its methods may be called
// from many goroutines.
type Ledger struct {
	mu      sync.Mutex
	file    *os.File
	buf     []byte
	done    bitmap
	after   bitmap
	uploads map[int64]*uploadState
	// Done and Bytes count what earlier and this run finished.
	doneCount, doneBytes int64
	settledCount         int64
	err                  error
}

// ErrOtherPlan means that a ledger was written for another plan.
var ErrOtherPlan = errors.New("the ledger belongs to another plan")

// OpenLedger opens the ledger at path for the plan with the given print, or
// starts it. A damaged end is cut off.
func OpenLedger(path, print string) (*Ledger, error) {
	file, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	l := &Ledger{file: file, uploads: map[int64]*uploadState{}}
	if err := l.load(print); err != nil {
		file.Close()
		return nil, fmt.Errorf("ledger %s: %w", path, err)
	}
	return l, nil
}

func (l *Ledger) load(print string) error {
	raw, err := io.ReadAll(l.file)
	if err != nil {
		return err
	}
	if len(raw) < len(ledgerMagic) {
		if err := l.file.Truncate(0); err != nil {
			return err
		}
		if _, err := l.file.WriteAt([]byte(ledgerMagic), 0); err != nil {
			return err
		}
		l.file.Seek(int64(len(ledgerMagic)), io.SeekStart)
		l.append(recordStart, 0, func(b []byte) []byte { return appendText(b, print) })
		return l.err
	}
	if string(raw[:len(ledgerMagic)]) != ledgerMagic {
		return errors.New("not a ledger")
	}
	good := len(ledgerMagic)
	for {
		body, end := recordAt(raw, good)
		if body == nil || crc32.Checksum(body, crc) != binary.LittleEndian.Uint32(raw[end-len(body)-4:]) {
			break
		}
		if err := l.replay(body, print); err != nil {
			return err
		}
		good = end
	}
	if err := l.file.Truncate(int64(good)); err != nil {
		return err
	}
	_, err = l.file.Seek(int64(good), io.SeekStart)
	return err
}

var crc = crc32.MakeTable(crc32.Castagnoli)

func (l *Ledger) replay(body []byte, print string) error {
	f := fields{b: body[1:]}
	effect := int64(f.uvarint())
	switch body[0] {
	case recordStart:
		if f.text() != print {
			return ErrOtherPlan
		}
	case recordDone:
		l.markDone(effect, int64(f.uvarint()))
	case recordBegin:
		up := &uploadState{id: f.text(), partSize: int64(f.uvarint()), parts: map[int]place.Part{}}
		l.uploads[effect] = up
	case recordPart:
		p := place.Part{Number: int(f.uvarint()), Size: int64(f.uvarint()), ETag: f.text()}
		p.Sum = f.sum()
		if up := l.uploads[effect]; up != nil {
			up.parts[p.Number] = p
		}
	case recordAbort:
		delete(l.uploads, effect)
	case recordSettle:
		l.markSettled(effect)
	}
	return nil
}

func (l *Ledger) markDone(effect, bytes int64) {
	if l.done.set(effect) {
		l.doneCount++
		l.doneBytes += bytes
	}
	delete(l.uploads, effect)
}

// append writes one record. The caller holds the lock or is alone.
func (l *Ledger) append(kind byte, effect int64, fields func([]byte) []byte) {
	if l.err != nil {
		return
	}
	body := append(make([]byte, 0, 128), kind)
	body = binary.AppendUvarint(body, uint64(effect))
	body = fields(body)
	l.buf = binary.AppendUvarint(l.buf[:0], uint64(len(body)))
	l.buf = binary.LittleEndian.AppendUint32(l.buf, crc32.Checksum(body, crc))
	l.buf = append(l.buf, body...)
	_, l.err = l.file.Write(l.buf)
}

func (l *Ledger) record(kind byte, effect int64, fields func([]byte) []byte) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.append(kind, effect, fields)
	return l.err
}

// isDone tells whether an earlier run finished the effect.
func (l *Ledger) isDone(effect int64) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.done.has(effect)
}

func (l *Ledger) finished(effect, bytes int64, there object.Entry) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	var sum, digest object.Sum
	if len(there.Sums) > 0 {
		sum = there.Sums[0]
	}
	if len(there.Sums) > 1 {
		digest = there.Sums[1]
	}
	l.append(recordDone, effect, func(b []byte) []byte {
		b = appendText(appendSum(binary.AppendUvarint(b, uint64(bytes)), sum), there.ETag)
		b = binary.AppendVarint(binary.AppendUvarint(b, uint64(there.Size)), there.Modified.UnixNano())
		return appendSum(b, digest)
	})
	if l.err == nil {
		l.markDone(effect, bytes)
	}
	return l.err
}

func (l *Ledger) begun(effect int64, id string, partSize int64) error {
	return l.record(recordBegin, effect, func(b []byte) []byte {
		return binary.AppendUvarint(appendText(b, id), uint64(partSize))
	})
}

func (l *Ledger) part(effect int64, p place.Part) error {
	return l.record(recordPart, effect, func(b []byte) []byte {
		b = binary.AppendUvarint(b, uint64(p.Number))
		b = binary.AppendUvarint(b, uint64(p.Size))
		return appendSum(appendText(b, p.ETag), p.Sum)
	})
}

func (l *Ledger) aborted(effect int64) error {
	l.mu.Lock()
	delete(l.uploads, effect)
	l.mu.Unlock()
	return l.record(recordAbort, effect, func(b []byte) []byte { return b })
}

// noEffect is the number of what is done for the run as a whole.
const noEffect = -1

// tried notes an attempt that failed.
func (l *Ledger) tried(effect int64, attempt int, why string) error {
	if effect == noEffect {
		return nil
	}
	return l.record(recordTry, effect, func(b []byte) []byte {
		b = binary.AppendVarint(b, time.Now().UnixNano())
		return appendText(binary.AppendUvarint(b, uint64(attempt)), why)
	})
}

func (l *Ledger) failed(effect int64, cause, why string) error {
	return l.record(recordFailed, effect, func(b []byte) []byte { return appendText(appendText(b, cause), why) })
}

func (l *Ledger) markSettled(effect int64) {
	if l.after.set(effect) {
		l.settledCount++
	}
}

// settled notes that what was to become of the effect's source is done.
func (l *Ledger) settled(effect int64) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.append(recordSettle, effect, func(b []byte) []byte { return b })
	if l.err == nil {
		l.markSettled(effect)
	}
	return l.err
}

func (l *Ledger) isSettled(effect int64) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.after.has(effect)
}

// Settled counts the effects whose source was seen to, by all runs.
func (l *Ledger) Settled() int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.settledCount
}

// States is what the ledger knows to be at the receiving side since each
// finished effect: see [States].
func (l *Ledger) States() (func(effect int64) (object.Entry, bool), error) {
	entry, _, err := States(l.file.Name())
	return entry, err
}

// States reads, from the ledger at path, what is at the receiving side since
// each finished effect: the entry's ETag, size, time, the checksum that was
// sent, and the digest if one was computed; and of which effects the source was seen to afterwards. It holds 8 bytes
// an effect, and the file while the function is in use.
func States(path string) (entry func(effect int64) (object.Entry, bool), settled func(effect int64) bool, err error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, nil, err
	}
	var after bitmap
	var at []int64 // behind a record's effect number; 0 for none
	for good := len(ledgerMagic); good < len(raw); {
		body, end := recordAt(raw, good)
		if body == nil {
			break
		}
		switch start := end - len(body); body[0] {
		case recordDone:
			effect, used := binary.Uvarint(body[1:])
			for uint64(len(at)) <= effect {
				at = append(at, 0)
			}
			at[effect] = int64(start + 1 + used)
		case recordSettle:
			effect, _ := binary.Uvarint(body[1:])
			after.set(int64(effect))
		}
		good = end
	}
	return func(effect int64) (e object.Entry, ok bool) {
		if effect >= int64(len(at)) || at[effect] == 0 {
			return e, false
		}
		f := fields{b: raw[at[effect]:]}
		f.uvarint() // bytes moved
		sum := f.sum()
		e.ETag, e.Size = f.text(), int64(f.uvarint())
		e.Modified = time.Unix(0, f.varint())
		for _, s := range []object.Sum{sum, f.sum()} {
			if s.Kind != object.NoSum {
				e.Sums = append(e.Sums, s)
			}
		}
		return e, true
	}, after.has, nil
}

// upload is the unfinished upload of an effect, nil if there is none.
func (l *Ledger) upload(effect int64) *uploadState {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.uploads[effect]
}

// Finished is what all runs of the plan have done: effects and their bytes.
func (l *Ledger) Finished() (effects, bytes int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.doneCount, l.doneBytes
}

// Open lists the uploads begun and not finished: effect number to upload ID.
func (l *Ledger) Open() map[int64]string {
	l.mu.Lock()
	defer l.mu.Unlock()
	open := make(map[int64]string, len(l.uploads))
	for effect, up := range l.uploads {
		open[effect] = up.id
	}
	return open
}

// Dropped notes that the effect's upload was removed at the target.
func (l *Ledger) Dropped(effect int64) error { return l.aborted(effect) }

// Close brings the ledger to the disk and closes it.
func (l *Ledger) Close() error {
	return errors.Join(l.err, l.file.Sync(), l.file.Close())
}

func appendText(b []byte, s string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}

func appendSum(b []byte, s object.Sum) []byte {
	return appendText(binary.AppendUvarint(b, uint64(s.Kind)), s.Value)
}

// fields reads a record's body; the checksum vouches for its form.
type fields struct{ b []byte }

func (f *fields) uvarint() uint64 {
	v, n := binary.Uvarint(f.b)
	f.b = f.b[max(n, 0):]
	return v
}

func (f *fields) varint() int64 {
	v, n := binary.Varint(f.b)
	f.b = f.b[max(n, 0):]
	return v
}

func (f *fields) text() string {
	n := min(f.uvarint(), uint64(len(f.b)))
	s := string(f.b[:n])
	f.b = f.b[n:]
	return s
}

func (f *fields) sum() object.Sum {
	return object.Sum{Kind: object.SumKind(f.uvarint()), Value: f.text()}
}

// bitmap is a set of effect numbers: a million take 125 KB.
type bitmap []uint64

// set adds n and tells whether it is new.
func (b *bitmap) set(n int64) bool {
	for int64(len(*b)) <= n/64 {
		*b = append(*b, 0)
	}
	was := (*b)[n/64]
	(*b)[n/64] |= 1 << (n % 64)
	return (*b)[n/64] != was
}

func (b bitmap) has(n int64) bool {
	return n/64 < int64(len(b)) && b[n/64]&(1<<(n%64)) != 0
}
