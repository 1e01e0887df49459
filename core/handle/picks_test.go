package handle_test

import (
	"context"
	"fmt"
	"iter"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/handle"
	"lumtra/core/object"
	"lumtra/core/place"
)

// breaking is a place whose listing breaks behind some entries.
type breaking struct {
	place.Place
	behind int
}

func (b *breaking) Name() string { return "breaking" }

func (b *breaking) List(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		n := 0
		for e, err := range b.Place.List(ctx, prefix, opts) {
			if n++; n > b.behind {
				yield(object.Entry{}, place.NewError("breaking", "list", prefix, place.Denied, nil))
				return
			}
			if !yield(e, err) {
				return
			}
		}
	}
}

// The number a person confirms is every single thing.
func TestAll(t *testing.T) {
	c := handle.Count{Objects: 1, Bytes: 1000, Versions: 20, VersionBytes: 20_000, Markers: 300, Uploads: 4000}
	assert.EqualValues(t, 4321, c.All())
	assert.EqualValues(t, 21_000, c.AllBytes())
}

// Each of several picks counts and goes, those that are no longer there do no harm, and
// one that cannot be looked at ends it.
func TestSeveralPicks(t *testing.T) {
	p := dir(t)
	put(t, p, "a", "b", "c", "d/1", "d/2", "e")
	picks := []handle.Pick{{Key: "a"}, {Key: "gone"}, {Key: "c"}, under("d/"), {Key: "e"}}
	n, err := handle.Measure(ctx, p, picks, false, nil)
	require.NoError(t, err)
	assert.EqualValues(t, 5, n.Objects)
	var act handle.Action
	require.NoError(t, act.Remove(ctx, p, picks, false))
	assert.EqualValues(t, 5, act.Result().Done.Objects)
	assert.Zero(t, act.Result().Failed)
	assert.Equal(t, []string{"b"}, keys(t, p))
	put(t, p, "x")
	denied := &faulty{Place: p, stat: func(e object.Entry, err error) (object.Entry, error) {
		return e, place.NewError("faulty", "stat", e.Key, place.Denied, nil)
	}}
	_, err = handle.Measure(ctx, denied, []handle.Pick{{Key: "x"}, {Key: "b"}}, false, nil)
	assert.Equal(t, place.Denied, place.KindOf(err))
}

// A listing that breaks ends a removal with its error: what was not seen is not said to
// have gone, and nothing more goes.
func TestListingThatBreaks(t *testing.T) {
	p := dir(t)
	for i := range 1500 {
		put(t, p, fmt.Sprintf("%04d", i))
	}
	for behind, left := range map[int]int{1: 1500, 0: 1500} {
		var act handle.Action
		err := act.Remove(ctx, &breaking{p, behind}, []handle.Pick{under("")}, false)
		assert.Equal(t, place.Denied, place.KindOf(err))
		assert.Len(t, keys(t, p), left)
		assert.Zero(t, act.Result().Done.Objects)
	}
	var act handle.Action
	err := act.Remove(ctx, &breaking{p, 1200}, []handle.Pick{under("")}, false)
	assert.Equal(t, place.Denied, place.KindOf(err))
	assert.EqualValues(t, 1000, act.Result().Done.Objects)
	assert.Len(t, keys(t, p), 500)
}
