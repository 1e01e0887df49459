package handle_test

import (
	"context"
	"fmt"
	"iter"
	"strings"
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

// noting is a place that notes what it is asked to remove, and removes nothing.
type noting struct {
	place.Place
	refs []object.Ref
}

func (n *noting) Name() string { return "noting" }

func (n *noting) Remove(_ context.Context, refs ...object.Ref) []error {
	n.refs = append(n.refs, refs...)
	return make([]error, len(refs))
}

// A few things that go are each held against what was seen; of many that would be a
// request more for each.
func TestFewGoAsTheyWereSeen(t *testing.T) {
	for few, conditions := range map[int]int{1: 1, 20: 20, 21: 0} {
		p := &noting{Place: dir(t)}
		for i := range few {
			put(t, p.Place, fmt.Sprintf("%02d", i))
		}
		var act handle.Action
		require.NoError(t, act.Remove(ctx, p, []handle.Pick{under("")}, false))
		marked := 0
		for _, ref := range p.refs {
			if ref.IfMark != "" {
				marked++
			}
		}
		assert.Equal(t, [2]int{few, conditions}, [2]int{len(p.refs), marked})
	}
}

// Only what is gone is brought back, each object once, and its newest content; what is
// there stays as it is.
func TestBroughtBackOnce(t *testing.T) {
	_, _, p := bucket(t, true)
	put(t, p, "there", "there", "gone", "gone", "gone", "again")
	require.NoError(t, p.Remove(ctx, object.Ref{Key: "gone"})[0])
	require.NoError(t, p.Remove(ctx, object.Ref{Key: "again"})[0])
	put(t, p, "again")
	var back handle.Action
	require.NoError(t, back.Undelete(ctx, p, []handle.Pick{under("")}))
	assert.EqualValues(t, 1, back.Result().Done.Objects)
	assert.Equal(t, []string{"again", "gone", "there"}, keys(t, p))
	var nothing handle.Action
	require.NoError(t, nothing.Undelete(ctx, p, []handle.Pick{under("")}))
	assert.Zero(t, nothing.Result().Done.Objects)
	assert.Equal(t, place.Unsupported, place.KindOf(new(handle.Action).Undelete(ctx, dir(t), []handle.Pick{under("")})))
}

// A copy inside a service keeps its class; where it is too large for one request and the
// service cannot copy parts, that is said.
func TestCopiesInside(t *testing.T) {
	_, _, p := bucket(t, false)
	_, err := p.Write(ctx, "a", strings.NewReader("a"), 1, place.WriteOptions{Class: "STANDARD_IA"})
	require.NoError(t, err)
	require.NoError(t, new(handle.Action).Copy(ctx, p, []handle.Pick{{Key: "a"}}, p, "copies/"))
	e, err := p.Stat(ctx, object.Ref{Key: "copies/a"})
	require.NoError(t, err)
	assert.Equal(t, "STANDARD_IA", e.Class)
	s := &service{size: 6 << 30}
	var act handle.Action
	require.NoError(t, act.Copy(ctx, &elsewhere{s}, []handle.Pick{{Key: "a.wav"}}, &whole{s, s}, "b.wav"))
	require.EqualValues(t, 1, act.Result().Failed)
	assert.Equal(t, place.TooLarge, place.KindOf(act.Result().Problems[0]))
	assert.NotContains(t, s.did, "begin")
}

// whole is a service that copies objects whole and no parts of them.
type whole struct {
	place.Place
	inside *service
}

func (w *whole) Name() string { return "whole" }

func (w *whole) Abilities() place.Abilities { return w.inside.Abilities() }

func (w *whole) CanCopyFrom(place.Place) bool { return true }

func (w *whole) CopyFrom(context.Context, place.Place, object.Ref, string, place.WriteOptions) (object.Entry, error) {
	return w.inside.entry(), nil
}

func (w *whole) Stat(_ context.Context, ref object.Ref) (object.Entry, error) {
	return object.Entry{}, place.NewError("whole", "stat", ref.Key, place.NotFound, nil)
}

// What a place cannot change is refused before anything is; an empty change changes nothing.
func TestChangesThatCannotBe(t *testing.T) {
	p := dir(t)
	put(t, p, "a")
	some := place.MetadataChange{Set: map[string]string{"site": "weir"}}
	plain := &breaking{Place: p, behind: 9}
	assert.Equal(t, place.Unsupported,
		place.KindOf(new(handle.Action).Change(ctx, plain, []handle.Pick{{Key: "a"}}, some, place.MetadataChange{})))
	assert.Equal(t, place.Unsupported,
		place.KindOf(new(handle.Action).Change(ctx, plain, []handle.Pick{{Key: "a"}}, place.MetadataChange{}, some)))
	require.NoError(t, new(handle.Action).Change(ctx, plain, []handle.Pick{{Key: "a"}}, place.MetadataChange{},
		place.MetadataChange{}))
}

// A folder stays while anything in it could not be moved away, and when it was only copied.
func TestFoldersOfWhatStays(t *testing.T) {
	p := dir(t)
	_, _, to := bucket(t, false)
	put(t, p, "d/a", "d/b")
	put(t, to, "e/d/a") // stands in the way
	var move handle.Action
	require.NoError(t, move.Move(ctx, p, []handle.Pick{under("d/")}, to, "e/"))
	assert.EqualValues(t, 1, move.Result().Failed, "%v", move.Result().Problems)
	assert.Equal(t, []string{"d/a"}, keys(t, p))
	require.NoError(t, new(handle.Action).Copy(ctx, p, []handle.Pick{under("d/")}, to, "f/"))
	assert.Equal(t, []string{"d/a"}, keys(t, p))
}
