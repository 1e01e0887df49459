package transfer_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/place/s3"
	"lumtra/core/plan"
)

// Rounds are made of what is more than one holds, unless a file is larger than a round, or only some of the plan is
// carried out: they show in the frames of a compressed pack.
func TestWhenInRounds(t *testing.T) {
	const round = 12 << 20
	for name, c := range map[string]struct {
		sizes  []int
		only   bool
		rounds bool
	}{
		"more than one holds":       {[]int{5 << 20, 5 << 20, 5 << 20}, false, true},
		"no more than that":         {[]int{5 << 20, 5 << 20}, false, false},
		"more by its heads":         {[]int{6 << 20, 6<<20 - 3000}, false, true},
		"a file larger than one":    {[]int{13 << 20, 5 << 20}, false, false},
		"one larger with its head":  {[]int{round - 100, 5 << 20}, false, false},
		"some of the plan":          {[]int{5 << 20, 5 << 20, 5 << 20}, true, false},
		"one that just fills a one": {[]int{round - pack.HeadRoom, 5 << 20}, false, true},
	} {
		w := newWorld(t)
		for i, size := range c.sizes {
			w.put(t, fmt.Sprint(i, ".wav"), strings.Repeat(fmt.Sprint("tide", i), size/5))
		}
		raw := func(round int64) string {
			in := pack.In(w.store, fmt.Sprint("of", round, ".tar.zst"), "")
			opts := quick
			opts.PackRound = round
			if c.only {
				opts.Only = func(effect int64) bool { return effect > 0 }
			}
			out, m := w.run(t, ctx, w.planBy(t, w.folder, in, mirrored()), w.folder, in, opts)
			require.Zero(t, out.Failed, "%v", m.Problems)
			_, key, _ := in.Outer()
			all, _, err := place.Open(ctx, w.store, key, 1<<30)
			require.NoError(t, err)
			return string(all)
		}
		assert.Equal(t, c.rounds, raw(round) != raw(1<<40), name)
	}
}

// narrow is a store that holds no objects larger than so many bytes.
type narrow struct {
	*s3.Place
	largest int64
}

func (n *narrow) Abilities() place.Abilities {
	a := n.Place.Abilities()
	a.MaxObject = n.largest
	return a
}

// What all rounds come to is told before the first, where it is more than an object may be.
func TestRoundsTooLarge(t *testing.T) {
	for _, largest := range []int64{40 << 20, 14 << 20} {
		w := newWorld(t)
		for i := range 3 {
			w.put(t, fmt.Sprint(i, ".wav"), strings.Repeat("tide", 5<<20/4))
		}
		in := pack.In(&narrow{w.store.(*s3.Place), largest}, "takes.tar", "")
		opts := quick
		opts.PackRound = 12 << 20
		out, m := w.run(t, ctx, w.planBy(t, w.folder, in, mirrored()), w.folder, in, opts)
		if largest > 20<<20 {
			assert.Zero(t, out.Failed, "%v", m.Problems)
			continue
		}
		assert.EqualValues(t, 3, out.Failed)
		assert.Contains(t, fmt.Sprint(m.Problems), "an object here may have 14680064")
		assert.Empty(t, keys(t, w.store))
	}
}

// What cannot be packed is told once, however many rounds there are.
func TestBlockedInRounds(t *testing.T) {
	w := newWorld(t)
	for i := range 3 {
		w.put(t, fmt.Sprint(i, ".wav"), strings.Repeat("tide", 5<<20/4))
	}
	w.put(t, strings.Repeat("d/", 257)+"deep", "too deep for a pack")
	in := pack.In(w.store, "takes.tar", "")
	var told [2]int64
	for i, round := range []int64{0, 12 << 20} {
		p := w.planBy(t, w.folder, in, mirrored())
		require.EqualValues(t, 1, p.Info.Totals[plan.Blocked].Count)
		opts := quick
		opts.PackRound = round
		_, m := w.run(t, ctx, p, w.folder, in, opts)
		for _, problem := range m.Problems {
			told[i] += problem.Count
		}
		require.NoError(t, w.store.Remove(ctx, object.Ref{Key: "takes.tar"})[0])
		in.Renew()
	}
	assert.Equal(t, [2]int64{1, 1}, told)
}
