package pack

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/cut"
	"lumtra/core/object"
	"lumtra/core/place"
)

// copier is a store that copies ranges; none of its methods but these is called.
type copier struct {
	place.PartCopier
	can bool
}

func (c copier) CanCopyParts() bool { return c.can }

func (copier) CopyPart(context.Context, place.Upload, int, place.Place, object.Ref, int64, int64) (place.Part, error) {
	panic("not called")
}

// A pack of 5 TiB, the largest object of an S3 store, comes about in rounds: in each, all parts have numbers up
// to 10,000, wait in memory two at a time, and are copied no more than 5 GiB at once.
func TestRoundsOfTheLargest(t *testing.T) {
	const whole = 5 << 40
	can := place.Capabilities{Ranges: copier{can: true}}
	can.MaxObject, can.MinPart, can.MaxPart, can.MaxParts = whole, 5<<20, 5<<30, 10_000
	sizes, round := cut.For(0, can.Abilities, false), Round(can)
	rounds := 0
	for kept := int64(0); kept < whole; rounds++ {
		most := min(round, whole-kept)
		most -= most / 64 // what does not compress grows by so much at the most
		size, err := PartSize(can, sizes, kept, most)
		require.NoError(t, err)
		assert.LessOrEqual(t, size, int64(packRoom/2))
		copies := keptPieces(can, kept)
		if copies > 0 {
			assert.LessOrEqual(t, (kept+copies-1)/copies, int64(5<<30))
		}
		grown := most + most/64
		assert.LessOrEqual(t, copies+(grown+size-1)/size, int64(10_000), "round %d", rounds+1)
		kept += most + 1 + most/65
	}
	assert.InDelta(t, 10, rounds, 2, "the last ones are small")
	_, err := PartSize(can, sizes, whole-1000, 1001)
	assert.ErrorContains(t, err, "make several packs of it")
	can.Ranges = copier{can: false}
	assert.Zero(t, Round(can), "what is kept would pass through here in each round")
	_, err = PartSize(can, sizes, 0, 1<<40)
	assert.ErrorContains(t, err, "each waits in memory: make several packs of it")
}
