package plan_test

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/agreed"
	"lumtra/core/catalog"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/plan/plantest"
	"lumtra/core/rule"
	"lumtra/testkit"
)

var ctx = context.Background()

func build(t require.TestingT, path string, entries map[string]object.Entry) *catalog.Catalog {
	w, err := catalog.Create(path, catalog.Info{Place: filepath.Base(path)})
	require.NoError(t, err)
	var keys []string
	for k := range entries {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		e := entries[k]
		e.Key = k
		require.NoError(t, w.Add(&e))
	}
	_, err = w.Finish()
	require.NoError(t, err)
	c, err := catalog.Open(path)
	require.NoError(t, err)
	return c
}

func tree(t *rapid.T, label string) plantest.Tree {
	m := plantest.Tree{}
	for range rapid.IntRange(0, 25).Draw(t, label) {
		m[plantest.Key(t)] = object.Entry{
			Size:     rapid.Int64Range(0, 2).Draw(t, "size"),
			Modified: plantest.Time(t),
			Kind: rapid.SampledFrom([]object.Kind{object.Object, object.Object, object.Object,
				object.Special}).Draw(t, "kind"),
			ETag: rapid.SampledFrom([]string{"x", "y"}).Draw(t, "content"),
		}
	}
	for k, e := range m {
		e.Key = k
		m[k] = e
	}
	return m
}

// states draws what both sides last agreed on: mostly as either side is now.
func states(t *rapid.T, w *plantest.World) plantest.Agreed {
	all := plantest.Agreed{}
	pick := func(now plantest.Tree, k string) object.Entry {
		e, ok := now[k]
		if !ok || rapid.IntRange(0, 2).Draw(t, "was another") == 0 {
			e = object.Entry{Size: 1, Modified: plantest.Time(t), ETag: "z"}
		}
		e.Key, e.Kind = k, object.Object
		return e
	}
	for range rapid.IntRange(0, 25).Draw(t, "agreed") {
		k := plantest.Key(t)
		all[k] = [2]object.Entry{pick(w.Source, k), pick(w.Target, k)}
	}
	return all
}

func keepStates(t require.TestingT, path string, of *plantest.World) *agreed.States {
	w, err := agreed.Create(path, agreed.Info{Source: "a", Target: "b"})
	require.NoError(t, err)
	for _, k := range slices.Sorted(maps.Keys(of.Agreed)) {
		pair := of.Agreed[k]
		require.NoError(t, w.Add(k, &agreed.State{Source: pair[0], Target: pair[1], Later: of.Later[k]}))
	}
	require.NoError(t, w.Finish())
	s, err := agreed.Open(path, "a", "b")
	require.NoError(t, err)
	return s
}

// clock draws how far a clock is off: not at all, or by as much as the drawn times are apart.
func clock(t *rapid.T) place.Clock {
	off := rapid.SampledFrom([]time.Duration{0, 0, time.Hour, 30 * time.Hour})
	return place.Clock{Early: off.Draw(t, "early"), Late: off.Draw(t, "late")}
}

// doubts draws what is in doubt: of what is at the target now, or was.
func doubts(t *rapid.T, w *plantest.World) map[string]agreed.Doubt {
	all := map[string]agreed.Doubt{}
	for range rapid.IntRange(0, 6).Draw(t, "doubts") {
		k := plantest.Key(t)
		d := agreed.Doubt{Kind: rapid.SampledFrom([]agreed.Kind{agreed.Differs, agreed.Unlooked,
			agreed.Unplanned}).Draw(t, "doubt"), Proof: rapid.IntRange(0, 3).Draw(t, "proof"), Plan: 4}
		if e, there := w.Target[k]; there && rapid.Bool().Draw(t, "as it is") {
			d.Target = e
		}
		all[k] = d
	}
	return all
}

func keepDoubts(t require.TestingT, path string, all map[string]agreed.Doubt) *agreed.Doubts {
	w, err := agreed.CreateDoubts(path, agreed.DoubtsInfo{Source: "a", Target: "b"})
	require.NoError(t, err)
	for _, k := range slices.Sorted(maps.Keys(all)) {
		d := all[k]
		require.NoError(t, w.Add(k, &d))
	}
	require.NoError(t, w.Finish())
	s, err := agreed.OpenDoubts(path, "a", "b")
	require.NoError(t, err)
	return s
}

func TestAgainstReference(t *testing.T) {
	dir := t.TempDir()
	testkit.Check(t, func(t *rapid.T) {
		w := &plantest.World{Source: tree(t, "source"), Target: tree(t, "target"), Rules: plantest.Rules(t),
			KeepsTimes: rapid.Bool().Draw(t, "times"), IsTree: rapid.Bool().Draw(t, "tree"),
			SourceIsTree: rapid.Bool().Draw(t, "source tree"), Gaps: rapid.IntRange(0, 4).Draw(t, "gaps") == 0,
			Bad:  func(key string) bool { return strings.Contains(key, "é") },
			Same: func(a, b object.Entry) bool { return a.ETag == b.ETag }}
		w.Agreed, w.Doubts = states(t, w), doubts(t, w)
		w.SourceClock, w.TargetClock = clock(t), clock(t)
		w.Later, w.ByContents = map[string]bool{}, rapid.Bool().Draw(t, "contents")
		for _, k := range slices.Sorted(maps.Keys(w.Agreed)) {
			w.Later[k] = rapid.Bool().Draw(t, "agreed by time")
		}
		a, b := w.Source, w.Target
		ca, cb := build(t, filepath.Join(dir, "a"), a), build(t, filepath.Join(dir, "b"), b)
		defer ca.Close()
		defer cb.Close()
		if w.Gaps {
			ca.Info.Missed = 1
		}
		known := keepStates(t, filepath.Join(dir, "g"), w)
		defer known.Close()
		questions := keepDoubts(t, filepath.Join(dir, "q"), w.Doubts)
		defer questions.Close()
		opts := plan.Options{
			Rules: w.Rules, Now: plantest.Now, Agreed: known, Doubts: questions, ByContents: w.ByContents,
			Source: place.Abilities{Tree: w.SourceIsTree, Clock: w.SourceClock},
			Target: place.Abilities{KeepsTimes: w.KeepsTimes, Tree: w.IsTree, Clock: w.TargetClock},
			Name: func(key string) error {
				if w.Bad(key) {
					return place.NewError("t", "check", key, place.BadName, nil)
				}
				return nil
			},
			SameContent: func(_ context.Context, x, y *object.Entry) (bool, error) { return x.ETag == y.ETag, nil },
		}
		if w.Stored = rapid.Bool().Draw(t, "stored"); w.Stored {
			opts.SameStored = opts.SameContent
		}
		p, err := plan.Build(ctx, filepath.Join(dir, "p"), ca, cb, opts)
		require.NoError(t, err)
		defer p.Close()
		got := map[string]plantest.Outcome{}
		var totals plan.Totals
		for c := p.Effects(""); c.Next(); {
			e := c.Effect()
			got[e.Key] = plantest.Outcome{Kind: e.Kind, Back: e.Back, Aside: e.Aside != "", Later: e.Later}
			totals.Add(e)
			require.NotEmpty(t, e.Why())
			if e.Source != nil {
				require.Equal(t, a[e.Key].Size, e.Source.Size)
			}
		}
		require.Equal(t, w.Plan(), got)
		require.Equal(t, totals, p.Info.Totals)
		emptied := w.Rules.Direction == rule.TwoWay && len(b) == 0 && len(w.Agreed) > 0
		require.Equal(t, len(a) == 0 && !w.Rules.Afterwards.Leaves() || emptied, len(p.Info.Held) > 0,
			"an empty source is held back, and an emptied target")
		weighed, err := plan.Weigh(ctx, ca, cb, opts)
		require.NoError(t, err)
		if weighed.Compared == 0 && !w.Stored { // nothing has to be looked at
			require.Equal(t, p.Info.Summary, weighed.Summary)
		}

		// The tree adds up to the same, level by level.
		var walk func(prefix string) plan.Totals
		walk = func(prefix string) (sum plan.Totals) {
			nodes, err := p.Folder(ctx, prefix)
			require.NoError(t, err)
			for _, n := range nodes {
				below := n.Totals
				if n.Effect == nil {
					below = walk(prefix + n.Name)
				}
				require.Equal(t, n.Totals, below, "%s%s", prefix, n.Name)
				for k := range sum {
					sum[k].Count += below[k].Count
					sum[k].Bytes += below[k].Bytes
				}
			}
			return sum
		}
		require.Equal(t, totals, walk(""))
	})
}

// A plan made of many stretches at once is the one the reference makes, also
// where an object in one stretch stands in the way of keys in the next.
func TestManyStretches(t *testing.T) {
	dir := t.TempDir()
	rnd := rand.New(rand.NewPCG(4711, 1))
	w := &plantest.World{Source: plantest.Tree{}, Target: plantest.Tree{}, Rules: rule.Default(), IsTree: true,
		Bad: func(string) bool { return false }}
	w.Rules.TargetOnly, w.Rules.Select.Exclude = rule.MoveToTrash, []string{"**/*.t"}
	for side, into := range []plantest.Tree{w.Source, w.Target} {
		for range 120_000 {
			k := fmt.Sprintf("%d/%d/%d", rnd.IntN(4), rnd.IntN(40), rnd.IntN(3000))
			if rnd.IntN(10) == 0 {
				k += ".t"
			}
			into[k] = object.Entry{Key: k, Size: int64(rnd.IntN(2)),
				Modified: plantest.Now.Add(-time.Duration(rnd.IntN(2)) * time.Hour),
				ETag:     fmt.Sprintf("%032x", rnd.Uint64())}
		}
		for i := range 40 { // objects that stand over half of all keys of one folder
			if i%2 == side {
				k := fmt.Sprintf("%d/%d", i%4, i)
				into[k] = object.Entry{Key: k, Size: 1, Modified: plantest.Now}
			}
		}
	}
	ca, cb := build(t, filepath.Join(dir, "a"), w.Source), build(t, filepath.Join(dir, "b"), w.Target)
	defer ca.Close()
	defer cb.Close()
	require.GreaterOrEqual(t, len(ca.Splits()), 2)
	p, err := plan.Build(ctx, filepath.Join(dir, "p"), ca, cb, plan.Options{Rules: w.Rules, Now: plantest.Now,
		Target: place.Abilities{Tree: true}})
	require.NoError(t, err)
	defer p.Close()
	want, n := w.Plan(), 0
	for c := p.Effects(""); c.Next(); n++ {
		e := c.Effect()
		got := plantest.Outcome{Kind: e.Kind, Back: e.Back, Aside: e.Aside != "", Later: e.Later}
		if got != want[e.Key] {
			require.Equal(t, want[e.Key], got, e.Key)
		}
	}
	require.Len(t, want, n)
	require.Positive(t, p.Info.Blocked[plan.NameClash])
}

// An object that is held, as keys lie below it at the target, holds none of those,
// whichever stretch they are in: what stands above the beginning of a stretch is judged
// against what the target has by that very name.
func TestStretchesBelowOneKey(t *testing.T) {
	dir := t.TempDir()
	w := &plantest.World{Source: plantest.Tree{}, Target: plantest.Tree{}}
	for i := range 100_000 {
		k := fmt.Sprintf("x/%06d", i)
		e := object.Entry{Key: k, Size: 1, Modified: plantest.Now, ETag: fmt.Sprintf("%032x", i)}
		w.Source[k], w.Target[k] = e, e
	}
	w.Source["x"] = object.Entry{Key: "x", Size: 2, Modified: plantest.Now}
	ca, cb := build(t, filepath.Join(dir, "a"), w.Source), build(t, filepath.Join(dir, "b"), w.Target)
	defer ca.Close()
	defer cb.Close()
	require.GreaterOrEqual(t, len(ca.Splits()), 2)
	p, err := plan.Build(ctx, filepath.Join(dir, "p"), ca, cb, plan.Options{Rules: rule.Default(), Now: plantest.Now,
		Target: place.Abilities{Tree: true}})
	require.NoError(t, err)
	defer p.Close()
	assert.EqualValues(t, 100_000, p.Info.Totals[plan.Same].Count)
	assert.EqualValues(t, 1, p.Info.Blocked[plan.NameClash])
}

// A million entries on either side are planned within 150 MB of resident
// memory. The measuring is done in a process of its own.
func TestMemory(t *testing.T) {
	const limit = 150 << 20
	if dir := os.Getenv("LUMTRA_TEST_MEMORY"); dir != "" {
		for i, name := range []string{"a", "b"} {
			w, err := catalog.Create(filepath.Join(dir, name), catalog.Info{Place: name})
			require.NoError(t, err)
			for n := range 1_000_000 {
				require.NoError(t,
					w.Add(&object.Entry{Key: fmt.Sprintf("tiles/z%d/%05d/%07d.png", n/100_000, n/100, n),
						Size:     int64(n%4096 + i*(n&1)),
						Modified: time.Unix(int64(1.7e9)+int64(n), 0), ETag: fmt.Sprintf("%032x", n*2654435761)}))
			}
			_, err = w.Finish()
			require.NoError(t, err)
		}
		a, err := catalog.Open(filepath.Join(dir, "a"))
		require.NoError(t, err)
		b, err := catalog.Open(filepath.Join(dir, "b"))
		require.NoError(t, err)
		p, err := plan.Build(ctx, filepath.Join(dir, "p"), a, b,
			plan.Options{Rules: rule.Default(), Target: place.Abilities{KeepsTimes: true, Tree: true}})
		require.NoError(t, err)
		require.EqualValues(t, 500_000, p.Info.Totals[plan.Change].Count)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "peak"), []byte(strconv.FormatInt(peakMemory(), 10)), 0o600))
		return
	}
	cmd := exec.Command(os.Args[0], "-test.run", "^TestMemory$")
	dir := t.TempDir()
	cmd.Env = append(os.Environ(), "LUMTRA_TEST_MEMORY="+dir)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	raw, err := os.ReadFile(filepath.Join(dir, "peak"))
	require.NoError(t, err)
	peak, err := strconv.ParseInt(string(raw), 10, 64)
	require.NoError(t, err)
	t.Logf("1,000,000 and 1,000,000 entries written, merged and planned: %d MB resident at the most", peak>>20)
	assert.Less(t, peak, int64(limit))
}

// A plan is dated by the time it is given, else by the machine's: agreed states and the
// ledger go by it.
func TestMade(t *testing.T) {
	dir := t.TempDir()
	ca, cb := build(t, filepath.Join(dir, "a"), nil), build(t, filepath.Join(dir, "b"), nil)
	defer ca.Close()
	defer cb.Close()
	for name, now := range map[string]time.Time{"given": plantest.Now, "not given": {}} {
		p, err := plan.Build(ctx, filepath.Join(dir, name+".plan"), ca, cb,
			plan.Options{Rules: rule.Default(), Now: now})
		require.NoError(t, err)
		assert.Equal(t, name == "given", p.Info.Made.Equal(plantest.Now))
		assert.False(t, p.Info.Made.IsZero(), name)
		require.NoError(t, p.Close())
	}
}

func TestNumbers(t *testing.T) {
	dir := t.TempDir()
	for _, n := range []int{10, 2, 9999, 12345} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, plan.FileName(n)), nil, 0o600))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "x.plan"), nil, 0o600))
	numbers, err := plan.Numbers(dir)
	require.NoError(t, err)
	assert.Equal(t, []int{2, 10, 9999, 12345}, numbers)
	numbers, err = plan.Numbers(filepath.Join(dir, strconv.Itoa(1)))
	assert.NoError(t, err)
	assert.Empty(t, numbers)
}
