package place

import (
	"context"
	"io"
	"iter"
	"time"

	"lumtra/core/object"
)

// Place is a root under which objects have keys: a folder, or a bucket with a
// prefix. Keys given and returned are relative to that root. All methods may
// be called from many goroutines. Every error they return is an [*Error].
type Place interface {
	// Name is what people call the place: "endpoint/bucket/path". It is safe
	// to show.
	Name() string

	// List yields the objects whose keys start with prefix, in byte order of
	// their keys ("a-b" < "a/b" < "a0"), as they come in.
	//
	// An error is yielded with a zero Entry. When only a part could not be
	// read (a subfolder without permission) the listing goes on after it and
	// the error's Key names that part; otherwise the listing has ended. A
	// caller that saw any error knows the listing to be incomplete.
	List(ctx context.Context, prefix string, opts ListOptions) iter.Seq2[object.Entry, error]

	// Stat describes one object, with all the place knows of it; with a mark only while the
	// object still has it, else the error is [Changed].
	Stat(ctx context.Context, ref object.Ref) (object.Entry, error)

	// Read opens an object's content. The reader returns a [Changed] error
	// rather than io.EOF when the content changed under it, and must be
	// closed. The entry describes the whole object, not the range.
	Read(ctx context.Context, key string, opts ReadOptions) (io.ReadCloser, object.Entry, error)

	// Write stores size bytes of body as a whole object, or nothing: a reader
	// never sees a part of it. The body is read once and not after Write
	// returns. A body that is [Summed] is not summed up again.
	Write(ctx context.Context, key string, body io.Reader, size int64, opts WriteOptions) (object.Entry, error)

	// Remove removes the objects, and answers for each in order: nil when it
	// is gone (or was not there), else why not.
	Remove(ctx context.Context, refs ...object.Ref) []error

	// Abilities says what the place can do and where its limits are.
	Abilities() Abilities
}

// Summed is a body that sums itself up while it is read, so that nobody has to
// do it a second time.
type Summed interface {
	io.Reader
	// Sum is the [object.CRC64NVME] of all that was read so far; zero when this
	// one has none after all.
	Sum() object.Sum
}

// SumsItself gives a reader as the [Summed] that it is; nil for one that is not.
func SumsItself(r io.Reader) Summed {
	if s, ok := r.(Summed); ok && s.Sum().Kind != object.NoSum {
		return s
	}
	return nil
}

// ListOptions shape a listing. The zero value lists everything.
type ListOptions struct {
	// After starts the listing behind this key.
	After string
	// Shallow stops at the first "/" after the prefix and yields what lies
	// deeper as one [object.Prefix] entry each.
	Shallow bool
}

// ReadOptions choose what to read. The zero value reads the current object whole.
type ReadOptions struct {
	Version string
	// Offset and Length choose a range in bytes; Length 0 means to the end.
	Offset, Length int64
	// IfMark, when not "", refuses with [Changed] any content but the one
	// with this [object.Entry.Mark].
	IfMark string
}

// Condition guards a write by what is at the target now.
type Condition uint8

const (
	// Always writes whatever is there.
	Always Condition = iota
	// IfAbsent writes only where nothing is; else the error is [Exists].
	IfAbsent
	// IfStill writes only over the state with the mark in
	// [WriteOptions.Mark]; else the error is [Changed].
	IfStill
)

// WriteOptions say what lands beside the content.
type WriteOptions struct {
	// Sum is the checksum of the body when it is known beforehand. The place
	// verifies it, or has the store verify it, and refuses with [Corrupt] what
	// does not match. Without it the place computes its own while the body
	// passes.
	Sum object.Sum
	// Digest is a digest of the body, with Sum, for a [DigestKeeper] to keep. It
	// is not verified.
	Digest object.Sum
	// Condition and Mark guard against overwriting what nobody looked at.
	Condition Condition
	Mark      string
	// Original is the modification time at the source; folders set it, stores
	// keep it as metadata. Zero means unknown.
	Original time.Time
	// Mode is the file permission to set where there are permissions; 0 means
	// the place's usual one.
	Mode uint32
	// Masked has the process's umask hold for Mode: it comes from a stranger.
	Masked bool
	// Class is the storage class, "" for the store's standard one.
	Class       string
	ContentType string
	// ContentEncoding says what was done to the content before it was handed
	// over, such as "gzip"; a place with [Abilities.Encodings] keeps it.
	ContentEncoding string
	Metadata        map[string]string
	// PartSize is how large the parts of an upload will be, all but the last, in bytes; 0 where that is not
	// known. A place may keep it beside the object, to verify it by later.
	PartSize int64
	// Size is how large an upload will be in all, where its Sum is known beforehand.
	Size int64
}

// Clock is how far the time that a place tells of an object may be from this machine's at the moment when the
// object was written: up to Early before it, and up to Late after it. Clocks that differ, grains of time and the
// way they are rounded all come to this; the zero value is a clock that agrees.
type Clock struct{ Early, Late time.Duration }

// Join is a clock that is as far off as either.
func (c Clock) Join(o Clock) Clock { return Clock{max(c.Early, o.Early), max(c.Late, o.Late)} }

// Abilities are what a place can do, as facts to plan by.
type Abilities struct {
	// Protocol is what the place speaks: "folder", "S3 API", …
	Protocol string
	// ReadOnly tells that nothing can be written or removed.
	ReadOnly bool
	// MaxObject is the largest object in bytes, MaxWhole the largest that goes
	// in one Write; 0 means no limit but the room there is.
	MaxObject, MaxWhole int64
	// MaxCopy is the largest object in bytes that [ServerCopier.CopyFrom] takes; 0
	// for no such limit.
	MaxCopy int64
	// MinPart and MaxPart bound a part's size in bytes (the last may be
	// smaller), MaxParts their number. All 0 without [PartWriter].
	MinPart, MaxPart int64
	MaxParts         int
	// GoodPart is the size of parts that suits the place when nobody asked for
	// another; 0 for no preference.
	GoodPart int64
	// StoredSums is the checksum the place keeps with each object it was given
	// one for, so that it can be asked for without reading; NoSum for none.
	StoredSums object.SumKind
	// KeepsTimes tells that Entry.Modified is the original time that Write was
	// given, not the moment of storing.
	KeepsTimes bool
	// KeepsModes tells that permissions are kept.
	KeepsModes bool
	// KeepsLinks tells that links and folders of the source go along with objects that are sent.
	KeepsLinks bool
	// TimeStep is the smallest difference in Modified the place can hold.
	TimeStep time.Duration
	// Clock is how far the times that the place tells may be from this machine's.
	Clock Clock
	// Conditions tells that [IfAbsent] and [IfStill] are decided by the place
	// in the moment of writing.
	Conditions bool
	// ChecksAfter tells that what was written is looked at once it is there, since
	// the place does not hold it against a checksum as it arrives.
	ChecksAfter bool
	// SumFirst is the size in bytes above which an object that is sent in one piece has nothing to be verified by when
	// it is read, unless its checksum was known before and went along; 0 where each has. PartsSumFirst tells that it is
	// so with all that are sent in parts.
	SumFirst      int64
	PartsSumFirst bool
	// MakesRoot tells that a place that is not there comes into being with the
	// first Write, as a subfolder does and a bucket does not.
	MakesRoot bool
	// KeepsMetadata tells that metadata are kept beside the content, which Stat
	// tells and a listing does not.
	KeepsMetadata bool
	// Tree tells that a key cannot be both an object and the folder of others:
	// "a" excludes "a/b".
	Tree bool
	// DigestsAfter tells that a digest of an object in parts is kept as a tag, by a request
	// of its own once the object is there.
	DigestsAfter bool
	// Encodings tells that a content encoding is kept beside the content.
	Encodings bool
	// MaxKey is the longest key in bytes, the place's root included.
	MaxKey int
}

// Open reads one whole small object. It refuses one larger than max bytes.
func Open(ctx context.Context, p Place, key string, max int64) ([]byte, object.Entry, error) {
	r, e, err := p.Read(ctx, key, ReadOptions{})
	if err != nil {
		return nil, e, err
	}
	defer r.Close()
	data, err := io.ReadAll(io.LimitReader(r, max+1))
	if err == nil && int64(len(data)) > max {
		err = NewError(p.Name(), "read", key, TooLarge, nil)
	}
	return data, e, err
}
