package agreed

import (
	"errors"
	"path/filepath"
)

// The files of a job's memory, in its folder.
const (
	StatesFile = "agreed"
	DoubtsFile = "doubts"
)

// Memory is what a job remembers of its two places. Each of the two may be nil: nothing is
// known then.
type Memory struct {
	States *States
	Doubts *Doubts
}

// What of a memory cannot be read. It is to be made anew, of the plans, ledgers and proofs
// there are: that nothing is agreed on, or in doubt, is never concluded from damage.
var (
	ErrStatesLost = errors.New("what both sides agreed on cannot be read")
	ErrDoubtsLost = errors.New("what is in doubt cannot be read")
)

// OpenMemory opens what the folder dir holds for the two places.
func OpenMemory(dir, source, target string) (*Memory, error) {
	m := &Memory{}
	var err error
	if m.States, err = Open(filepath.Join(dir, StatesFile), source, target); err != nil {
		return nil, errors.Join(ErrStatesLost, err)
	}
	if m.Doubts, err = OpenDoubts(filepath.Join(dir, DoubtsFile), source, target); err != nil {
		return nil, errors.Join(ErrDoubtsLost, err, m.States.Close())
	}
	return m, nil
}

// Info is what the states say of themselves; of no states nothing.
func (m *Memory) Info() Info {
	if m == nil || m.States == nil {
		return Info{}
	}
	return m.States.Info
}

// Close closes both. Closing no memory is no error.
func (m *Memory) Close() error {
	if m == nil {
		return nil
	}
	return errors.Join(m.States.Close(), m.Doubts.Close())
}
