package ledger

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
)

// Arrivals tell the same of every effect in rising order, however few of their places
// are held at a time, and however the records lie in the ledger.
func TestArrivals(t *testing.T) {
	defer func(a, b int64) { stretch, spanSize = a, b }(stretch, spanSize)
	stretch, spanSize = 64, 2<<10
	path := filepath.Join(t.TempDir(), "ledger")
	l, err := Open(path, "plan", false)
	require.NoError(t, err)
	const effects = 1000
	rng := rand.New(rand.NewPCG(1, 2))
	done, doubted, settled := map[int64]bool{}, map[int64]bool{}, map[int64]bool{}
	order := rng.Perm(effects)
	for i := range order { // mostly in order, as a run goes
		if rng.IntN(10) > 0 {
			order[i] = i
		}
	}
	for _, i := range order {
		n := int64(i)
		if rng.IntN(4) == 0 {
			require.NoError(t, l.Doubt(n))
			doubted[n] = true
		}
		if rng.IntN(5) > 0 {
			require.NoError(t,
				l.Arrived(n, 1, object.Entry{ETag: fmt.Sprint("tag ", n), Size: n, Modified: time.Unix(n, 0)}))
			done[n], doubted[n] = true, false // what is done is looked at
		}
		if rng.IntN(20) == 0 {
			require.NoError(t, l.SawTo(n))
			settled[n] = true
		}
		if rng.IntN(20) == 0 { // and found another later
			require.NoError(t, l.Doubt(n))
			doubted[n] = true
		}
	}
	require.NoError(t, l.Close())
	a, err := OpenArrivals(path)
	require.NoError(t, err)
	defer a.Close()
	for n := range int64(effects + 200) {
		e, ok, err := a.Entry(n)
		require.NoError(t, err)
		require.Equal(t, done[n], ok, "%d", n)
		if ok {
			require.Equal(t, fmt.Sprint("tag ", n), e.ETag)
			require.Equal(t, n, e.Size)
		}
		require.Equal(t, doubted[n], a.Doubted(n), "%d", n)
		require.Equal(t, settled[n], a.SeenTo(n), "%d", n)
	}
	assert.LessOrEqual(t, len(a.at), 64)
}
