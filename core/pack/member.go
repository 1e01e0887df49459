package pack

import (
	"archive/tar"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"lumtra/core/object"
)

// Kind is what a member is.
type Kind byte

// The kinds, by the letters of `ls -l`.
const (
	File    Kind = '-'
	Folder  Kind = 'd'
	Symlink Kind = 'l'
	// Hardlink is another name of a file that comes before it in the pack.
	Hardlink Kind = 'h'
	// Special is a device, a pipe or the like: kept, and never taken out.
	Special Kind = 's'
)

// Member is what a pack knows of one of its members, without the content.
type Member struct {
	// Name is its path in the pack, parts separated by "/", without one at the start; a folder's
	// ends in one. It is data from strangers; see [object.Display].
	Name string
	Kind Kind
	// Size is the content's length in bytes.
	Size     int64
	Modified time.Time
	// Mode are the permission bits, set-user-ID and the like included, as chmod(2) has them.
	Mode        uint32
	UID, GID    int
	User, Group string
	// Link is where a link leads: for a symbolic one any text, for a hard one a member's name.
	Link string
	// Sum is the CRC-64/NVME of the content, Digest its SHA-256 or BLAKE3; zero where not known.
	Sum, Digest object.Sum
	// Turn counts the versions of a name in one pack, from 0 on. The highest is what is there now.
	Turn int
	// Dropped tells that the name is gone from here on; only its tar bytes may still lie in the pack.
	Dropped bool
	// Shared tells that other names of the file may follow.
	Shared bool
	// Sparse tells that a file had holes, which it gets again where zeros are; Attributes are its extended
	// ones, by their names.
	Sparse     bool
	Attributes map[string]string
	// Implied marks a folder that no member stands for: only others lie in it.
	Implied bool

	span span
}

// span is where a member's content lies in the object.
type span struct {
	// at and end bound the frames, or for a plain pack the bytes, that hold it; skip is what comes
	// before it in the first frame, in bytes of the stream.
	at, end, skip int64
	// stops are places to begin in a large one: every step bytes of the stream from the start of
	// the first frame on, a frame begins at the offset.
	step  int64
	stops []int64
}

// Entry is a member as places tell of objects.
func (m *Member) Entry() object.Entry {
	e := object.Entry{Key: m.Name, Size: m.Size, Modified: m.Modified, Mode: object.ModeOf(m.Mode & 0o777)}
	if m.Kind != File && m.Kind != Hardlink {
		e.Kind = object.Special
	}
	for _, s := range []object.Sum{m.Sum, m.Digest} {
		if s.Kind != object.NoSum {
			e.Sums = append(e.Sums, s)
		}
	}
	return e
}

// split parts a name into the folder it lies in and the rest; a folder's rest ends in "/".
func split(name string) (dir, base string) {
	bare := strings.TrimSuffix(name, "/")
	i := strings.LastIndexByte(bare, '/')
	if i < 0 {
		return "", name
	}
	return bare[:i], name[i+1:]
}

// key is where a member stands in the index: with all of its folder side by side, its newest version
// first. Zero bytes, which no name has, part folder, name and version.
func (m *Member) key() string {
	dir, base := split(m.Name)
	var turn [4]byte
	binary.BigEndian.PutUint32(turn[:], math.MaxUint32-uint32(m.Turn))
	return dir + "\x00" + base + "\x00" + string(turn[:])
}

// nameOf reads name and version back from a key.
func nameOf(key string) (name string, turn int, err error) {
	dir, rest, ok := strings.Cut(key, "\x00")
	if !ok || len(rest) < 6 || rest[len(rest)-5] != 0 {
		return "", 0, errIndex
	}
	name = rest[:len(rest)-5]
	if dir != "" {
		name = dir + "/" + name
	}
	return name, int(math.MaxUint32 - binary.BigEndian.Uint32([]byte(rest[len(rest)-4:]))), nil
}

// errIndex means that the index of a pack is not what a Writer wrote.
var errIndex = errors.New("the pack's index is damaged")

// The flags of a record.
const (
	isDropped = 1 << iota
	isImplied
	isShared
	isSparse
	hasAttributes
)

// encode is a member's record in the index, without its name.
func (m *Member) encode(b []byte) []byte {
	flags := byte(0)
	if m.Dropped {
		flags |= isDropped
	}
	if m.Implied {
		flags |= isImplied
	}
	if m.Shared {
		flags |= isShared
	}
	if m.Sparse {
		flags |= isSparse
	}
	if len(m.Attributes) > 0 {
		flags |= hasAttributes
	}
	b = append(b, byte(m.Kind), flags)
	b = binary.AppendVarint(b, m.Modified.Unix())
	for _, n := range []int64{m.Size, int64(m.Modified.Nanosecond()), int64(m.Mode), int64(m.UID), int64(m.GID),
		m.span.at, m.span.end - m.span.at, m.span.skip, m.span.step, int64(len(m.span.stops))} {
		b = binary.AppendUvarint(b, uint64(n))
	}
	last := m.span.at
	for _, stop := range m.span.stops {
		b = binary.AppendUvarint(b, uint64(stop-last))
		last = stop
	}
	for _, text := range []string{m.User, m.Group, m.Link, m.Sum.Value} {
		b = append(binary.AppendUvarint(b, uint64(len(text))), text...)
	}
	if len(m.Attributes) > 0 {
		b = binary.AppendUvarint(b, uint64(len(m.Attributes)))
		for _, name := range slices.Sorted(maps.Keys(m.Attributes)) {
			for _, text := range []string{name, m.Attributes[name]} {
				b = append(binary.AppendUvarint(b, uint64(len(text))), text...)
			}
		}
	}
	return append(append(b, digestLetters[m.Digest.Kind]), m.Digest.Value...)
}

// digestLetters are how the index names kinds of digests.
var digestLetters = map[object.SumKind]byte{object.NoSum: 0, object.SHA256: 'S', object.BLAKE3: 'B'}

func digestKind(letter byte) (object.SumKind, bool) {
	for kind, x := range digestLetters {
		if x == letter {
			return kind, true
		}
	}
	return object.NoSum, false
}

// mostStops is how many places to begin a large member has.
const mostStops = 256

// decode reads a record; name and Turn come from its key.
func decode(b []byte) (m Member, err error) {
	r := record{b: b}
	m.Kind = Kind(r.byte())
	flags := r.byte()
	m.Dropped, m.Implied, m.Shared = flags&isDropped != 0, flags&isImplied != 0, flags&isShared != 0
	m.Sparse = flags&isSparse != 0
	seconds := r.varint()
	m.Size = r.number()
	nanos := r.number()
	m.Modified = time.Unix(seconds, nanos).UTC()
	m.Mode = uint32(r.number())
	m.UID, m.GID = int(r.number()), int(r.number())
	m.span.at = r.number()
	m.span.end = m.span.at + r.number()
	m.span.skip, m.span.step = r.number(), r.number()
	stops := r.number()
	if stops > mostStops || nanos > 999_999_999 || m.span.end < m.span.at {
		return m, errIndex
	}
	last := m.span.at
	for range stops {
		last += r.number()
		m.span.stops = append(m.span.stops, last)
	}
	m.User, m.Group, m.Link = r.text(), r.text(), r.text()
	if sum := r.text(); sum != "" {
		m.Sum = object.Sum{Kind: object.CRC64NVME, Value: sum}
	}
	if flags&hasAttributes != 0 {
		m.Attributes = map[string]string{}
		for n := r.number(); n > 0 && !r.bad; n-- {
			name := r.text()
			m.Attributes[name] = r.text()
		}
	}
	kind, known := digestKind(r.byte())
	m.Digest = object.Sum{Kind: kind, Value: string(r.b)}
	if r.bad || !known || last > m.span.end || last < m.span.at || !wellSummed(m.Sum) || !wellSummed(m.Digest) ||
		!strings.ContainsRune("-dlhs", rune(m.Kind)) {
		return m, errIndex
	}
	return m, nil
}

// wellSummed tells that a sum has the length of its kind.
func wellSummed(s object.Sum) bool {
	switch s.Kind {
	case object.NoSum:
		return s.Value == ""
	case object.CRC64NVME, object.SHA256, object.BLAKE3:
		return len(s.Value) == s.Kind.Size()
	}
	return false
}

// record is the rest of a record that is being read.
type record struct {
	b   []byte
	bad bool
}

func (r *record) byte() byte {
	if len(r.b) == 0 {
		r.bad = true
		return 0
	}
	x := r.b[0]
	r.b = r.b[1:]
	return x
}

func (r *record) varint() int64 {
	n, used := binary.Varint(r.b)
	if used <= 0 {
		r.bad = true
		return 0
	}
	r.b = r.b[used:]
	return n
}

// number is one from 0 up to what any offset in an object can be.
func (r *record) number() int64 {
	n, used := binary.Uvarint(r.b)
	if used <= 0 || n > math.MaxInt64/4 {
		r.bad = true
		return 0
	}
	r.b = r.b[used:]
	return int64(n)
}

func (r *record) text() string {
	n := r.number()
	if n > int64(len(r.b)) {
		r.bad = true
		return ""
	}
	text := string(r.b[:n])
	r.b = r.b[n:]
	return text
}

// paxAttribute begins the names of records with extended attributes, as tar programs have them;
// mostAttributes is how many bytes of them a member may have.
const (
	paxAttribute   = "SCHILY.xattr."
	mostAttributes = 16 << 10
)

// CheckAttributes tells why extended attributes cannot be a member's.
func CheckAttributes(all map[string]string) error {
	size := 0
	for name, value := range all {
		if name == "" || strings.ContainsAny(name, "=\x00") {
			return fmt.Errorf("an extended attribute has a name that a pack cannot hold: %q", name)
		}
		size += len(name) + len(value)
	}
	if size > mostAttributes {
		return fmt.Errorf("it has %d bytes of extended attributes, and a pack keeps %d", size, mostAttributes)
	}
	return nil
}

// attributesOf are the extended attributes that a header of a tar has.
func attributesOf(h *tar.Header) map[string]string {
	var all map[string]string
	size := 0
	for key, value := range h.PAXRecords {
		name, ok := strings.CutPrefix(key, paxAttribute)
		if size += len(name) + len(value); !ok || name == "" || size > mostAttributes {
			continue
		}
		if all == nil {
			all = map[string]string{}
		}
		all[name] = value
	}
	return all
}

// header is a member as archive/tar has it, in the pax form.
func (m *Member) header() (*tar.Header, error) {
	if err := CheckName(m.Name); err != nil {
		return nil, err
	}
	h := &tar.Header{Name: m.Name, Size: m.Size, ModTime: m.Modified, Mode: int64(m.Mode), Uid: m.UID, Gid: m.GID,
		Uname: m.User, Gname: m.Group, Linkname: m.Link, Format: tar.FormatPAX}
	if err := CheckAttributes(m.Attributes); err != nil {
		return nil, err
	}
	for name, value := range m.Attributes {
		if h.PAXRecords == nil {
			h.PAXRecords = map[string]string{}
		}
		h.PAXRecords[paxAttribute+name] = value
	}
	switch m.Kind {
	case File:
		h.Typeflag = tar.TypeReg
	case Folder:
		h.Typeflag = tar.TypeDir
	case Symlink:
		h.Typeflag = tar.TypeSymlink
	case Hardlink:
		h.Typeflag = tar.TypeLink
	default:
		return nil, fmt.Errorf("%s: what is neither a file, a folder nor a link is not packed",
			object.DisplayKey(m.Name))
	}
	return h, nil
}

// memberOf is what a header of a tar says.
func memberOf(h *tar.Header) Member {
	m := Member{Name: h.Name, Size: h.Size, Modified: h.ModTime.UTC(), Mode: uint32(h.Mode) & 0o7777, UID: h.Uid,
		GID: h.Gid, User: h.Uname, Group: h.Gname, Link: h.Linkname, Attributes: attributesOf(h)}
	switch h.Typeflag {
	case tar.TypeReg, tar.TypeGNUSparse:
		m.Kind = File
	case tar.TypeDir:
		m.Kind, m.Size = Folder, 0
	case tar.TypeSymlink:
		m.Kind, m.Size = Symlink, 0
	case tar.TypeLink:
		m.Kind = Hardlink
	default:
		m.Kind, m.Size = Special, 0
	}
	return m
}

// The longest name, in bytes, and the most folders in each other: what more would take is room for every
// one of them in the index. Paths of a file system have 4,096 bytes, keys of stores 1,024.
const (
	maxName = 8 << 10
	maxDeep = 256
)

// CheckName tells why a name cannot be a member's.
func CheckName(name string) error {
	switch {
	case name == "":
		return errors.New("a member needs a name")
	case strings.ContainsRune(name, 0):
		return errors.New("a name with a zero byte cannot be kept in a pack")
	case len(name) > maxName || strings.Count(name, "/") > maxDeep:
		return fmt.Errorf("a name in a pack has at most %d bytes and %d parts", maxName, maxDeep)
	case strings.HasPrefix(name, "/"):
		return errors.New("a name that begins with / cannot be kept in a pack: taken out, it would lead away")
	case !fs.ValidPath(clean(name)):
		return errors.New("a name with empty parts, . or .. cannot be kept in a pack: taken out, it would be another")
	}
	return nil
}

// clean has an invalid UTF-8 name, which may be kept, pass the check of its parts.
func clean(name string) string { return strings.ToValidUTF8(strings.TrimSuffix(name, "/"), "_") }
