package ledger

import (
	"errors"
	"io"
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
	file, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer file.Close()
	if _, err := file.Seek(int64(len(ledgerMagic)), io.SeekStart); err != nil {
		return nil, err
	}
	failed := map[int64]*Failure{}
	var order []int64
	attempts := map[int64][]Attempt{}
	for records := newRecords(file); records.next(); {
		f := records.fields()
		effect := int64(f.uvarint())
		switch records.body[0] {
		case recordTry:
			a := Attempt{At: time.Unix(0, f.varint()), Number: int(f.uvarint()), Why: f.text()}
			all := append(attempts[effect], a)
			attempts[effect] = all[max(0, len(all)-keptAttempts):]
		case recordFailed:
			if failed[effect] == nil {
				order = append(order, effect)
			}
			failed[effect] = &Failure{Effect: effect, Cause: f.text(), Why: f.text()}
		case recordDone, recordSeenTo:
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
