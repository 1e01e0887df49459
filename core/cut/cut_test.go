package cut_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"lumtra/core/cut"
	"lumtra/core/place"
)

const mib = int64(1 << 20)

// Parts are as large as a person wants, else as suits the target, and never so small that
// there would be too many.
func TestSizes(t *testing.T) {
	store := place.Abilities{MinPart: 5 * mib, MaxPart: 5 << 30, MaxParts: 10000}
	assert.EqualValues(t, 8*mib, cut.For(0, store, false).Of(1<<30))
	assert.EqualValues(t, 9*mib, cut.For(9*mib, store, false).Of(1<<30))
	assert.EqualValues(t, 5*mib, cut.For(1, store, false).Of(1<<30))
	for _, size := range []int64{80 << 30, 5 << 40, 80<<30 + 1} {
		s := cut.For(0, store, false)
		assert.LessOrEqual(t, s.Parts(size), int64(10000))
		assert.Zero(t, s.Of(size)%mib)
	}
	assert.EqualValues(t, 5<<30, cut.For(6<<30, store, false).Of(1<<40), "not larger than a part may be")
	store.GoodPart = 32 * mib
	assert.EqualValues(t, 32*mib, cut.For(0, store, false).Of(1<<30))
	assert.EqualValues(t, 8*mib, cut.For(0, store, true).Of(1<<30), "they wait in memory")
	assert.EqualValues(t, 64*mib, cut.For(64*mib, store, true).Of(1<<30), "a person said so")
}

// What is not much larger than a part goes in one piece; what is digested only when it fits
// in memory, and nothing that is larger than one request may be.
func TestWhole(t *testing.T) {
	for name, c := range map[string]struct {
		s     cut.Sizes
		whole int64
	}{
		"usual":      {cut.For(0, place.Abilities{}, false), 16 * mib},
		"digested":   {cut.For(0, place.Abilities{}, true), 8 * mib},
		"by request": {cut.For(0, place.Abilities{MaxWhole: 3 * mib}, false), 3 * mib},
	} {
		assert.Equal(t, c.whole, c.s.Whole, name)
		assert.Zero(t, c.s.Parts(c.whole), name)
		assert.Positive(t, c.s.Parts(c.whole+1), name)
	}
	assert.EqualValues(t, 3, cut.For(0, place.Abilities{}, false).Parts(16*mib+1))
	assert.Zero(t, cut.Sizes{}.Parts(1<<40), "nothing is known of the target")
}
