package ledger

import (
	"time"

	"lumtra/core/object"
	"lumtra/core/place"
)

// Ledger is what the runs of a plan have done so far, and where the one under way notes what
// it does. A method that notes something returns when the note will outlive this process: the
// run counts on it only then. Its methods may be called from many goroutines. [File] is one.
type Ledger interface {
	Reader

	// Arrived notes that an effect is done, moving so many bytes, and what is there since. An
	// entry that is not Unverified was held, on its way, against what the source itself vouches
	// for.
	Arrived(effect, bytes int64, there object.Entry) error
	// SawTo notes that what was to become of the effect's source is done.
	SawTo(effect int64) error
	// Doubt notes that what is at the target may not be what was sent, until the effect is
	// done after that.
	Doubt(effect int64) error
	// Met notes that the run met something at the target that its plan had not seen, until the
	// effect is done after that.
	Met(effect int64) error
	// Try notes an attempt that failed, Fail that the effect was given up in this run.
	Try(effect int64, attempt int, why string) error
	Fail(effect int64, cause, why string) error

	// Intend notes that an upload is about to be opened, Begin that it was, in parts of so
	// many bytes, Part that a part of it has arrived, Abort that it was given up. Found notes
	// that uploads that were intended and have no name are seen to.
	Intend(effect int64, s Stray) error
	Begin(effect int64, id string, partSize int64) error
	Part(effect int64, p place.Part) error
	Abort(effect int64) error
	Found(effect int64) error

	// Close brings all that was noted to the disk.
	Close() error
}

// Reader is what a ledger tells.
type Reader interface {
	// Done tells whether an effect is done, SeenTo whether its source was seen to.
	Done(effect int64) bool
	SeenTo(effect int64) bool
	// Finished counts the effects that are done and the bytes they moved, Sources those
	// whose source was seen to.
	Finished() (effects, bytes int64)
	Sources() int64

	// Upload is the unfinished upload of an effect, nil if there is none; Uploads are the
	// names of all that are open. Stray tells whether an upload of the effect may be open
	// that nobody knows the name of. Unfinished tells that there is any.
	Upload(effect int64) *Upload
	Uploads() map[string]bool
	Stray(effect int64) (s Stray, ok bool)
	Unfinished() bool

	// Arrivals tells what is there since each effect, as of now. The caller closes it.
	Arrivals() (*Arrivals, error)
	// Failures are the effects that have failed and not been done since: of one cause, or
	// with "" of any, in the order in which they failed, at most limit of them; 0 is all.
	Failures(cause string, limit int) ([]Failure, error)
}

// Stray is an upload that may be open without anybody knowing its name: since when, and which uploads of its key were
// there before, if that was Noted.
type Stray struct {
	Since  time.Time
	Before []string
	Noted  bool
}

// NoEffect is the number of what is done for the run as a whole, of which nothing is noted.
const NoEffect = -1

// Upload is a big object begun and not finished.
type Upload struct {
	// ID is the store's name for it. All parts but the last have PartSize bytes.
	ID       string
	PartSize int64
	Parts    map[int]place.Part
}
