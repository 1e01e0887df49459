package plan

import (
	"encoding/binary"
	"errors"
	"fmt"
	"time"

	"github.com/dustin/go-humanize"

	"lumtra/core/catalog"
	"lumtra/core/object"
	"lumtra/core/rule"
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
	LeftOut              // not the job's affair by its own rules
	kindCount
)

// Kinds are all kinds, in the order they are shown.
var Kinds = [...]Kind{Add, Change, Meta, Remove, Conflict, Blocked, Same, Extra, LeftOut}

var kindNames = [...]string{"same", "add", "change", "metadata", "delete", "conflict", "blocked", "target-only",
	"left out"}

// String is the kind in one lower-case word.
func (k Kind) String() string { return kindNames[k] }

// Words are the kind in words for a job that does this with what is only at its target:
// where that goes to the trash nothing is deleted.
func (k Kind) Words(only rule.TargetOnly) string {
	if k == Remove && only == rule.MoveToTrash {
		return "move to trash"
	}
	return k.String()
}

// MarshalText writes the word, so that JSON keys and values read well.
func (k Kind) MarshalText() ([]byte, error) { return []byte(kindNames[k]), nil }

// oldKindNames are words that effects had.
var oldKindNames = map[string]string{"remove": "delete", "extra": "target-only"}

// UnmarshalText reads the word, also as older builds wrote it.
func (k *Kind) UnmarshalText(text []byte) error {
	word := string(text)
	if now, ok := oldKindNames[word]; ok {
		word = now
	}
	for i, n := range kindNames {
		if n == word {
			*k = Kind(i)
			return nil
		}
	}
	return fmt.Errorf("no such effect: %q", text)
}

// Moves tells whether the effect sends content.
func (k Kind) Moves() bool { return k == Add || k == Change }

// Acts tells whether a run has something to do for the effect.
func (k Kind) Acts() bool { return k.Moves() || k == Meta || k == Remove }

// Reason says why an effect is what it is.
type Reason uint8

// The reasons.
const (
	NoReason        Reason = iota
	NotThere               // nothing at the other side
	OtherSize              // sizes differ
	OtherTime              // same size, times differ (both sides keep times)
	Newer                  // same size, source changed after the target was stored
	OtherContent           // checksums differ
	SameAttributes         // size and time agree
	SameContent            // checksums agree
	OnlyThere              // not at the source, left by the job's rule
	SpecialFile            // a link, socket or device
	NameNotHeld            // the target cannot have this name; see Note
	NameClash              // a key would be file and folder at once; see Note
	TooLarge               // over the target's largest object
	NotComparable          // judging by content failed; see Note
	SameSize               // judged by size alone
	Unchanged              // both are as they were when they last agreed
	OtherState             // another than when both last agreed; see Moved
	SentAlways             // the job sends everything
	NotTaken               // dropped by the selection; see Note
	InTrash                // lies below the trash prefix
	TargetStays            // the job leaves others at the target
	TargetNewer            // the job replaces older ones only
	GoneThere              // was at the other side when both last agreed
	Extraneous             // not at the source, and the job removes such
	GoneHere               // removed at one side of a two-way job
	NotSure                // an extra that may be outside the selection
	Incomplete             // an extra, but a listing has gaps
	KeptBeside             // an older one, kept under a name with its time
	OtherClass             // another storage class than the job wants
	OtherMode              // permissions differ
	OtherAttributes        // metadata or tags differ; see Note
	Undecided              // changed at both sides
	Decided                // a person decided the conflict
	Struck                 // a person struck it out of the plan
	InArchive              // lies below the archive prefix of the source
	InDoubt                // found another, or an interrupted write has left it
	GoesAlong              // a link that the target keeps beside the objects
	MetaTooLarge           // more metadata than the target takes; see Note
	SameLater              // of one size, and stored at the target later than it changed
	reasonCount
)

// Moved tells at which side an object changed since both last agreed.
type Moved uint8

// Where it changed.
const (
	NotKnown Moved = iota // no agreement is known
	Nowhere
	AtSource
	AtTarget
	AtBoth
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
	// Back turns the direction round: from target to source. Only two-way jobs
	// have it.
	Back bool
	// Aside is the key that what is at the receiving side now is moved to
	// first, to be kept; "" when it is replaced or removed.
	Aside string
	Moved Moved
	// Later tells that the content is called the same by its size and a later time at the target alone: nobody has
	// compared it, nor did Lumtra send it.
	Later bool
}

// Sent is what the effect sends or would; nil for one that only removes.
func (e *Effect) Sent() *object.Entry {
	if e.Back {
		return e.Target
	}
	return e.Source
}

// Over is what is at the receiving side now; nil for nothing.
func (e *Effect) Over() *object.Entry {
	if e.Back {
		return e.Source
	}
	return e.Target
}

// Bytes is the content the effect is about: what moves, or what is there.
func (e *Effect) Bytes() int64 {
	if sent := e.Sent(); sent != nil {
		return sent.Size
	}
	if over := e.Over(); over != nil {
		return over.Size
	}
	return 0
}

// Missing tells that the object is content which the plan has to leave out.
func (e *Effect) Missing() bool { return e.Kind == Blocked && e.Reason != SpecialFile }

// Then tells whether something is to become of the source once the copy is
// proven. Objects that are there already are among them, since a run may have
// been killed between sending and that; tags, which no survey tells of, are set
// on those only that no run saw to its end.
func (e *Effect) Then(r *rule.Rules) bool {
	switch {
	case r.Afterwards == rule.KeepSource || e.Back || e.Source == nil:
		return false
	case e.Kind == Same:
		return r.Afterwards.Leaves() || e.Moved == NotKnown
	}
	return e.Kind.Moves() || e.Kind == Meta
}

// Why tells the reason in a sentence's half.
func (e *Effect) Why() string {
	why := e.because()
	switch {
	case e.Aside != "" && e.Kind == Change:
		why += "; the one there stays as " + object.Display(object.Base(e.Aside))
	case e.Aside != "":
		why += "; it goes to " + object.Display(e.Aside)
	}
	if e.Back && e.Kind.Acts() {
		why += " (back to the source)"
	}
	return why
}

func (e *Effect) because() string {
	switch e.Reason {
	case NotThere:
		return "it is not at the " + e.receiver()
	case OtherSize:
		return fmt.Sprintf("%s at the source, %s at the target", humanize.IBytes(uint64(e.Source.Size)),
			humanize.IBytes(uint64(e.Target.Size))) + e.since()
	case OtherTime:
		return fmt.Sprintf("modified %s at the source, %s at the target", stamp(e.Source.Modified),
			stamp(e.Target.Modified)) + e.since()
	case Newer:
		return fmt.Sprintf("modified %s, after it was stored at the target %s", stamp(e.Source.Modified),
			stamp(e.Target.Modified))
	case TargetNewer:
		return fmt.Sprintf("the one at the target is newer: %s, this one %s", stamp(e.Target.Modified),
			stamp(e.Source.Modified))
	case GoneThere:
		return "it was at the " + e.receiver() + " at the last run, and is gone there"
	case Undecided:
		return e.conflict()
	case NotTaken:
		return "the job does not take it: " + e.Note
	case InDoubt:
		if e.Note != "" {
			return "what is at the target is in doubt: " + e.Note
		}
	}
	if text, ok := plainReasons[e.Reason]; ok {
		return text + e.since()
	}
	return e.Note
}

var plainReasons = map[Reason]string{
	OtherContent:   "same size, different content",
	InDoubt:        "what is at the target was found to be different content, or left by a write that was interrupted",
	SameAttributes: "size and time agree",
	SameLater:      "the sizes agree, and it was stored at the target after it changed",
	SameContent:    "the checksums agree",
	SameSize:       "the sizes agree",
	Unchanged:      "neither has changed since the last run",
	OtherState:     "it differs",
	SentAlways:     "the job sends everything",
	OnlyThere:      "it is only at the target, and stays",
	SpecialFile:    "it is a link or a special file, not content",
	GoesAlong:      "it is a link: it goes along with what is sent",
	TooLarge:       "it is larger than the target takes",
	InTrash:        "it lies in the job's trash",
	InArchive:      "it was sent before, and moved here",
	TargetStays:    "the target differs, and the job skips those",
	Extraneous:     "it is not at the source",
	GoneHere:       "it was deleted at the other side since the last run",
	NotSure:        "it is only at the target; whether the job would take it cannot be told there, so it stays",
	Incomplete: "it is only at the target, or the listing has a gap: nothing is deleted on a listing that is not " +
		"whole",
	KeptBeside: "an older one, kept when it was replaced",
	OtherClass: "same content, another storage class than the job wants",
	OtherMode:  "same content, other permissions",
	Struck:     "a person struck it out of this plan",
}

// Blocks is what a reason blocks, in a few words to count objects under.
func (r Reason) Blocks() string {
	switch r {
	case NameNotHeld:
		return "names that the target does not hold"
	case NameClash:
		return "an object and a folder under one name"
	case TooLarge:
		return "larger than the target takes"
	case NotComparable:
		return "what could not be compared"
	case MetaTooLarge:
		return "more metadata than the target takes"
	}
	return "what cannot be done"
}

func (e *Effect) receiver() string {
	if e.Back {
		return "source"
	}
	return "target"
}

// since tells where an object changed, as far as that is known.
func (e *Effect) since() string {
	switch {
	case e.Kind == Same || e.Kind == LeftOut || e.Reason == GoneHere || e.Reason == GoneThere:
		return ""
	case e.Moved == AtSource && e.Source == nil:
		return ", deleted at the source since the last run"
	case e.Moved == AtSource:
		return ", changed at the source since the last run"
	case e.Moved == AtTarget:
		return ", changed at the target without this job"
	case e.Moved == AtBoth:
		return ", changed at both sides since the last run"
	}
	return ""
}

func (e *Effect) conflict() string {
	side := func(x *object.Entry) string {
		if x == nil {
			return "deleted"
		}
		return humanize.IBytes(uint64(x.Size)) + " of " + stamp(x.Modified)
	}
	text := "it changed at both sides since the last run: "
	if e.Moved == NotKnown {
		text = "the two differ, and which is to follow which is not known: "
	}
	return text + side(e.Source) + " at the source, " + side(e.Target) + " at the target"
}

func stamp(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

const (
	hasSource = 1 << iota
	hasTarget
	hasNote
	hasAside
	isBack
	movedShift = 5
)

// isLater goes along with the kind, as the flags are full.
const isLater = 1 << 7

func (e *Effect) append(b []byte) []byte {
	flags := byte(e.Moved) << movedShift
	for _, f := range []struct {
		on  bool
		bit byte
	}{{e.Source != nil, hasSource}, {e.Target != nil, hasTarget}, {e.Note != "", hasNote}, {e.Aside != "", hasAside},
		{e.Back, isBack}} {
		if f.on {
			flags |= f.bit
		}
	}
	kind := byte(e.Kind)
	if e.Later {
		kind |= isLater
	}
	b = append(b, kind, byte(e.Reason), flags)
	for _, text := range []string{e.Note, e.Aside} {
		if text != "" {
			b = binary.AppendUvarint(b, uint64(len(text)))
			b = append(b, text...)
		}
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
	if len(b) < 3 || b[0]&^isLater >= byte(kindCount) || b[1] == byte(NoReason) || b[1] >= byte(reasonCount) ||
		Moved(b[2]>>movedShift) > AtBoth {
		return errDamaged
	}
	flags := b[2]
	*e = Effect{Key: key, Kind: Kind(b[0] &^ isLater), Later: b[0]&isLater != 0, Reason: Reason(b[1]),
		Back:  flags&isBack != 0,
		Moved: Moved(flags >> movedShift)}
	b = b[3:]
	for _, text := range []struct {
		flag byte
		to   *string
	}{{hasNote, &e.Note}, {hasAside, &e.Aside}} {
		if flags&text.flag == 0 {
			continue
		}
		n, used := binary.Uvarint(b)
		if used <= 0 || n > uint64(len(b)-used) {
			return errDamaged
		}
		*text.to, b = string(b[used:used+int(n)]), b[used+int(n):]
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
	if !e.whole() {
		return errDamaged
	}
	return nil
}

// whole tells that an effect has the sides that its kind acts on and its reason
// speaks of.
func (e *Effect) whole() bool {
	both := e.Source != nil && e.Target != nil
	switch e.Reason {
	case OtherSize, OtherTime, Newer, TargetNewer:
		if !both {
			return false
		}
	}
	switch e.Kind {
	case Add:
		return e.Sent() != nil
	case Change, Meta, Same:
		return both
	case Remove:
		return e.Over() != nil
	}
	return e.Source != nil || e.Target != nil
}
