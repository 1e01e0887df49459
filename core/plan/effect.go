package plan

import (
	"encoding/binary"
	"errors"
	"fmt"
	"time"

	"github.com/dustin/go-humanize"

	"lumtra/core/catalog"
	"lumtra/core/object"
)

// Kind is what will become of one key at the target.
type Kind uint8

// The kinds of effect.
const (
	Same     Kind = iota // there already, nothing to do
	Add                  // not there yet
	Change               // there, but another
	Meta                 // same content, other facts
	Remove               // only there, and to be removed
	Conflict             // both sides changed
	Blocked              // wanted, but cannot be done
	Extra                // only there, and left alone
	kindCount
)

// Kinds are all kinds, in the order they are shown.
var Kinds = [...]Kind{Add, Change, Meta, Remove, Conflict, Blocked, Same, Extra}

var kindNames = [...]string{"same", "add", "change", "metadata", "remove", "conflict", "blocked", "extra"}

// String is the kind in one lower-case word.
func (k Kind) String() string { return kindNames[k] }

// MarshalText writes the word, so that JSON keys and values read well.
func (k Kind) MarshalText() ([]byte, error) { return []byte(kindNames[k]), nil }

// UnmarshalText reads the word.
func (k *Kind) UnmarshalText(text []byte) error {
	for i, n := range kindNames {
		if n == string(text) {
			*k = Kind(i)
			return nil
		}
	}
	return fmt.Errorf("no such effect: %q", text)
}

// Moves tells whether the effect sends content.
func (k Kind) Moves() bool { return k == Add || k == Change }

// Reason says why an effect is what it is.
type Reason uint8

// The reasons.
const (
	NoReason      Reason = iota
	NotThere             // nothing at the target
	OtherSize            // sizes differ
	OtherTime            // same size, times differ (both sides keep times)
	Newer                // same size, source changed after the target was stored
	OtherContent         // checksums differ
	SameFacts            // size and time agree
	SameContent          // checksums agree
	OnlyThere            // not at the source
	SpecialFile          // a link, socket or device
	NameNotHeld          // the target cannot have this name; see Note
	NameClash            // a key would be file and folder at once; see Note
	TooLarge             // over the target's largest object
	NotComparable        // judging by content failed; see Note
)

// Effect is one line of a plan.
type Effect struct {
	Key    string
	Kind   Kind
	Reason Reason
	// Note is detail to the reason, as a person reads it.
	Note string
	// Source and Target are the states seen by the surveys; nil where the key
	// was not.
	Source, Target *object.Entry
}

// Bytes is the content the effect is about: what moves, or what is there.
func (e *Effect) Bytes() int64 {
	if e.Source != nil {
		return e.Source.Size
	}
	if e.Target != nil {
		return e.Target.Size
	}
	return 0
}

// Missing tells that the object is content which the plan has to leave out.
func (e *Effect) Missing() bool { return e.Kind == Blocked && e.Reason != SpecialFile }

// Why tells the reason in a sentence's half.
func (e *Effect) Why() string {
	switch e.Reason {
	case NotThere:
		return "it is not at the target"
	case OtherSize:
		return fmt.Sprintf("%s at the source, %s at the target", humanize.IBytes(uint64(e.Source.Size)), humanize.IBytes(uint64(e.Target.Size)))
	case OtherTime:
		return fmt.Sprintf("modified %s at the source, %s at the target", stamp(e.Source.Modified), stamp(e.Target.Modified))
	case Newer:
		return fmt.Sprintf("modified %s, after it was stored at the target %s", stamp(e.Source.Modified), stamp(e.Target.Modified))
	case OtherContent:
		return "same size, other content"
	case SameFacts:
		return "size and time agree"
	case SameContent:
		return "the checksums agree"
	case OnlyThere:
		return "it is only at the target, and stays"
	case SpecialFile:
		return "it is a link or a special file, not content"
	case TooLarge:
		return "it is larger than the target takes"
	}
	return e.Note
}

func stamp(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

const (
	hasSource = 1 << iota
	hasTarget
	hasNote
)

func (e *Effect) append(b []byte) []byte {
	var flags byte
	if e.Source != nil {
		flags |= hasSource
	}
	if e.Target != nil {
		flags |= hasTarget
	}
	if e.Note != "" {
		flags |= hasNote
	}
	b = append(b, byte(e.Kind), byte(e.Reason), flags)
	if e.Note != "" {
		b = binary.AppendUvarint(b, uint64(len(e.Note)))
		b = append(b, e.Note...)
	}
	for _, side := range []*object.Entry{e.Source, e.Target} {
		if side != nil {
			b = catalog.AppendEntry(b, side)
		}
	}
	return b
}

var errDamaged = errors.New("plan: an effect is damaged")

func (e *Effect) decode(key string, b []byte) (err error) {
	if len(b) < 3 || b[0] >= byte(kindCount) {
		return errDamaged
	}
	*e = Effect{Key: key, Kind: Kind(b[0]), Reason: Reason(b[1])}
	flags := b[2]
	b = b[3:]
	if flags&hasNote != 0 {
		n, used := binary.Uvarint(b)
		if used <= 0 || n > uint64(len(b)-used) {
			return errDamaged
		}
		e.Note, b = string(b[used:used+int(n)]), b[used+int(n):]
	}
	for _, side := range []struct {
		flag byte
		to   **object.Entry
	}{{hasSource, &e.Source}, {hasTarget, &e.Target}} {
		if flags&side.flag != 0 {
			entry := object.Entry{Key: key}
			if b, err = catalog.DecodeEntry(b, &entry); err != nil {
				return err
			}
			*side.to = &entry
		}
	}
	return nil
}
