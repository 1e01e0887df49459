package transfer

import (
	"encoding/binary"
	"errors"
	"io/fs"
	"os"
	"time"
)

// Attempt is one try that failed.
type Attempt struct {
	At time.Time
	// Number counts the tries of one request, from 1.
	Number int
	Why    string
}

// Failure is an effect that no run of the plan has brought to its end, with the
// reason of the last one that tried.
type Failure struct {
	Effect     int64
	Cause, Why string
	Attempts   []Attempt
}

// keptAttempts is how many of an effect's attempts are read, the last ones.
const keptAttempts = 20

// Failures reads from the ledger at path which effects have failed and not been
// done since: of one cause, or with "" of any. At most as many as limit are
// returned, in the order in which they failed; 0 means all. A plan that was
// never run has none.
func Failures(path, cause string, limit int) ([]Failure, error) {
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	failed := map[int64]*Failure{}
	var order []int64
	attempts := map[int64][]Attempt{}
	for good := len(ledgerMagic); good < len(raw); {
		body, end := recordAt(raw, good)
		if body == nil {
			break
		}
		good = end
		f := fields{b: body[1:]}
		effect := int64(f.uvarint())
		switch body[0] {
		case recordTry:
			a := Attempt{At: time.Unix(0, f.varint()), Number: int(f.uvarint()), Why: f.text()}
			all := append(attempts[effect], a)
			attempts[effect] = all[max(0, len(all)-keptAttempts):]
		case recordFailed:
			if failed[effect] == nil {
				order = append(order, effect)
			}
			failed[effect] = &Failure{Effect: effect, Cause: f.text(), Why: f.text()}
		case recordDone, recordSettle:
			delete(failed, effect)
			delete(attempts, effect)
		}
	}
	var all []Failure
	for _, effect := range order {
		f := failed[effect]
		if f == nil || cause != "" && f.Cause != cause {
			continue
		}
		delete(failed, effect) // it may stand in the order twice
		f.Attempts = attempts[effect]
		if all = append(all, *f); limit > 0 && len(all) == limit {
			break
		}
	}
	return all, nil
}

// recordAt is the body of the record at an offset and where the next begins; nil
// where none is whole.
func recordAt(raw []byte, at int) (body []byte, end int) {
	size, n := binary.Uvarint(raw[at:])
	if n <= 0 || size > 1<<20 || size == 0 {
		return nil, at
	}
	start := at + n + 4
	if end = start + int(size); end > len(raw) {
		return nil, at
	}
	return raw[start:end], end
}
