package place

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"
)

// Ask is something a store may or may not do as its protocol's reference says.
// Each is worded so that [Works] is what the reference promises; what a store
// really does is found by trying: see [Examiner].
type Ask string

// What is asked of a store. The first group guards against overwriting, the second
// against damage on the way, the third is about copies, removals and reading.
const (
	PutIfAbsent  Ask = "write-if-absent"
	PutIfStill   Ask = "write-if-still"
	JoinIfAbsent Ask = "join-if-absent"
	JoinIfStill  Ask = "join-if-still"
	CopyIfAbsent Ask = "copy-if-absent"
	CopyIfStill  Ask = "copy-if-still"
	// QuotedMatch: If-Match takes an ETag in quotes (RFC 9110, section 13.1.1).
	// Where this is refused it is sent without.
	QuotedMatch Ask = "quoted-match"

	// SumBehind: a CRC-64/NVME in a trailer is held against the content. The
	// others are the same for what goes ahead of it.
	SumBehind   Ask = "crc64nvme-behind"
	SumAhead    Ask = "crc64nvme-ahead"
	CRC32CAhead Ask = "crc32c-ahead"
	SHA256Ahead Ask = "sha256-ahead"
	MD5Ahead    Ask = "md5-ahead"
	SignedBody  Ask = "signed-content"
	// UnsignedBody: content need not be covered by the signature.
	UnsignedBody Ask = "unsigned-content"
	// JoinSums: the list of parts may name their checksums; JoinWhole: that of the
	// whole is held against the joined parts; JoinETag: the answer names the ETag.
	JoinSums  Ask = "join-part-checksums"
	JoinWhole Ask = "join-whole-checksum"
	JoinETag  Ask = "join-tells-etag"
	// KeepsSum: the checksum is kept, and told when asked for.
	KeepsSum Ask = "checksum-kept"
	// MD5ETag: the ETag of what was written in one request is its MD5;
	// MD5PartETag: that of joined parts is the MD5 of their MD5s, and their number.
	// No reference promises either.
	MD5ETag     Ask = "etag-is-md5"
	MD5PartETag Ask = "etag-of-parts-is-md5"

	// InParts: large objects can be sent in parts. UploadsListed: unfinished ones
	// are listed without naming their key.
	InParts       Ask = "parts"
	UploadsListed Ask = "uploads-listed"

	CopyWhole Ask = "copy"
	// CopySourceStill: a copy is made only of the state that was asked for.
	CopySourceStill Ask = "copy-source-if-still"
	CopyRange       Ask = "copy-range"
	RemoveBatch     Ask = "remove-many"
	// RemoveBatchMD5: many are removed at once with Content-MD5.
	RemoveBatchMD5 Ask = "remove-many-with-md5"
	ReadRange      Ask = "read-range"
	// ReadVersion: an older version is read back by its ID. It is not asked where a
	// write tells of no version.
	ReadVersion Ask = "read-version"

	// KeepsMeta: metadata come back as written; KeepsMeta2K: so do 2 KB of them.
	KeepsMeta   Ask = "metadata-kept"
	KeepsMeta2K Ask = "metadata-2-kb-kept"
	// MetaReplaced: writing over an object drops the metadata it had. Where it does not, what metadata say of
	// content may be of another one.
	MetaReplaced Ask = "metadata-replaced"
	// KeepsTags: tags come back as set.
	KeepsTags Ask = "tags-kept"
	// ListsInOrder: listings are in byte order of UTF-8; ListsEncoded: names in
	// them are encoded when that is asked for.
	ListsInOrder Ask = "listing-in-order"
	ListsEncoded Ask = "listing-encoded"
	// ListsETags: a listing tells the ETag of an object that an answer about it alone tells, also of one that
	// was copied inside the store.
	ListsETags Ask = "listing-tells-etag"
	// FineTimes: listings tell times finer than seconds. No reference promises it.
	FineTimes Ask = "times-below-seconds"
)

// ErrDisorder is why a listing ended that is not in byte order. Nothing of it is to be
// believed, nor is it to be taken up behind its last key; the next one is sorted.
var ErrDisorder = errors.New("the store does not list in byte order; list again, and it will be sorted here")

// Answer is what became of an [Ask].
type Answer string

// The answers.
const (
	Untold  Answer = ""        // not known
	Works   Answer = "works"   // done, as the reference says
	Ignored Answer = "ignored" // taken, and not done
	Refused Answer = "refused" // turned away
)

// NameClass is a kind of name that some stores keep under another.
type NameClass string

// The kinds of names.
const (
	Backslashes  NameClass = "backslash"      // "a\b"
	EmptyParts   NameClass = "empty part"     // "a//b"
	DotParts     NameClass = "dot part"       // "a/./b", "a/../b"
	Capitals     NameClass = "capitals"       // "Ab"
	Decomposed   NameClass = "decomposed"     // letters and accents apart (Unicode NFD)
	TrailingEnds NameClass = "trailing mark"  // ends in "/" or "."
	PartEnds     NameClass = "dot at part"    // "a./b"
	Blanks       NameClass = "blank at end"   // begins or ends with a blank, or a part does
	Controls     NameClass = "control"        // control characters
	LineBreaks   NameClass = "line break"     // line feeds and carriage returns, which are apart from the others
	Escapes      NameClass = "percent escape" // "a%2Fb", "a+b"
	Reserved     NameClass = "reserved"       // what addresses are made of: "a?b#c&d=e"
	NonChars     NameClass = "noncharacter"   // U+FFFE, U+FFFF
	Replaced     NameClass = "replacement"    // U+FFFD, which some put in place of others
	Astral       NameClass = "supplementary"  // beyond U+FFFF: emoji, old scripts
	LongParts    NameClass = "long part"      // a part of more than 255 bytes
)

// Facts are what was found out about a store by trying.
type Facts struct {
	// At is when a test found them; zero for facts of no test.
	At time.Time `json:"at"`
	// Server is what the store calls itself, "" if it does not.
	Server  string         `json:"server,omitempty"`
	Answers map[Ask]Answer `json:"answers,omitempty"`
	// Names tells of kinds of names whether they come back as written.
	Names map[NameClass]Answer `json:"names,omitempty"`
	// Meta is how much metadata are taken, where that is less than the reference allows.
	Meta MetaLimits `json:"meta,omitzero"`
	// Since tells of answers that a run saw otherwise than the test, and when.
	Since map[Ask]time.Time `json:"since,omitempty"`
	// Once are the answers that a run saw once: it went by them, and the next one asks again. What
	// it sees a second time is known.
	Once map[Ask]Answer `json:"once,omitempty"`
	// Open tells that not all could be asked in peace: what was disturbed is not known.
	Open bool `json:"open,omitempty"`
}

// MostMeta is how many bytes of metadata the S3 API allows in all, names and values (API Reference, "System-defined
// object metadata").
const MostMeta = 2 << 10

// MetaLimits are how much metadata a store takes, in bytes: of one value, and of all names and values together. 0 is
// as much as its protocol allows.
type MetaLimits struct {
	Value int `json:"value,omitempty"`
	All   int `json:"all,omitempty"`
}

// Over tells what of an object's metadata is more than the limits, in words; "" for nothing.
func (m MetaLimits) Over(metadata map[string]string) string {
	all := 0
	for _, name := range slices.Sorted(maps.Keys(metadata)) {
		value := metadata[name]
		all += len(name) + len(value)
		if m.Value > 0 && len(value) > m.Value {
			return fmt.Sprintf("its metadata %q has %d bytes, and %d are taken", name, len(value), m.Value)
		}
	}
	if m.All > 0 && all > m.All {
		return fmt.Sprintf("its metadata have %d bytes in all, and %d are taken", all, m.All)
	}
	return ""
}

// FactsAge is how old facts may be before they are tried again.
const FactsAge = 30 * 24 * time.Hour

// Stale tells that the facts are of no test, of one too long ago, of one that was disturbed, or of
// one that runs have seen the contrary of.
func (f *Facts) Stale(now time.Time) bool {
	return f.At.IsZero() || f.Open || now.Sub(f.At) > FactsAge || len(f.Since) > 0
}

// Known holds the facts about one store for all who use it. What a run sees
// otherwise changes them for all at once. A nil Known knows nothing.
type Known struct {
	facts atomic.Pointer[Facts]
	// promised takes what is not known as the reference has it.
	promised bool
	// once are the answers that an earlier run saw once.
	once    map[Ask]Answer
	mu      sync.Mutex
	changed func(Facts, string)
}

// NewKnown starts from facts. changed, which may be nil, is told, with what was
// learned in words, when they change; it is not called by two at once.
func NewKnown(f Facts, changed func(f Facts, what string)) *Known {
	k := &Known{changed: changed, once: f.Once}
	if len(f.Once) > 0 {
		f.Answers, f.Once = cloned(f.Answers), nil
		for a := range k.once {
			delete(f.Answers, a)
		}
	}
	k.facts.Store(&f)
	return k
}

// Promised is what is known of a store that does all that its protocol's
// reference says, as far as nothing else is learned.
func Promised() *Known {
	k := NewKnown(Facts{}, nil)
	k.promised = true
	return k
}

// Facts are what is known now. They are not to be changed.
func (k *Known) Facts() Facts {
	if k == nil {
		return Facts{}
	}
	return *k.facts.Load()
}

// Of is what became of an ask.
func (k *Known) Of(a Ask) Answer {
	if k == nil {
		return Untold
	}
	if is := k.facts.Load().Answers[a]; is != Untold || !k.promised || a == MD5ETag || a == MD5PartETag ||
		a == FineTimes {
		return is
	}
	return Works
}

// Does tells that an ask is known to work.
func (k *Known) Does(a Ask) bool { return k.Of(a) == Works }

// Lacks tells that an ask is known not to work.
func (k *Known) Lacks(a Ask) bool {
	is := k.Of(a)
	return is == Ignored || is == Refused
}

// Name is whether names of a kind come back as written.
func (k *Known) Name(c NameClass) Answer {
	if k == nil {
		return Untold
	}
	if is := k.facts.Load().Names[c]; is != Untold || !k.promised {
		return is
	}
	return Works
}

// Replace takes the facts of a new test in place of all before.
func (k *Known) Replace(f Facts) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.once = nil
	k.facts.Store(&f)
}

// Learn notes what a store was seen to do. What is seen once, and was not known, is gone by at once; it is
// kept as known when a later run sees it again. That something works is known at the first sight.
func (k *Known) Learn(a Ask, is Answer) {
	if k == nil || k.Of(a) == is {
		return
	}
	k.change(string(a)+": "+string(is), func(f *Facts) bool {
		if f.Answers[a] == is {
			return false
		}
		if !f.At.IsZero() {
			f.Since[a] = time.Now()
		}
		f.Answers[a] = is
		if is == Works || k.once[a] == is {
			delete(f.Once, a)
		} else {
			f.Once[a] = is
		}
		return true
	})
}

// Confirm is Learn for what two answers have told, with the content between them as it should be: it is known at once.
func (k *Known) Confirm(a Ask, is Answer) {
	k.Learn(a, is)
	if k == nil || k.facts.Load().Once[a] != is {
		return
	}
	k.change(string(a)+": "+string(is), func(f *Facts) bool {
		was := f.Once[a] == is
		delete(f.Once, a)
		return was
	})
}

// LearnName notes what became of a name of a kind.
func (k *Known) LearnName(c NameClass, is Answer) {
	if k == nil || k.Name(c) == is {
		return
	}
	k.change("names with "+string(c)+": "+string(is), func(f *Facts) bool {
		if f.Names[c] == is {
			return false
		}
		f.Names[c] = is
		return true
	})
}

// change makes new facts of the old ones: readers hold no lock.
func (k *Known) change(what string, how func(*Facts) bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	f := *k.facts.Load()
	f.Answers, f.Names, f.Since, f.Once = cloned(f.Answers), cloned(f.Names), cloned(f.Since), cloned(f.Once)
	if !how(&f) {
		return
	}
	k.facts.Store(&f)
	if k.changed != nil {
		k.changed(f, what)
	}
}

func cloned[K comparable, V any](m map[K]V) map[K]V {
	if m == nil {
		return map[K]V{}
	}
	return maps.Clone(m)
}

// Told lists the asks with an answer, in order.
func (f *Facts) Told() []Ask { return slices.Sorted(maps.Keys(f.Answers)) }
