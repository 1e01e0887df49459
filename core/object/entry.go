package object

import (
	"fmt"
	"io/fs"
	"strconv"
	"time"
)

// Kind says what an [Entry] stands for.
type Kind uint8

const (
	// Object is content with a key: the ordinary case.
	Object Kind = iota
	// Prefix is a group of keys that share everything up to a "/". Only
	// listings asked to stop at "/" have them; Key ends in "/".
	Prefix
	// Marker is a delete marker: a version that says "gone from here on".
	Marker
	// Special is a thing a folder has and a store has not: a symbolic link,
	// a socket, a device. It is listed so that nobody wonders where it went,
	// and never copied.
	Special
)

// String is the kind in lower-case words.
func (k Kind) String() string {
	switch k {
	case Prefix:
		return "prefix"
	case Marker:
		return "delete marker"
	case Special:
		return "special file"
	default:
		return "object"
	}
}

// Archive is the state of an object in a class that cannot be read at once.
type Archive uint8

const (
	Online    Archive = iota // can be read: the ordinary case
	Archived                 // must be restored before it can be read
	Restoring                // a restore was asked for and is under way
	Restored                 // cold, with a readable copy for a while
)

// String is the state in lower-case words.
func (a Archive) String() string {
	return [...]string{"online", "archived", "being restored", "restored for a while"}[a]
}

// Entry is what a place says of one object, without the content.
//
// A listing fills Key, Kind, Size, Modified and what else comes at no extra
// cost; Stat and Read also fill Metadata, ContentType and Sums where the place
// has them.
type Entry struct {
	// Key names the object below the place's root: any bytes, parts separated
	// by "/". It is data from strangers; see [Display].
	Key  string
	Kind Kind
	// Size is the content's length in bytes; 0 for prefixes and markers.
	Size int64
	// Modified is the time the place itself vouches for: a file's
	// modification time, or the moment a store took the object in.
	Modified time.Time
	// Original is the modification time the object had where it came from,
	// when the place keeps one beside its own. Only Stat and Read fill it.
	Original time.Time
	// ETag is the store's opaque name for this content, quotes removed
	// (RFC 9110, section 8.8.3). Folders have none; see [Entry.Mark].
	ETag string
	// Version is the store's name for this version, "" where there are none.
	Version string
	// Latest tells the current version from older ones in a version listing.
	Latest bool
	// Removed tells of content that was removed but that the store still keeps
	// for a while and can bring back. Only version listings have it.
	Removed bool
	// Class is the storage class, "" for the store's standard one.
	Class string
	// Archive tells whether content in a cold class can be read now; Stat
	// fills it. RestoredUntil is when a restored copy goes away again.
	Archive       Archive
	RestoredUntil time.Time
	// Mode holds a file's permissions, with [HasMode]; 0 where the place has none.
	Mode fs.FileMode
	// Sums are the checksums the place keeps for the whole content.
	Sums []Sum
	// Metadata is what the owner stored with the object, names in lower case.
	Metadata map[string]string
	// ContentType is the media type, "" when unknown.
	ContentType string
	// ContentEncoding is what was done to the content before it was stored,
	// such as "gzip" (RFC 9110, section 8.4); "" for nothing. Only Stat and Read
	// fill it.
	ContentEncoding string
	// Unverified tells, of an entry that came with content or after writing it,
	// that nothing the place keeps or answers could vouch for that content.
	Unverified bool
}

// HasMode is set in a mode that is known: without it a file that nobody may read, 0000,
// could not be told from one whose permissions the place does not have.
const HasMode fs.FileMode = 1 << 12

// ModeOf makes a mode of permission bits.
func ModeOf(bits uint32) fs.FileMode { return fs.FileMode(bits).Perm() | HasMode }

// Mark names the state of the object's content so that a later request can
// ask for exactly this state: the ETag where there is one, else size and
// modification time. Two entries of one key with the same mark are the same
// content as far as the place can tell without reading it.
func (e Entry) Mark() string {
	if e.ETag != "" {
		return e.ETag
	}
	var room [64]byte
	b := strconv.AppendInt(room[:0], e.Size, 16)
	if b = append(b, '-'); e.Modified.IsZero() || inNanos(e.Modified) {
		b = strconv.AppendInt(b, e.Modified.UnixNano(), 16)
	} else {
		b = strconv.AppendInt(append(strconv.AppendInt(b, e.Modified.Unix(), 16), '.'),
			int64(e.Modified.Nanosecond()), 16)
	}
	return string(b)
}

// SameState tells whether the place saw the same object on both occasions: by
// the same ETag where it has them, else by size and modification time. It is
// [Entry.Mark] for many entries.
func (e *Entry) SameState(o *Entry) bool {
	if e.ETag != "" || o.ETag != "" {
		return e.ETag == o.ETag
	}
	return e.Size == o.Size && e.Modified.Equal(o.Modified)
}

// Sum is the whole-content checksum of the given kind, if the entry has it.
func (e Entry) Sum(kind SumKind) (Sum, bool) {
	for _, s := range e.Sums {
		if s.Kind == kind {
			return s, true
		}
	}
	return Sum{}, false
}

// Ref points at one object or one version of it.
type Ref struct {
	Key string
	// Version is "" for the current one.
	Version string
	// IfMark, when not "", makes an act on the object conditional: it is done
	// only while the object still has this [Entry.Mark].
	IfMark string
}

// Bounds of what can be an object: larger than any store takes (the largest objects
// there are have tens of TB), and small enough that sums of a few million sizes, and
// a handful of names in one record, stay in bounds too.
const (
	MostSize = 1 << 50
	MostName = 64 << 10
)

// Sane tells what cannot be in an entry that a place describes: sizes and names come
// from strangers, and are refused where they come in.
func (e *Entry) Sane() error {
	switch {
	case e.Size < 0 || e.Size > MostSize:
		return fmt.Errorf("%q has a size that no object has: %d", e.Key[:min(len(e.Key), 100)], e.Size)
	case len(e.Key) > MostName:
		return fmt.Errorf("a name of %d bytes, longer than any should be", len(e.Key))
	case len(e.ETag) > MostName, len(e.Version) > MostName, len(e.Class) > MostName:
		return fmt.Errorf("%q has an ETag, a version or a class of more than %d bytes", e.Key[:min(len(e.Key), 100)],
			MostName)
	}
	return nil
}
