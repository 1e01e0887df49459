package ledger

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"lumtra/core/object"
	"lumtra/core/place"
)

// File is a ledger in a file that only grows, the log of what the runs of a plan have done, with
// what it says so far. Each record has reached the system before the run counts
// on it, so it survives the death of the process, and that of the machine where
// it is durable; a record that a crash cut short is recognised by its checksum
// and dropped. Its methods may be called from many goroutines.
type File struct {
	path    string
	durable bool

	mu      sync.Mutex
	forming *group // records that wait to be written
	done    bitmap
	after   bitmap
	uploads map[int64]*Upload
	// strays are effects of which an upload may have been opened without an
	// answer.
	strays map[int64]stray
	// doneCount and doneBytes count what earlier and this run finished.
	doneCount, doneBytes int64
	sources              int64
	err                  error

	writing sync.Mutex // held by the one who writes; owns what follows
	file    *os.File
	size    int64
	compact int64 // the size from which compacting may pay
}

// stray counts the uploads opened without an answer.
type stray struct {
	Stray
	count int
}

// ErrOtherPlan means that a ledger was written for another plan.
var ErrOtherPlan = errors.New("the ledger belongs to another plan")

// ErrDamaged means that a ledger cannot be read in its middle: more than an end that a
// crash has cut short.
var ErrDamaged = errors.New("it is damaged in its middle")

// OpenLedger opens the ledger at path for the plan with the given print, or
// starts it. An end that a crash has cut short is dropped; other damage is [ErrDamaged]. A durable
// one brings what it notes to the
// disk before it says that it is noted: safe against power loss, and slower.
func Open(path, print string, durable bool) (*File, error) {
	file, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	l := &File{path: path, durable: durable, file: file, forming: &group{}, uploads: map[int64]*Upload{},
		strays: map[int64]stray{}, compact: compactFrom}
	if err := l.load(print); err != nil {
		l.file.Close()
		return nil, fmt.Errorf("ledger %s: %w", path, err)
	}
	return l, nil
}

func (l *File) load(print string) error {
	magic := make([]byte, len(ledgerMagic))
	switch n, err := io.ReadFull(l.file, magic); {
	case n < len(magic) && (err == io.EOF || err == io.ErrUnexpectedEOF):
		return l.start(print)
	case err != nil:
		return err
	case string(magic) != ledgerMagic:
		return errors.New("not a ledger")
	}
	all := newRecords(l.file)
	for all.next() {
		if err := l.replay(all.body, print); err != nil {
			return err
		}
	}
	l.size = all.at
	if goesOn(l.file, l.size) {
		return fmt.Errorf("%w, at byte %d; plan anew (`lumtra run JOB --fresh`): what has arrived is found by "+
			"looking", ErrDamaged, l.size)
	}
	if err := l.file.Truncate(l.size); err != nil {
		return err
	}
	if _, err := l.file.Seek(l.size, io.SeekStart); err != nil {
		return err
	}
	if l.size == int64(len(ledgerMagic)) { // not even its first record was whole
		return l.start(print)
	}
	return l.compactIfDue()
}

// start writes the ledger's beginning.
func (l *File) start(print string) error {
	if err := l.file.Truncate(0); err != nil {
		return err
	}
	if _, err := l.file.WriteAt([]byte(ledgerMagic), 0); err != nil {
		return err
	}
	l.size = int64(len(ledgerMagic))
	if _, err := l.file.Seek(l.size, io.SeekStart); err != nil {
		return err
	}
	if err := l.commit(recordStart, 0, func(b []byte) []byte { return appendText(b, print) }); err != nil ||
		!l.durable {
		return err
	}
	return syncDir(filepath.Dir(l.path))
}

// Tally counts what a ledger says is done, objects and bytes moved, without opening it
// for writing. One that is not there has nothing.
func Tally(path string) (objects, bytes int64, err error) {
	file, err := os.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return 0, 0, nil
	}
	if err != nil {
		return 0, 0, err
	}
	defer file.Close()
	l := &File{}
	if _, err := file.Seek(int64(len(ledgerMagic)), io.SeekStart); err != nil {
		return 0, 0, err
	}
	for all := newRecords(file); all.next(); {
		if all.body[0] == recordDone {
			f := all.fields()
			l.markDone(int64(f.uvarint()), f.size())
		}
	}
	objects, bytes = l.Finished()
	return objects, bytes, nil
}

func (l *File) replay(body []byte, print string) error {
	f := fields{b: body[1:]}
	effect := int64(f.uvarint())
	switch body[0] {
	case recordStart:
		if f.text() != print {
			return ErrOtherPlan
		}
	case recordDone:
		l.markDone(effect, f.size())
	case recordIntend:
		s := Stray{Since: time.Unix(0, f.varint())}
		if n := f.uvarint(); n > 0 { // one more than there were
			s.Noted = true
			for range min(n-1, mostBefore) {
				s.Before = append(s.Before, f.text())
			}
		}
		l.intend(effect, s)
	case recordFound:
		delete(l.strays, effect)
	case recordBegin:
		l.answered(effect)
		up := &Upload{ID: f.text(), PartSize: f.size(), Parts: map[int]place.Part{}}
		l.uploads[effect] = up
	case recordPart:
		p := place.Part{Number: int(f.uvarint()), Size: f.size(), ETag: f.text()}
		p.Sum = f.sum()
		if up := l.uploads[effect]; up != nil {
			up.Parts[p.Number] = p
		}
	case recordAbort:
		delete(l.uploads, effect)
	case recordSeenTo:
		l.markSeenTo(effect)
	}
	return nil
}

func (l *File) markDone(effect, bytes int64) {
	if l.done.set(effect) {
		l.doneCount++
		l.doneBytes += bytes
	}
	delete(l.uploads, effect)
}

// mostBefore is how many uploads of one key are noted: no key has more at once that means well.
const mostBefore = 1000

// intend takes in another. What was there before the first of them was there before all.
func (l *File) intend(effect int64, at Stray) {
	s := l.strays[effect]
	if s.count++; s.count == 1 {
		s.Stray = at
	}
	l.strays[effect] = s
}

func (l *File) answered(effect int64) {
	s := l.strays[effect]
	if s.count--; s.count > 0 {
		l.strays[effect] = s
	} else {
		delete(l.strays, effect)
	}
}

// isDone tells whether an earlier run finished the effect.
func (l *File) Done(effect int64) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.done.has(effect)
}

func (l *File) Arrived(effect, bytes int64, there object.Entry) error {
	var sum, digest object.Sum
	held := byte(1)
	if there.Unverified {
		held = 0
	}
	if len(there.Sums) > 0 {
		sum = there.Sums[0]
	}
	if len(there.Sums) > 1 {
		digest = there.Sums[1]
	}
	err := l.commit(recordDone, effect, func(b []byte) []byte {
		b = appendText(appendSum(binary.AppendUvarint(b, uint64(bytes)), sum), there.ETag)
		b = object.AppendTime(binary.AppendUvarint(b, uint64(there.Size)), there.Modified)
		return append(appendSum(b, digest), held)
	})
	if err == nil {
		l.mu.Lock()
		l.markDone(effect, bytes)
		l.mu.Unlock()
	}
	return err
}

// intended notes that an upload is about to be opened: should nobody live to see
// the answer, it is known where to look for it.
func (l *File) Intend(effect int64, s Stray) error {
	s.Since = time.Now()
	s.Noted = s.Noted && len(s.Before) <= mostBefore
	l.mu.Lock()
	l.intend(effect, s)
	l.mu.Unlock()
	return l.commit(recordIntend, effect, func(b []byte) []byte {
		b = binary.AppendVarint(b, s.Since.UnixNano())
		if !s.Noted {
			return binary.AppendUvarint(b, 0)
		}
		b = binary.AppendUvarint(b, uint64(len(s.Before))+1)
		for _, id := range s.Before {
			b = appendText(b, id)
		}
		return b
	})
}

// begun notes the upload that was opened.
func (l *File) Begin(effect int64, id string, partSize int64) error {
	err := l.commit(recordBegin, effect, func(b []byte) []byte {
		return binary.AppendUvarint(appendText(b, id), uint64(partSize))
	})
	l.mu.Lock()
	l.answered(effect)
	l.uploads[effect] = &Upload{ID: id, PartSize: partSize}
	l.mu.Unlock()
	return err
}

// Stray tells whether an upload of the effect may be open that nobody knows the
// name of.
func (l *File) Stray(effect int64) (Stray, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	s, ok := l.strays[effect]
	return s.Stray, ok
}

// Found notes that such uploads are seen to.
func (l *File) Found(effect int64) error {
	err := l.commit(recordFound, effect, nothing)
	l.mu.Lock()
	delete(l.strays, effect)
	l.mu.Unlock()
	return err
}

func nothing(b []byte) []byte { return b }

func (l *File) Part(effect int64, p place.Part) error {
	return l.commit(recordPart, effect, func(b []byte) []byte {
		b = binary.AppendUvarint(b, uint64(p.Number))
		b = binary.AppendUvarint(b, uint64(p.Size))
		return appendSum(appendText(b, p.ETag), p.Sum)
	})
}

func (l *File) Abort(effect int64) error {
	l.mu.Lock()
	delete(l.uploads, effect)
	l.mu.Unlock()
	return l.commit(recordAbort, effect, nothing)
}

// doubted notes that what is at the target may not be what was sent, until the
// effect is done after that.
func (l *File) Doubt(effect int64) error {
	if effect == NoEffect {
		return nil
	}
	return l.commit(recordDoubt, effect, nothing)
}

// Met notes that what is at the target is not what the plan saw.
func (l *File) Met(effect int64) error {
	if effect == NoEffect {
		return nil
	}
	return l.commit(recordMet, effect, nothing)
}

// tried notes an attempt that failed.
func (l *File) Try(effect int64, attempt int, why string) error {
	if effect == NoEffect {
		return nil
	}
	return l.commit(recordTry, effect, func(b []byte) []byte {
		b = binary.AppendVarint(b, time.Now().UnixNano())
		return appendText(binary.AppendUvarint(b, uint64(attempt)), why)
	})
}

func (l *File) Fail(effect int64, cause, why string) error {
	return l.commit(recordFailed, effect, func(b []byte) []byte { return appendText(appendText(b, cause), why) })
}

func (l *File) markSeenTo(effect int64) {
	if l.after.set(effect) {
		l.sources++
	}
}

// SawTo notes that what was to become of the effect's source is done.
func (l *File) SawTo(effect int64) error {
	err := l.commit(recordSeenTo, effect, nothing)
	if err == nil {
		l.mu.Lock()
		l.markSeenTo(effect)
		l.mu.Unlock()
	}
	return err
}

func (l *File) SeenTo(effect int64) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.after.has(effect)
}

// Sources counts the effects whose source was seen to, by all runs.
func (l *File) Sources() int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.sources
}

// Upload is the unfinished upload of an effect, nil if there is none.
func (l *File) Upload(effect int64) *Upload {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.uploads[effect]
}

// Finished is what all runs of the plan have done: effects and their bytes.
func (l *File) Finished() (effects, bytes int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.doneCount, l.doneBytes
}

// Unfinished tells that uploads are open, or may be.
func (l *File) Unfinished() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return len(l.uploads)+len(l.strays) > 0
}

// known are the names of the uploads that are open.
func (l *File) Uploads() map[string]bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	ids := make(map[string]bool, len(l.uploads))
	for _, up := range l.uploads {
		ids[up.ID] = true
	}
	return ids
}

// Close brings the ledger to the disk and closes it.
func (l *File) Close() error {
	return errors.Join(l.err, l.file.Sync(), l.file.Close())
}

// Arrivals tells what is there since each effect, as of now.
func (l *File) Arrivals() (*Arrivals, error) { return OpenArrivals(l.path) }

// Failures are the effects that have failed and not been done since.
func (l *File) Failures(cause string, limit int) ([]Failure, error) {
	return Failures(l.path, cause, limit)
}
