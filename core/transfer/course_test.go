package transfer

import (
	"cmp"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"lumtra/testkit"
)

// Of any arrivals the newest are kept, newest first, and those that took longest, longest
// first; never more than there were.
func TestCourse(t *testing.T) {
	testkit.Check(t, func(rt *rapid.T) {
		var c course
		var all []Arrival
		for i := range rapid.IntRange(0, 3*keptArrivals).Draw(rt, "arrivals") {
			a := Arrival{Key: fmt.Sprint("take ", i), Took: time.Duration(rapid.IntRange(0, 50).Draw(rt, "took"))}
			c.add(a)
			all = append(all, a)
		}
		newest, slowest := c.copy()
		n := min(len(all), keptArrivals)
		want := slices.Clone(all[len(all)-n:])
		slices.Reverse(want)
		assert.Equal(rt, len(want), len(newest))
		for i := range want {
			assert.Equal(rt, want[i], newest[i])
		}
		slices.SortStableFunc(all, func(a, b Arrival) int { return cmp.Compare(b.Took, a.Took) })
		assert.Len(rt, slowest, n)
		for i, a := range slowest {
			assert.Equal(rt, all[i].Took, a.Took, "as long as the %d. longest", i+1)
		}
	})
}

// A run's objects, whole and in parts, are among its arrivals; what failed is not.
func TestArrivalsOfFlights(t *testing.T) {
	m := &Meter{}
	m.start(nil)
	for _, key := range []string{"a", "b"} {
		f := m.takeOff(key, 7, 0)
		if key == "a" {
			f.arrived()
		}
		f.land()
	}
	s := m.Snapshot()
	assert.Len(t, s.Arrived, 1)
	assert.Equal(t, "a", s.Arrived[0].Key)
	assert.Equal(t, s.Arrived, s.Slowest)
	assert.EqualValues(t, 7, s.Slowest[0].Size)
}
