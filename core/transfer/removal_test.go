package transfer_test

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/catalog"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/rule"
)

// mirror plans with rules, from surveys of the two places as they are given.
func (w *world) mirror(t *testing.T, from, to place.Place, change func(*rule.Rules)) *plan.Plan {
	w.plans++
	base := fmt.Sprintf("%s/%d", w.temp, w.plans)
	a, err := catalog.Survey(ctx, from, base+"-a", catalog.Options{})
	require.NoError(t, err)
	b, err := catalog.Survey(ctx, to, base+"-b", catalog.Options{})
	require.NoError(t, err)
	opts := plan.Options{Rules: rule.Default(), Source: from.Abilities(), Target: to.Abilities(), Number: w.plans}
	change(&opts.Rules)
	p, err := plan.Build(ctx, base+".plan", a, b, opts)
	require.NoError(t, err)
	t.Cleanup(func() { a.Close(); b.Close(); p.Close() })
	return p
}

func write(t *testing.T, p place.Place, key, text string) {
	_, err := p.Write(ctx, key, strings.NewReader(text), int64(len(text)), place.WriteOptions{})
	require.NoError(t, err)
}

// halfway is a place whose listing fails after some entries.
type halfway struct {
	place.Place
	left int
}

func (h *halfway) List(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		n := 0
		for e, err := range h.Place.List(ctx, prefix, opts) {
			if n++; n > h.left {
				yield(object.Entry{}, place.NewError(h.Name(), "list", e.Key, place.Denied, errors.New("no more")))
				return
			}
			if !yield(e, err) {
				return
			}
		}
	}
}

// A listing that failed half-way makes removal impossible, at whichever side.
func TestBrokenListingRemovesNothing(t *testing.T) {
	for _, side := range []string{"source", "target"} {
		for _, extras := range []rule.TargetOnly{rule.DeleteThere, rule.MoveToTrash} {
			w := newWorld(t)
			for i := range 10 {
				write(t, w.folder, fmt.Sprintf("%02d", i), "x")
				write(t, w.store, fmt.Sprintf("%02d", i), "x")
			}
			write(t, w.store, "05-only-there", "x")
			from, to := w.folder, w.store
			if side == "source" {
				from = &halfway{from, 4}
			} else {
				to = &halfway{to, 8}
			}
			p := w.mirror(t, from, to, func(r *rule.Rules) { r.TargetOnly = extras })
			assert.Zero(t, p.Info.Totals[plan.Remove].Count, side)
			assert.Positive(t, p.Info.Totals[plan.Extra].Count, side)
			w.run(t, ctx, p, w.folder, w.store, quick)
			assert.Len(t, texts(t, w.store), 11, "%s: nothing is gone", side)
		}
	}
}

// No plan acts on an object that changed since the survey: not to replace it,
// not to remove it, not to put it into the trash or aside.
func TestChangedSinceSurvey(t *testing.T) {
	for _, kind := range kinds {
		for _, rules := range []func(*rule.Rules){
			func(r *rule.Rules) { r.TargetOnly = rule.DeleteThere },
			func(r *rule.Rules) { r.TargetOnly = rule.MoveToTrash },
			func(r *rule.Rules) { r.WhenDifferent = rule.KeepBoth },
		} {
			w := newWorldOf(t, kind)
			write(t, w.folder, "other", "ours")
			write(t, w.store, "other", "theirs, longer")
			write(t, w.store, "only there", "old")
			p := w.mirror(t, w.folder, w.store, rules)
			write(t, w.store, "other", "somebody's newest")
			write(t, w.store, "only there", "new")
			out, snap := w.run(t, ctx, p, w.folder, w.store, quick)
			assert.EqualValues(t, p.Info.Totals.Work().Count, out.Failed, "%s %+v", kind, snap.Problems)
			assert.Equal(t, map[string]string{"other": "somebody's newest", "only there": "new"}, texts(t, w.store),
				kind)
		}
	}
}

// While anything failed, nothing is removed: what is removed may be all there
// is of what failed. And nothing outside the target is touched.
func TestRemovalsWait(t *testing.T) {
	w := newWorld(t)
	inside, err := w.at.Open("archive/inside")
	require.NoError(t, err)
	write(t, w.store, "inside/old name.wav", "the only copy")
	write(t, w.store, "inside-not/a.wav", "somebody else's")
	write(t, w.store, "beside.wav", "somebody else's")
	write(t, w.folder, "new name.wav", "the only copy")
	p := w.mirror(t, w.folder, inside, func(r *rule.Rules) { r.TargetOnly = rule.DeleteThere })
	require.EqualValues(t, 1, p.Info.Totals[plan.Remove].Count)
	write(t, w.folder, "new name.wav", "changed while nobody looked") // so that sending it fails
	out, snap := w.run(t, ctx, p, w.folder, inside, quick)
	assert.EqualValues(t, 2, out.Failed)
	assert.Contains(t, fmt.Sprint(snap.Problems), "not deleted, because other objects failed")
	assert.Contains(t, texts(t, inside), "old name.wav")
	p = w.mirror(t, w.folder, inside, func(r *rule.Rules) { r.TargetOnly = rule.DeleteThere })
	out, _ = w.run(t, ctx, p, w.folder, inside, quick)
	assert.Zero(t, out.Failed)
	assert.Equal(t, map[string]string{"inside/new name.wav": "changed while nobody looked",
		"inside-not/a.wav": "somebody else's", "beside.wav": "somebody else's"}, texts(t, w.store))
}

// Trash, removal, keeping both and compressing on the real servers, as the
// interop script names them.
func TestInteropRules(t *testing.T) {
	for _, real := range realPlaces(t, func(address string) string { return address }) {
		w := newWorld(t)
		write(t, real, "only/there.wav", "old")
		write(t, real, "only/more.wav", "older")
		write(t, real, "both.wav", "theirs, longer")
		write(t, w.folder, "both.wav", "ours")
		write(t, w.folder, "side.json", strings.Repeat("{} ", 4000))
		p := w.mirror(t, w.folder, real, func(r *rule.Rules) {
			r.TargetOnly, r.WhenDifferent, r.As.Gzip, r.As.Metadata = rule.MoveToTrash, rule.KeepBoth,
				[]string{"**/*.json"},
				map[string]string{"owner": "sound"}
		})
		out, snap := w.run(t, ctx, p, w.folder, real, quick)
		require.Zero(t, out.Failed, "%s: %+v", real.Name(), snap.Problems)
		there := texts(t, real)
		trashed, kept := "", ""
		for key := range there {
			if strings.HasPrefix(key, rule.DefaultTrash+"/") && strings.HasSuffix(key, "/only/there.wav") {
				trashed = there[key]
			}
			if plan.KeptName(key) {
				kept = there[key]
			}
		}
		assert.Equal(t, []string{"old", "theirs, longer", "ours"}, []string{trashed, kept, there["both.wav"]},
			real.Name())
		assert.NotContains(t, there, "only/there.wav")
		assert.Less(t, len(there["side.json"]), 1000)
		e, err := real.Stat(ctx, object.Ref{Key: "side.json"})
		require.NoError(t, err)
		assert.Equal(t, []string{"gzip", "sound"}, []string{e.ContentEncoding, e.Metadata["owner"]}, real.Name())
		p = w.mirror(t, w.folder, real, func(r *rule.Rules) { r.TargetOnly = rule.DeleteThere })
		assert.Positive(t, p.Info.Totals[plan.Remove].Count)
		out, snap = w.run(t, ctx, p, w.folder, real, quick)
		require.Zero(t, out.Failed, "%s: %+v", real.Name(), snap.Problems)
	}
}

// Another storage class at the target is set without sending the content again,
// and settles, by either protocol.
func TestClassAlone(t *testing.T) {
	for kind, class := range map[string]string{"s3": "STANDARD_IA", "blob": "Cool"} {
		w := newWorldOf(t, kind)
		w.put(t, "a.wav", "content") // long ago, so that no clock matters
		w.run(t, ctx, w.mirror(t, w.folder, w.store, func(*rule.Rules) {}), w.folder, w.store, quick)
		other := func(r *rule.Rules) { r.As.Class = class }
		p := w.mirror(t, w.folder, w.store, other)
		require.EqualValues(t, 1, p.Info.Totals[plan.Meta].Count, kind)
		out, snap := w.run(t, ctx, p, w.folder, w.store, quick)
		assert.Zero(t, out.Failed, "%s %+v", kind, snap.Problems)
		assert.Zero(t, snap.Bytes)
		e, err := w.store.Stat(ctx, object.Ref{Key: "a.wav"})
		require.NoError(t, err)
		assert.Equal(t, class, e.Class)
		again := w.mirror(t, w.folder, w.store, other)
		assert.Zero(t, again.Info.Totals.Work().Count, kind)
		assert.Equal(t, map[string]string{"a.wav": "content"}, texts(t, w.store))
	}
}
