package place

import (
	"context"
	"io"

	"lumtra/core/object"
)

// Examiner is a [Place] that finds out by trying what its store does of all that
// can be asked of it.
type Examiner interface {
	// Examine tries everything with small objects whose keys start with prefix,
	// and removes them again. It returns what it found also when it had to stop;
	// the error is for what kept it from trying.
	Examine(ctx context.Context, prefix string) (Facts, error)
	// ClearAway removes what an Examine with this prefix has left that did not come to
	// its end.
	ClearAway(ctx context.Context, prefix string) error
}

// Learner is a [Place] of whose store something may be known.
type Learner interface {
	// Known is what is known, for all places of the store.
	Known() *Known
}

// Promise is something Lumtra promises of every run, and the way it is kept at a
// place.
type Promise struct {
	Name PromiseName `json:"promise"`
	// Way says in words how it is kept.
	Way string `json:"way"`
	// Weak tells that the way has a gap, which Way names.
	Weak bool `json:"weak,omitempty"`
}

// PromiseName names a promise.
type PromiseName string

// The promises.
const (
	NotOverwritten PromiseName = "nothing unseen is overwritten"
	ArrivedWhole   PromiseName = "what is written arrived whole"
	ReadWhole      PromiseName = "what is read came whole"
	RemovedAsSeen  PromiseName = "what is deleted is what was seen"
)

// Promiser is a [Place] that says by which way it keeps each promise.
type Promiser interface {
	// Promises are in the order of the constants.
	Promises() []Promise
}

// ContentCheck takes the content of an object in its order, and tells in the end
// whether it is what the source keeps.
type ContentCheck interface {
	io.Writer
	// Verify returns a [Corrupt] error for content that is another.
	Verify() error
}

// Vouching is a [Place] that can say of a whole object, for a reader that takes it
// range by range, whether its content came as it is kept, in other ways than by a
// CRC-64 that the store itself keeps.
type Vouching interface {
	// CheckFor returns the check for the object as e describes it, or the CRC-64 that whoever wrote it has kept
	// beside it; neither when nothing is kept that could tell.
	CheckFor(ctx context.Context, e object.Entry) (ContentCheck, object.Sum)
}
