package transfer_test

import (
	"context"
	"io"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/rule"
	"lumtra/standin"
)

// looked is a place where something happens when one of its objects is first looked at.
type looked struct {
	place.Place
	key  string
	then func()
	once sync.Once
}

func (l *looked) Stat(ctx context.Context, ref object.Ref) (object.Entry, error) {
	e, err := l.Place.Stat(ctx, ref)
	if err == nil && ref.Key == l.key {
		l.once.Do(l.then)
	}
	return e, err
}

// A source that is edited between its copy and what was to become of it stays as it is,
// whatever that was to be; the others go.
func TestLettingGo(t *testing.T) {
	for _, afterwards := range []rule.Afterwards{rule.RemoveSource, rule.ArchiveSource} {
		w := newWorld(t)
		w.put(t, "a.wav", "as it was sent")
		w.put(t, "b.wav", "as it was sent, too")
		to := &looked{Place: w.store, key: "a.wav", then: func() { w.put(t, "a.wav", "edited since, and only here") }}
		rules := rule.Default()
		rules.Afterwards = afterwards
		p := w.planBy(t, w.folder, w.store, rules)
		require.EqualValues(t, 2, p.Info.Afterwards.Count)
		out, m := w.run(t, ctx, p, w.folder, to, quick)
		assert.EqualValues(t, 1, out.Failed, "%v", m.Problems)
		left := texts(t, w.folder)
		assert.Equal(t, "edited since, and only here", left["a.wav"], afterwards)
		assert.NotContains(t, left, "b.wav")
		assert.Equal(t, afterwards == rule.ArchiveSource, left["_sent/"+plan.Stamp(p.Info.Job, p.Info.Number, p.Info.Made)+"/b.wav"] != "")
		assert.Equal(t, "as it was sent", texts(t, w.store)["a.wav"])
	}
}

// The same for tags, which go to what was sent and to nothing that came in its place.
func TestLettingGoTagged(t *testing.T) {
	w := newWorld(t)
	source, target := w.store, w.bucket(t, "second")
	for _, key := range []string{"a", "b"} {
		write(t, source, key, "as it was sent")
	}
	to := &looked{Place: target, key: "a", then: func() { write(t, source, "a", "another, since") }}
	rules := rule.Default()
	rules.Afterwards, rules.SourceTags = rule.TagSource, map[string]string{"sent": "yes"}
	p := w.planBy(t, source, target, rules)
	out, m := w.run(t, ctx, p, source, to, quick)
	assert.EqualValues(t, 1, out.Failed, "%v", m.Problems)
	for key, want := range map[string]map[string]string{"a": {}, "b": {"sent": "yes"}} {
		tags, err := source.(place.Tagger).Tags(ctx, object.Ref{Key: key})
		require.NoError(t, err)
		assert.Equal(t, len(want), len(tags), "%s: %v", key, tags)
	}
}

// A copy that does not hold lets nothing go.
func TestBadCopiesLetNothingGo(t *testing.T) {
	w := newWorld(t)
	w.put(t, "a.wav", "as it was sent")
	to := &counting{Place: w.store, after: func() { write(t, w.store, "a.wav", "as it was senT") }}
	rules := rule.Default()
	rules.Afterwards = rule.RemoveSource
	out, _ := w.run(t, ctx, w.planBy(t, w.folder, w.store, rules), w.folder, to, quick)
	assert.EqualValues(t, 1, out.Failed)
	assert.Equal(t, map[string]string{"a.wav": "as it was sent"}, texts(t, w.folder))
}

// A store that copies within itself is held to the same conditions as one that is sent to:
// what came since the plan is not written over.
func TestCopiesWithinKeepConditions(t *testing.T) {
	w := newWorld(t)
	source, target := w.store, w.bucket(t, "second")
	for _, key := range []string{"added", "changed", "fine"} {
		write(t, source, key, "from the source")
	}
	write(t, target, "changed", "old")
	p := w.plan(t, source, target)
	require.Equal(t, []int64{2, 1}, []int64{p.Info.Totals[plan.Add].Count, p.Info.Totals[plan.Change].Count})
	write(t, target, "added", "someone else's")
	write(t, target, "changed", "someone else's")
	w.server.SetFaults(standin.Fault{Op: "GetObject", Do: "500"}) // nothing can be fetched: it has to be copied
	out, m := w.run(t, ctx, p, source, target, quick)
	assert.EqualValues(t, 2, out.Failed, "%v", m.Problems)
	w.server.SetFaults()
	assert.Equal(t, map[string]string{"added": "someone else's", "changed": "someone else's", "fine": "from the source"}, texts(t, target))
}

// An object is tried as often as the run says, and no more.
func TestTries(t *testing.T) {
	for _, tries := range []int{1, 3} {
		w := newWorld(t)
		w.put(t, "a.wav", "a")
		to := &counting{Place: w.store}
		w.server.SetFaults(standin.Fault{Op: "PutObject", Key: "a.wav", Do: "500"})
		opts := quick
		opts.Retry.Tries = tries
		out, _ := w.run(t, ctx, w.plan(t, w.folder, w.store), w.folder, to, opts)
		assert.EqualValues(t, 1, out.Failed)
		assert.EqualValues(t, tries, to.writes.Load())
	}
}

// counting counts the writes, and has something happen after each.
type counting struct {
	place.Place
	writes atomic.Int64
	after  func()
}

func (c *counting) Write(ctx context.Context, key string, body io.Reader, size int64, opts place.WriteOptions) (object.Entry, error) {
	c.writes.Add(1)
	e, err := c.Place.Write(ctx, key, body, size, opts)
	if c.after != nil {
		c.after()
	}
	return e, err
}
