package pack

import (
	"fmt"
	"strconv"
	"strings"

	"lumtra/core/object"
	"lumtra/core/rule"
)

// Division says which pack of a set each object goes into. What is in a pack already stays with that, and
// what lies beside the packs stays beside; what is new goes by the job's [rule.Packs]. The same questions in
// the same order have the same answers, so that a run that was stopped goes on with the same packs.
type Division struct {
	set           *Set
	byFolder      bool
	atMost, under int64
	full          map[int]int64 // bytes in numbered packs
	last          int           // the pack that is being filled, by number
}

// HeadRoom is what a member takes beside its content, in bytes, at most in the usual case.
const HeadRoom = 2048

// NewDivision is one that has seen nothing.
func (s *Set) NewDivision(by rule.Packs) *Division {
	d := &Division{set: s, byFolder: by.By == rule.ByFolder, full: map[int]int64{}, last: 1}
	d.atMost, d.under = by.Sizes()
	return d
}

// Saw takes in what is there; all of it comes before the first question.
func (d *Division) Saw(e *object.Entry) {
	if number, ok := d.number(d.set.PackOf(e)); ok {
		d.full[number] += e.Size + HeadRoom
		d.last = max(d.last, number)
	}
}

// number is that of a numbered pack.
func (d *Division) number(name string) (int, bool) {
	n, err := strconv.Atoi(strings.TrimSuffix(name, d.set.ending))
	return n, err == nil && n > 0 && d.name(n) == name
}

func (d *Division) name(number int) string { return fmt.Sprintf("%04d%s", number, d.set.ending) }

// Folder is the pack of the folder at the top that a key lies in.
func (s *Set) Folder(key string) string {
	folder, _, in := strings.Cut(s.prefix+key, "/")
	if !in {
		folder = "_"
	}
	return folder + s.ending
}

// Of is the pack that an object goes into, "" where it lands beside the packs; there is what lies at its
// key now, nil for nothing.
func (d *Division) Of(key string, size int64, there *object.Entry) string {
	full := d.set.prefix + key
	switch {
	case there != nil:
		return d.set.PackOf(there)
	case d.under > 0 && size >= d.under && !d.set.isPack(full):
		return ""
	case d.byFolder:
		return d.set.Folder(key)
	}
	if full := d.full[d.last]; full > 0 && full+size+HeadRoom > d.atMost {
		d.last++
	}
	d.full[d.last] += size + HeadRoom
	return d.name(d.last)
}
