package plan_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/catalog"
	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/core/plan/plantest"
	"lumtra/core/rule"
)

// An object just as large as the target takes is sent, one byte more is not.
func TestLargestObject(t *testing.T) {
	w := plantest.World{Source: plantest.Tree{"fits": at(9, 1), "over": at(10, 1)}, Target: plantest.Tree{},
		Rules: rule.Default()}
	got, p := planned(t, &w, func(o *plan.Options) { o.Target.MaxObject = 9 })
	assert.Equal(t, map[string]string{"fits": "add", "over": "blocked"}, got)
	assert.EqualValues(t, 1, p.Info.Blocked[plan.TooLarge])
}

// What lies beside the content is a change of its own, where the target keeps it, and only
// where the job carries it.
func TestBesideTheContent(t *testing.T) {
	later := func(e object.Entry) object.Entry { e.Modified = e.Modified.Add(time.Hour); return e }
	mode := func(e object.Entry, m os.FileMode) object.Entry { e.Mode = m; return e }
	class := func(e object.Entry, c string) object.Entry { e.Class = c; return e }
	alike := func(o *plan.Options) {
		o.SameContent = func(context.Context, *object.Entry, *object.Entry) (bool, error) { return true, nil }
	}
	rules := func(change func(*rule.Rules)) rule.Rules {
		r := rule.Default()
		change(&r)
		return r
	}
	content := rules(func(r *rule.Rules) { r.CompareBy = rule.ByContent })
	a := at(5, 10)
	for name, c := range map[string]struct {
		source, target object.Entry
		rules          rule.Rules
		agreed         *[2]object.Entry
		change         func(o *plan.Options)
		want           string
	}{
		"the same": {a, a, rule.Default(), nil,
			func(o *plan.Options) { o.Target.KeepsTimes = true }, "same"},
		"times differ and are kept": {later(a), a, content, nil,
			func(o *plan.Options) { alike(o); o.Target.KeepsTimes = true }, "metadata"},
		"times differ and are not kept":   {later(a), a, content, nil, alike, "same"},
		"times differ since the last run": {later(a), a, content, &[2]object.Entry{a, a}, alike, "metadata"},
		"times are as when both agreed":   {later(a), a, content, &[2]object.Entry{later(a), a}, alike, "same"},
		"by size alone, times are kept": {later(a), a, rules(func(r *rule.Rules) { r.CompareBy = rule.BySize }), nil,
			func(o *plan.Options) { o.Target.KeepsTimes = true }, "metadata"},
		"by size alone, times are not kept": {later(a), a, rules(func(r *rule.Rules) { r.CompareBy = rule.BySize }),
			&[2]object.Entry{a, a}, nil, "same"},
		"rights differ and are kept": {mode(a, 0o640), mode(a, 0o600), rule.Default(), nil,
			func(o *plan.Options) { o.Target.KeepsTimes, o.Target.KeepsModes = true, true }, "metadata"},
		"rights differ and are not kept": {mode(a, 0o640), mode(a, 0o600), rule.Default(), nil,
			func(o *plan.Options) { o.Target.KeepsTimes = true }, "same"},
		"rights are not told at one side": {mode(a, 0o640), a, rule.Default(), nil,
			func(o *plan.Options) { o.Target.KeepsTimes, o.Target.KeepsModes = true, true }, "same"},
		"rights changed since the last run": {mode(a, 0o640), a, rule.Default(), &[2]object.Entry{mode(a, 0o600), a},
			func(o *plan.Options) { o.Target.KeepsTimes, o.Target.KeepsMetadata = true, true }, "metadata"},
		"rights as when both agreed": {mode(a, 0o640), a, rule.Default(), &[2]object.Entry{mode(a, 0o640), a},
			func(o *plan.Options) { o.Target.KeepsTimes, o.Target.KeepsMetadata = true, true }, "same"},
		"rights never told": {a, a, rule.Default(), &[2]object.Entry{mode(a, 0o640), a},
			func(o *plan.Options) { o.Target.KeepsTimes, o.Target.KeepsMetadata = true, true }, "same"},
		"rights changed, no metadata": {mode(a, 0o640), a, rule.Default(), &[2]object.Entry{mode(a, 0o600), a},
			func(o *plan.Options) { o.Target.KeepsTimes = true }, "same"},
		"another class": {a, class(a, "GLACIER"), rules(func(r *rule.Rules) { r.As.Class = "STANDARD" }),
			nil, func(o *plan.Options) { o.Target.KeepsTimes = true }, "metadata"},
		"no class is the usual one": {a, a, rules(func(r *rule.Rules) { r.As.Class = "standard" }), nil,
			func(o *plan.Options) { o.Target.KeepsTimes = true }, "same"},
		"no class is not another": {a, a, rules(func(r *rule.Rules) { r.As.Class = "GLACIER" }), nil,
			func(o *plan.Options) { o.Target.KeepsTimes = true }, "metadata"},
		"a folder has no classes": {a, a, rules(func(r *rule.Rules) { r.As.Class = "GLACIER" }), nil,
			func(o *plan.Options) { o.Target.KeepsTimes, o.Target.Tree = true, true }, "same"},
		"both ways, rights": {mode(a, 0o640), mode(a, 0o600),
			rules(func(r *rule.Rules) { r.Direction = rule.TwoWay }), &[2]object.Entry{a, a},
			func(o *plan.Options) { o.Target.KeepsTimes, o.Target.KeepsModes = true, true }, "same"},
	} {
		w := plantest.World{Source: plantest.Tree{"a": c.source}, Target: plantest.Tree{"a": c.target}, Rules: c.rules}
		if c.agreed != nil {
			w.Agreed = plantest.Agreed{"a": *c.agreed}
		}
		got, _ := planned(t, &w, c.change)
		assert.Equal(t, c.want, got["a"], name)
	}
}

// Only what may be the same content at another time is looked at, and each once; what is
// looked at and is the same has its time changed, and order stays.
func TestLooksAtWhatWasTouched(t *testing.T) {
	later := func(e object.Entry) object.Entry { e.Modified = plantest.Now; return e }
	cold := func(e object.Entry) object.Entry { e.Class = "GLACIER"; return e }
	w := plantest.World{Source: plantest.Tree{}, Target: plantest.Tree{}, KeepsTimes: true, Rules: rule.Default()}
	want := map[string]string{}
	for i := range 200 {
		k := fmt.Sprintf("%04d", i)
		e := at(int64(3+i%5), 10)
		switch i % 5 {
		case 0:
			w.Source[k], w.Target[k], want[k] = later(e), e, "metadata"
		case 1:
			w.Source[k], w.Target[k], want[k] = later(e), at(9, 10), "change"
		case 2:
			w.Source[k], w.Target[k], want[k] = later(e), cold(e), "change"
		case 3:
			w.Source[k], w.Target[k], want[k] = e, e, "same"
		case 4:
			w.Source[k], want[k] = e, "add"
		}
	}
	var looks atomic.Int64
	look := func(o *plan.Options) {
		o.SameStored = func(context.Context, *object.Entry, *object.Entry) (bool, error) {
			looks.Add(1)
			return true,
				nil
		}
	}
	got, p := planned(t, &w, look)
	assert.Equal(t, want, got)
	assert.EqualValues(t, 40, looks.Load())
	assert.EqualValues(t, 40, p.Info.Totals[plan.Meta].Count)
	last := ""
	for c := p.Effects(""); c.Next(); last = c.Effect().Key {
		assert.Greater(t, c.Effect().Key, last)
	}
	for name, change := range map[string]func(o *plan.Options){
		"too large to be given another time": func(o *plan.Options) { o.Target.MaxCopy = 2 },
		"both ways":                          func(o *plan.Options) { o.Rules.Direction = rule.TwoWay },
	} {
		looks.Store(0)
		planned(t, &w, func(o *plan.Options) { look(o); change(o) })
		assert.Zero(t, looks.Load(), name)
	}
	looks.Store(0)
	planned(t, &w, func(o *plan.Options) { look(o); o.Target.MaxCopy = 3 })
	assert.EqualValues(t, 40, looks.Load(), "those of just that size can")
}

// What lies beside the content is asked for only where the job carries it.
func TestFactsAskedFor(t *testing.T) {
	for name, c := range map[string]struct {
		change func(r *rule.Rules)
		asked  int
	}{
		"nothing carried": {func(*rule.Rules) {}, 0},
		"tags":            {func(r *rule.Rules) { r.As.Tags = true }, 1},
		"metadata":        {func(r *rule.Rules) { r.As.Metadata = map[string]string{"site": "weir"} }, 1},
	} {
		w := plantest.World{Source: plantest.Tree{"a": at(5, 10)}, Target: plantest.Tree{"a": at(5, 10)},
			KeepsTimes: true, Rules: rule.Default()}
		c.change(&w.Rules)
		var asked atomic.Int64
		planned(t, &w, func(o *plan.Options) {
			o.OtherFacts = func(context.Context, *object.Entry, *object.Entry) (string,
				error) {
				asked.Add(1)
				return "", nil
			}
		})
		assert.EqualValues(t, c.asked, asked.Load(), name)
	}
}

// Changes at the target are drift to a job that goes one way, and what a two-way job is for.
func TestDriftOfTwoWays(t *testing.T) {
	for direction, held := range map[rule.Direction]int{rule.OneWay: 1, rule.TwoWay: 0} {
		w := plantest.World{Source: plantest.Tree{}, Target: plantest.Tree{}, Agreed: plantest.Agreed{},
			KeepsTimes: true, Rules: rule.Default()}
		w.Rules.Direction = direction
		for i := range 10 {
			k := fmt.Sprint(i)
			w.Source[k], w.Target[k], w.Agreed[k] = at(5, 10), at(6, 1), [2]object.Entry{at(5, 10), at(5, 10)}
		}
		_, p := planned(t, &w, nil)
		assert.EqualValues(t, 10, p.Info.Drifted, direction)
		assert.Len(t, p.Info.Held, held, direction)
	}
}

// What was touched waits for no more than a handful of others, so that a plan of any size
// is made in little memory.
func TestLooksAreNotPutOff(t *testing.T) {
	w := plantest.World{Source: plantest.Tree{}, Target: plantest.Tree{}, KeepsTimes: true, Rules: rule.Default()}
	for i := range 9_000 {
		k, e := fmt.Sprintf("%04d", i), at(3, 10)
		w.Source[k], w.Target[k] = e, e
		if i == 0 || i >= 9_000-96 { // one, and then none for long; many at the end
			e.Modified = plantest.Now
			w.Source[k] = e
		}
	}
	var came, under, most atomic.Int64
	_, p := planned(t, &w, func(o *plan.Options) {
		o.SameStored = func(_ context.Context, a, _ *object.Entry) (bool, error) {
			if a.Key == "0000" {
				return true, nil
			}
			n := under.Add(1)
			defer under.Add(-1)
			for was := most.Load(); n > was && !most.CompareAndSwap(was, n); was = most.Load() {
			}
			for all := (came.Add(1) + 15) / 16 * 16; came.Load() < all; { // sixteen come together
				runtime.Gosched()
			}
			return true, nil
		}
	})
	assert.EqualValues(t, 97, p.Info.Totals[plan.Meta].Count)
	assert.EqualValues(t, 9_000-97, p.Info.Totals[plan.Same].Count)
	assert.LessOrEqual(t, most.Load(), int64(16))
}

// A catalog that is damaged ends the planning, wherever in it that is and whichever way
// the plan is made: a shorter survey would read as objects that are gone.
func TestDamagedCatalog(t *testing.T) {
	dir := t.TempDir()
	w := plantest.World{Source: plantest.Tree{}, Target: plantest.Tree{}, Rules: rule.Default()}
	for i := range 9000 {
		k := fmt.Sprintf("%05d", i)
		w.Source[k], w.Target[k] = at(3, 1), at(3, 1)
	}
	w.Rules.TargetOnly = rule.DeleteThere
	for _, side := range []string{"a", "b"} {
		build(t, filepath.Join(dir, "a"), w.Source).Close()
		build(t, filepath.Join(dir, "b"), w.Target).Close()
		path := filepath.Join(dir, side)
		raw, err := os.ReadFile(path)
		require.NoError(t, err)
		raw[len(raw)/3] ^= 0x40
		require.NoError(t, os.WriteFile(path, raw, 0o600))
		ca, err := catalog.Open(filepath.Join(dir, "a"))
		require.NoError(t, err)
		cb, err := catalog.Open(filepath.Join(dir, "b"))
		require.NoError(t, err)
		opts := plan.Options{Rules: w.Rules, Now: plantest.Now}
		for _, judge := range []rule.CompareBy{rule.BySizeAndTime, rule.ByContent} {
			opts.Rules.CompareBy = judge
			opts.SameContent = func(context.Context, *object.Entry, *object.Entry) (bool, error) { return true, nil }
			_, err = plan.Build(ctx, filepath.Join(dir, "p"), ca, cb, opts)
			assert.Error(t, err, "%s damaged, by %s", side, judge)
			assert.NoFileExists(t, filepath.Join(dir, "p"))
			_, err = plan.Weigh(ctx, ca, cb, opts)
			assert.Error(t, err, "%s damaged, by %s, weighed", side, judge)
		}
		require.NoError(t, ca.Close())
		require.NoError(t, cb.Close())
	}
}

// Effects that older builds wrote by other words are the same effects.
func TestOldWordsOfEffects(t *testing.T) {
	for word, want := range map[string]plan.Kind{"remove": plan.Remove, "delete": plan.Remove, "extra": plan.Extra,
		"target-only": plan.Extra, "add": plan.Add} {
		var k plan.Kind
		require.NoError(t, k.UnmarshalText([]byte(word)))
		assert.Equal(t, want, k, word)
	}
	var k plan.Kind
	assert.Error(t, k.UnmarshalText([]byte("burn")))
	assert.Equal(t, "move to trash", plan.Remove.Words(rule.MoveToTrash))
	assert.Equal(t, "delete", plan.Remove.Words(rule.DeleteThere))
	assert.Equal(t, "add", plan.Add.Words(rule.MoveToTrash))
}
