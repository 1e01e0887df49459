package cut

import (
	"cmp"

	"lumtra/core/place"
)

// DefaultPart is the size of parts, in bytes, where neither a person nor the target has a
// better one.
const DefaultPart = 8 << 20

// Sizes tells how objects are cut for a target. Make one with [For].
type Sizes struct {
	// Part is the size of parts that is wanted, in bytes; [Sizes.Of] may be more.
	Part int64
	// Whole is the largest object that goes in one piece, in bytes.
	Whole int64

	can place.Abilities
}

// For is how objects are cut for a target that can do so much. wanted is the size of parts
// that a person asks for, 0 for what suits the target. What is digested waits in memory, a
// part at a time: those are small then, and nothing larger goes in one piece.
func For(wanted int64, can place.Abilities, digested bool) Sizes {
	s := Sizes{Part: wanted, can: can}
	if s.Part <= 0 {
		s.Part = cmp.Or(can.GoodPart, DefaultPart)
		if digested {
			s.Part = min(s.Part, DefaultPart)
		}
	}
	s.Whole = 2 * s.Part
	if digested {
		s.Whole = s.Part
	}
	if can.MaxWhole > 0 {
		s.Whole = min(s.Whole, can.MaxWhole)
	}
	return s
}

// Of is the size of the parts of an object of size bytes: the wanted one, or as much more as
// it takes to stay within the target's limits, in whole MiB.
func (s Sizes) Of(size int64) int64 {
	part := max(s.Part, s.can.MinPart)
	if s.can.MaxParts > 0 {
		if least := (size + int64(s.can.MaxParts) - 1) / int64(s.can.MaxParts); part < least {
			const mib = 1 << 20
			part = (least + mib - 1) / mib * mib
		}
	}
	if s.can.MaxPart > 0 {
		part = min(part, s.can.MaxPart)
	}
	return part
}

// Parts is how many parts an object of size bytes goes in; 0 where it goes in one piece.
func (s Sizes) Parts(size int64) int64 {
	if size <= s.Whole || s.Part <= 0 {
		return 0
	}
	part := s.Of(size)
	return (size + part - 1) / part
}
