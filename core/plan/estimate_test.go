package plan_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"lumtra/core/plan"
)

// Many small objects to a store that answers slowly take as long as the answers, by the
// streams a run comes to; where a person has set how many, by those.
func TestEstimateOfSmallObjects(t *testing.T) {
	info := plan.Info{}
	info.Totals[plan.Add] = plan.Total{Count: 6000, Bytes: 6000 * 4096}
	folder := plan.Side{Name: "marsh"}
	store := plan.Side{Name: "north", Store: true, Latency: 20 * time.Millisecond, Up: 1e9, Down: 1e9, Measured: true}
	left := info.Estimate(folder, store, plan.Work{Streams: 16, MostStreams: 128, PartSize: 8 << 20})
	set := info.Estimate(folder, store, plan.Work{Streams: 16, PartSize: 8 << 20})
	assert.InDelta(t, 6000*0.020/128, left.Soon.Seconds(), 0.1)
	assert.InDelta(t, 6000*0.020/16, set.Soon.Seconds(), 0.1)
	assert.InDelta(t, set.Late.Seconds(), left.Late.Seconds(), 0.1)
	assert.Empty(t, left.Assumed)
	store.Latency, store.Measured = 0, false
	assert.Equal(t, []string{"north"}, info.Estimate(folder, store, plan.Work{}).Assumed)
}
