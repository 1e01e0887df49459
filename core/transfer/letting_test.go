package transfer_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/ledger"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/rule"
	"lumtra/core/transfer"
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
	for _, afterwards := range []rule.Afterwards{rule.DeleteSource, rule.ArchiveSource} {
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
		assert.Equal(t, afterwards == rule.ArchiveSource,
			left["_sent/"+plan.Stamp(p.Info.Job, p.Info.Number, p.Info.Made)+"/b.wav"] != "")
		assert.Equal(t, "as it was sent", texts(t, w.store)["a.wav"])
	}
}

// unwritten is a target at which one kind of key cannot be written.
type unwritten struct {
	place.Place
	prefix string
}

func (u *unwritten) Write(ctx context.Context, key string, body io.Reader, size int64, o place.WriteOptions) (
	object.Entry, error) {
	if strings.HasPrefix(key, u.prefix) {
		return object.Entry{}, place.NewError("full", "write", key, place.NoRoom, nil)
	}
	return u.Place.Write(ctx, key, body, size, o)
}

// Where it cannot be tried whether both places are one, nothing leaves the source.
func TestLettingGoUntried(t *testing.T) {
	w := newWorld(t)
	w.put(t, "a.wav", "as it was sent")
	rules := rule.Default()
	rules.Afterwards = rule.DeleteSource
	p := w.planBy(t, w.folder, w.store, rules)
	l, err := ledger.Open(p.Path+".ledger", fmt.Sprint(p.Info.Number), false)
	require.NoError(t, err)
	defer l.Close()
	_, err = transfer.Run(ctx, p, w.folder, &unwritten{w.store, ".apart-"}, l, &transfer.Meter{}, quick)
	assert.ErrorContains(t, err, "nothing leaves the source")
	assert.Contains(t, texts(t, w.folder), "a.wav")
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

// late is a source that is changed in the moment before it is looked at, and counts how
// often its content is read.
type late struct {
	place.Place
	change func(key string)
	reads  atomic.Int64
}

func (l *late) Stat(ctx context.Context, ref object.Ref) (object.Entry, error) {
	if l.change != nil {
		l.change(ref.Key)
	}
	return l.Place.Stat(ctx, ref)
}

func (l *late) Read(ctx context.Context, key string, opts place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	l.reads.Add(1)
	return l.Place.Read(ctx, key, opts)
}

func (l *late) Tags(ctx context.Context, ref object.Ref) (map[string]string, error) {
	return l.Place.(place.Tagger).Tags(ctx, ref)
}

func (l *late) SetTags(ctx context.Context, ref object.Ref, tags map[string]string) error {
	return l.Place.(place.Tagger).SetTags(ctx, ref, tags)
}

// tagging plans a job that tags its sources.
func tagging(t *testing.T, w *world, from, to place.Place) *plan.Plan {
	rules := rule.Default()
	rules.Afterwards, rules.SourceTags = rule.TagSource, map[string]string{"sent": "yes"}
	return w.planBy(t, from, to, rules)
}

// A source that becomes another in the last moment gets no tag of what was sent.
func TestLettingGoLate(t *testing.T) {
	w, other := newWorld(t), newWorld(t)
	write(t, w.store, "a", "as it was sent")
	p := tagging(t, w, w.store, other.store)
	from := &late{Place: w.store}
	from.change = func(key string) {
		if _, err := other.store.Stat(ctx, object.Ref{Key: "a"}); err == nil { // it is sent
			write(t, w.store, "a", "another, since")
		}
	}
	out, m := w.run(t, ctx, p, from, other.store, quick)
	assert.EqualValues(t, 1, out.Failed, "%v", m.Problems)
	tags, err := from.Tags(ctx, object.Ref{Key: "a"})
	require.NoError(t, err)
	assert.Empty(t, tags)
}

// Tags that are there stay; where they cannot be had, none are written in their place.
func TestLettingGoKeepsTags(t *testing.T) {
	for refused, want := range map[bool]map[string]string{false: {"site": "weir", "sent": "yes"},
		true: {"site": "weir"}} {
		w, other := newWorld(t), newWorld(t)
		write(t, w.store, "a", "as it was sent")
		require.NoError(t, w.store.(place.Tagger).SetTags(ctx, object.Ref{Key: "a"}, map[string]string{"site": "weir"}))
		p := tagging(t, w, w.store, other.store)
		if refused {
			w.server.SetFaults(standin.Fault{Op: "GetObjectTagging", Do: "403"})
		}
		out, m := w.run(t, ctx, p, w.store, other.store, quick)
		assert.Equal(t, refused, out.Failed == 1, "%v", m.Problems)
		assert.Equal(t, transfer.SeeingTo, m.Phase)
		w.server.SetFaults()
		tags, err := w.store.(place.Tagger).Tags(ctx, object.Ref{Key: "a"})
		require.NoError(t, err)
		assert.Equal(t, want, tags)
	}
}

// What a run has sent is proven by what it read then: the source is not read again.
func TestLettingGoReadsOnce(t *testing.T) {
	w := newWorld(t)
	w.put(t, "a.wav", "as it was sent")
	rules := rule.Default()
	rules.Afterwards = rule.DeleteSource
	from := &late{Place: w.folder}
	out, m := w.run(t, ctx, w.planBy(t, w.folder, w.store, rules), from, w.store, quick)
	assert.Zero(t, out.Failed, "%v", m.Problems)
	assert.EqualValues(t, 1, out.SeenTo)
	assert.EqualValues(t, 1, from.reads.Load())
	assert.Empty(t, texts(t, w.folder))
}

// forgetful is a ledger in which some things cannot be noted.
type forgetful struct {
	ledger.Ledger
	sawTo, doubt bool
}

var errFull = errors.New("no space left on device")

func (f *forgetful) SawTo(effect int64) error {
	if f.sawTo {
		return errFull
	}
	return f.Ledger.SawTo(effect)
}

func (f *forgetful) Doubt(effect int64) error {
	if f.doubt {
		return errFull
	}
	return f.Ledger.Doubt(effect)
}

// rotten is a target that keeps another checksum than that of what was sent.
type rotten struct{ place.Place }

func (r *rotten) Stat(ctx context.Context, ref object.Ref) (object.Entry, error) {
	e, err := r.Place.Stat(ctx, ref)
	h := object.CRC64NVME.New()
	h.Write([]byte("as it was senT"))
	e.Sums = []object.Sum{object.SumOf(object.CRC64NVME, h)}
	return e, err
}

// A ledger that cannot be written ends the run. What had become of a source by then, and was
// not noted, is found by the next run, and is no failure.
func TestLettingGoWithoutALedger(t *testing.T) {
	for _, afterwards := range []rule.Afterwards{rule.DeleteSource, rule.ArchiveSource} {
		w := newWorld(t)
		w.put(t, "a.wav", "as it was sent")
		rules := rule.Default()
		rules.Afterwards = afterwards
		p := w.planBy(t, w.folder, w.store, rules)
		file, err := ledger.Open(p.Path+".ledger", fmt.Sprint(p.Info.Number), false)
		require.NoError(t, err)
		_, err = transfer.Run(ctx, p, w.folder, w.store, &forgetful{Ledger: file, sawTo: true}, &transfer.Meter{},
			quick)
		assert.ErrorContains(t, err, "the ledger cannot be written")
		assert.NotContains(t, texts(t, w.folder), "a.wav", "it had gone")
		require.NoError(t, file.Close())
		out, m := w.run(t, ctx, p, w.folder, w.store, quick)
		assert.Zero(t, out.Failed, "%s: %v", afterwards, m.Problems)
		assert.EqualValues(t, 1, out.SeenTo, afterwards)
	}
	w := newWorld(t)
	w.put(t, "a.wav", "as it was sent")
	to := &rotten{w.store}
	rules := rule.Default()
	rules.Afterwards = rule.DeleteSource
	p := w.planBy(t, w.folder, w.store, rules)
	file, err := ledger.Open(p.Path+".ledger", fmt.Sprint(p.Info.Number), false)
	require.NoError(t, err)
	defer file.Close()
	_, err = transfer.Run(ctx, p, w.folder, to, &forgetful{Ledger: file, doubt: true}, &transfer.Meter{}, quick)
	assert.ErrorContains(t, err, "the ledger cannot be written")
	assert.Contains(t, texts(t, w.folder), "a.wav", "a bad copy lets nothing go")
}

// What was compressed on the way is proven by unpacking it, and lets its source go.
func TestLettingGoCompressed(t *testing.T) {
	w := newWorld(t)
	w.put(t, "cards/a.csv", strings.Repeat("dunlin,weir\n", 500))
	rules := rule.Default()
	rules.Afterwards, rules.As.Gzip = rule.DeleteSource, []string{"**/*.csv"}
	out, m := w.run(t, ctx, w.planBy(t, w.folder, w.store, rules), w.folder, w.store, quick)
	assert.Zero(t, out.Failed, "%v", m.Problems)
	assert.EqualValues(t, 1, out.SeenTo)
	assert.Empty(t, texts(t, w.folder))
}

// Where a source takes no tags, it stays as it is, and that is told of each.
func TestLettingGoUntagged(t *testing.T) {
	w := newWorld(t)
	w.put(t, "a.wav", "as it was sent")
	rules := rule.Default()
	rules.Afterwards, rules.SourceTags = rule.TagSource, map[string]string{"sent": "yes"}
	out, m := w.run(t, ctx, w.planBy(t, w.folder, w.store, rules), w.folder, w.store, quick)
	assert.EqualValues(t, 1, out.Failed)
	require.Len(t, m.Problems, 1)
	assert.Contains(t, fmt.Sprint(m.Problems[0]), "no tags")
	same(t, texts(t, w.folder), texts(t, w.store))
}

// A copy that does not hold lets nothing go.
func TestBadCopiesLetNothingGo(t *testing.T) {
	w := newWorld(t)
	w.put(t, "a.wav", "as it was sent")
	to := &counting{Place: w.store, after: func() { write(t, w.store, "a.wav", "as it was senT") }}
	rules := rule.Default()
	rules.Afterwards = rule.DeleteSource
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
	assert.Equal(t, map[string]string{"added": "someone else's", "changed": "someone else's",
		"fine": "from the source"}, texts(t, target))
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

func (c *counting) Write(ctx context.Context, key string, body io.Reader, size int64,
	opts place.WriteOptions) (object.Entry, error) {
	c.writes.Add(1)
	e, err := c.Place.Write(ctx, key, body, size, opts)
	if c.after != nil {
		c.after()
	}
	return e, err
}
