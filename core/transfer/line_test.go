package transfer_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/core/rule"
)

// Over a line that flips bits in whatever passes, to and from real servers, between two of them and back into a folder,
// copied and moved: what has arrived is what was sent, what has left its source is at the target, and nothing that
// Lumtra wrote is read unverified.
func TestInteropLine(t *testing.T) {
	var lines []*proxy
	via := func(address string) string {
		lines = append(lines, &proxy{})
		return before(t, lines[len(lines)-1], address)
	}
	for _, afterwards := range []rule.Afterwards{rule.KeepSource, rule.DeleteSource} {
		there := realPlacesIn(t, "line-there-"+string(afterwards), via)
		again := realPlacesIn(t, "line-again-"+string(afterwards), via)
		for i, real := range there {
			w := newWorld(t)
			large := make([]int, 20)
			for n := range large {
				large[n] = 5<<20 + n*300_000
			}
			w.fill(t, 200, large...)
			end, err := folder.OpenEndpoint("back", t.TempDir(), folder.Options{})
			require.NoError(t, err)
			back, _ := end.Open("")
			rules := rule.Default()
			rules.Afterwards = afterwards
			want := texts(t, w.folder)
			route := []place.Place{w.folder, real, w.store, again[i], back}
			if len(there) > 1 { // from one real server to another, too
				route = append(route[:4:4], there[(i+1)%len(there)], back)
			}
			for leg := range len(route) - 1 {
				w.leg(t, route[leg], route[leg+1], rules, want, lines)
			}
			emptied(t, there[(i+1)%len(there)])
			require.NoError(t, end.Close())
		}
	}
	for i, p := range lines {
		t.Logf("line %d turned a bit over %d times", i, p.hits.Load())
		assert.Positive(t, p.hits.Load())
	}
}

// leg brings all from one place to the next, over lines that flip bits.
func (w *world) leg(t *testing.T, from, to place.Place, rules rule.Rules, want map[string]string, lines []*proxy) {
	flips := func(on bool) {
		for _, p := range lines {
			p.flips.Store(on)
		}
	}
	name := fmt.Sprint(from.Name(), " to ", to.Name())
	for attempt := 1; ; attempt++ {
		require.Less(t, attempt, 6, "%s does not come to an end", name)
		p := w.planBy(t, from, to, rules)
		flips(true)
		out, m := w.run(t, ctx, p, from, to, quick)
		flips(false)
		assert.Zero(t, out.Unverified, "%s: read unverified", name)
		left, there := texts(t, from), texts(t, to)
		for key, text := range there {
			assert.Equal(t, len(want[key]), len(text), "%s: %s", name, key)
			assert.True(t, want[key] == text, "%s: %s arrived as something else", name, key)
		}
		for key := range want {
			_, here := left[key]
			_, arrived := there[key]
			assert.True(t, here || arrived, "%s: %s is nowhere", name, key)
		}
		if out.Failed == 0 {
			assert.Len(t, there, len(want), name)
			assert.Equal(t, rules.Afterwards.Leaves(), len(left) == 0, "%s: %v", name, m.Problems)
			return
		}
		t.Logf("%s: %d failed: %v", name, out.Failed, m.Problems)
	}
}

// emptied removes all that is in a place.
func emptied(t *testing.T, p place.Place) {
	for key := range texts(t, p) {
		require.NoError(t, p.Remove(ctx, object.Ref{Key: key})[0])
	}
}
