package transfer

import (
	"slices"
	"time"
)

// Arrival is an object that a run has brought over.
type Arrival struct {
	Key  string
	Size int64
	// Took is how long it was under way, tries that failed and waiting for answers included;
	// At is when it was there, since the run's start.
	Took, At time.Duration
}

// Course is what is known of how a run went, beside its totals.
type Course struct {
	// Stages is where the streams' time went, summed over all of them.
	Stages [stageCount]time.Duration
	// Throttles is how often a store asked to slow down.
	Throttles int64
	// Arrived are the newest arrivals, newest first; Slowest those that took longest.
	Arrived, Slowest []Arrival
}

// keptArrivals is how many of each kind are kept.
const keptArrivals = 24

// course collects arrivals; the meter's mutex guards it.
type course struct {
	newest  [keptArrivals]Arrival // a ring
	next    int                   // how many there were
	slowest []Arrival             // longest first
}

func (c *course) add(a Arrival) {
	c.newest[c.next%keptArrivals] = a
	c.next++
	if len(c.slowest) == keptArrivals && a.Took <= c.slowest[keptArrivals-1].Took {
		return
	}
	at, _ := slices.BinarySearchFunc(c.slowest, a, func(x, y Arrival) int { return int(y.Took - x.Took) })
	c.slowest = slices.Insert(c.slowest, at, a)
	c.slowest = c.slowest[:min(len(c.slowest), keptArrivals)]
}

func (c *course) copy() (newest, slowest []Arrival) {
	for i := c.next - 1; i >= max(c.next-keptArrivals, 0); i-- {
		newest = append(newest, c.newest[i%keptArrivals])
	}
	return newest, slices.Clone(c.slowest)
}

// arrived notes that the object of the flight is there.
func (f *flight) arrived() {
	now := time.Now()
	f.m.mu.Lock()
	defer f.m.mu.Unlock()
	f.m.course.add(Arrival{Key: f.key, Size: f.size, Took: now.Sub(f.began), At: now.Sub(f.m.began)})
}
