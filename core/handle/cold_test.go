package handle_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/handle"
	"lumtra/core/place"
	"lumtra/testkit"
)

// Cold objects are told apart by how they stand; a restore asks for those that have to be, counts
// what needs nothing, and takes a tier of the store alone.
func TestColdStates(t *testing.T) {
	_, _, p := bucket(t, false)
	put(t, p, "x/warm")
	for _, key := range []string{"x/1", "x/2"} {
		_, err := p.Write(ctx, key, strings.NewReader("cold"), 4, place.WriteOptions{Class: "GLACIER"})
		require.NoError(t, err)
	}
	n, err := handle.Measure(ctx, p, []handle.Pick{under("x/")}, false, nil)
	require.NoError(t, err)
	assert.Equal(t, []int64{3, 2, 8}, []int64{n.Objects, n.Cold, n.ColdBytes})
	states, err := handle.LookAtCold(ctx, p, []handle.Pick{under("x/")})
	require.NoError(t, err)
	assert.Equal(t, []int64{2, 0, 0}, []int64{states.Archived.Objects, states.Restoring.Objects,
		states.Readable.Objects})
	var bad, a handle.Action
	require.NoError(t, bad.Restore(ctx, p, []handle.Pick{under("x/")}, place.RestoreOptions{Days: 1, Tier: "Today"}))
	assert.EqualValues(t, 2, bad.Result().Failed, "the store has no such tier")
	require.NoError(t, a.Restore(ctx, p, []handle.Pick{under("x/")}, place.RestoreOptions{Days: 1, Tier: "Bulk"}))
	r := a.Result()
	assert.Equal(t, []int64{2, 1, 0}, []int64{r.Done.Objects, r.Left, r.Failed})
	testkit.Until(t, func() bool {
		states, err = handle.LookAtCold(ctx, p, []handle.Pick{under("x/")})
		return err == nil && states.Readable.Objects == 2 && !states.Until.IsZero()
	}, func() any { return fmt.Sprintf("%+v, %v", states, err) })
	var again handle.Action
	require.NoError(t, again.Restore(ctx, p, []handle.Pick{under("x/")}, place.RestoreOptions{Days: 1}))
	assert.EqualValues(t, 3, again.Result().Left, "all can be read")
}
