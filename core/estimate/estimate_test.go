package estimate_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"lumtra/core/cut"
	"lumtra/core/estimate"
	"lumtra/core/place"
	"lumtra/core/plan"
)

// Many small objects to a store that answers slowly take as long as the answers, by the
// streams a run comes to; where a person has set how many, by those.
func TestEstimateOfSmallObjects(t *testing.T) {
	info := plan.Info{}
	info.Totals[plan.Add] = plan.Total{Count: 6000, Bytes: 6000 * 4096}
	folder := estimate.Side{Name: "marsh"}
	store := estimate.Side{Name: "north", Store: true, Latency: 20 * time.Millisecond, Up: 1e9, Down: 1e9,
		Measured: true}
	left := estimate.Of(&info, folder, store, estimate.Work{Streams: 16, MostStreams: 128,
		Cut: cut.For(0, place.Abilities{}, false)})
	set := estimate.Of(&info, folder, store, estimate.Work{Streams: 16, Cut: cut.For(0, place.Abilities{}, false)})
	assert.InDelta(t, 6000*0.020/128, left.Soon.Seconds(), 0.1)
	assert.InDelta(t, 6000*0.020/16, set.Soon.Seconds(), 0.1)
	assert.InDelta(t, set.Late.Seconds(), left.Late.Seconds(), 0.1)
	assert.Empty(t, left.Assumed)
	store.Latency, store.Measured = 0, false
	assert.Equal(t, []string{"north"}, estimate.Of(&info, folder, store, estimate.Work{}).Assumed)
}

// As one pack the same takes a request for each part, and heads and index besides; many small objects are
// worth one, few or large ones are not.
func TestEstimateOfPacks(t *testing.T) {
	info := plan.Info{}
	info.Totals[plan.Add] = plan.Total{Count: 100_000, Bytes: 100_000 * 4096}
	info.Sizes[0] = info.Totals[plan.Add]
	assert.True(t, estimate.WorthPacking(&info))
	store := estimate.Side{Name: "north", Store: true, Latency: 50 * time.Millisecond, Up: 100e6, Down: 100e6,
		Measured: true}
	sizes := cut.For(0, place.Abilities{MinPart: 5 << 20, MaxPart: 5 << 30, MaxParts: 10000}, false)
	single := estimate.Of(&info, estimate.Side{Name: "marsh"}, store, estimate.Work{Streams: 16, Cut: sizes})
	packed := estimate.Of(&info, estimate.Side{Name: "marsh"}, store,
		estimate.Work{Streams: 16, Cut: sizes, Packed: true})
	assert.EqualValues(t, 100_001, single.Target.All())
	assert.EqualValues(t, 74+2+3+1, packed.Target.All(), "parts of 8 MiB, begun, joined, looked at, listed")
	assert.Less(t, packed.Expect, single.Expect/8)
	info.Totals[plan.Add] = plan.Total{Count: 100_000, Bytes: 100_000 << 21}
	assert.False(t, estimate.WorthPacking(&info))
	info.Totals[plan.Add] = plan.Total{Count: 100, Bytes: 100}
	assert.False(t, estimate.WorthPacking(&info))
}
