package plan_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/core/plan/plantest"
	"lumtra/core/rule"
)

// A choice that cannot be worked in or kept is refused, and what was chosen before stands.
func TestChoicesThatCannotBeKept(t *testing.T) {
	p := choose(t, mirror(t), func(c *plan.Choices) { c.Strike("a") })
	file := strings.TrimSuffix(p.Path, ".plan") + ".choices.json"
	before, err := os.ReadFile(file)
	require.NoError(t, err)
	more := p.Choices.Clone()
	more.Strike("b/")
	refused := func(ctx context.Context, path string) error {
		_, err := plan.Choose(ctx, path, more)
		require.Error(t, err)
		after, readErr := os.ReadFile(file)
		require.NoError(t, readErr)
		require.Equal(t, string(before), string(after))
		return err
	}
	gone, cancel := context.WithCancel(ctx)
	cancel()
	assert.ErrorIs(t, refused(gone, p.Path), context.Canceled)
	refused(ctx, filepath.Join(t.TempDir(), "none.plan"))
	// A name just as long as a name can be, beside which nothing can be written.
	long := filepath.Join(t.TempDir(), strings.Repeat("n", 240))
	for from, to := range map[string]string{p.Path: long + ".plan", file: long + ".choices.json"} {
		raw, err := os.ReadFile(from)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(to, raw, 0o600))
	}
	assert.ErrorContains(t, refused(ctx, long+".plan"), "keeping what was decided")
	kept, err := os.ReadFile(long + ".choices.json")
	require.NoError(t, err)
	assert.Equal(t, string(before), string(kept))
	require.NoError(t, os.WriteFile(file, []byte("{"), 0o600))
	_, err = plan.Choose(ctx, p.Path, more)
	assert.ErrorContains(t, err, "delete that file to decide anew")
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.Mkdir(file, 0o700)) // it cannot be read: nobody knows what is in it
	_, err = plan.Choose(ctx, p.Path, more)
	require.ErrorContains(t, err, "cannot be read")
	assert.NotContains(t, err.Error(), "delete")
	require.NoError(t, os.Remove(file))
	require.NoError(t, os.WriteFile(file, before, 0o600))
	again, err := plan.Open(p.Path)
	require.NoError(t, err)
	defer again.Close()
	assert.Equal(t, p.Info.Summary, again.Info.Summary)
}

// A plan that is damaged is not counted to less than it was.
func TestDamagedPlan(t *testing.T) {
	w := plantest.World{Source: plantest.Tree{}, Target: plantest.Tree{}, Rules: rule.Default()}
	for i := range 9000 {
		w.Source[fmt.Sprintf("%05d", i)] = at(3, 1)
	}
	_, p := planned(t, &w, nil)
	raw, err := os.ReadFile(p.Path)
	require.NoError(t, err)
	raw[len(raw)/3] ^= 0x40
	require.NoError(t, os.WriteFile(p.Path, raw, 0o600))
	c := p.Choices.Clone()
	c.Strike("00001")
	_, err = plan.Choose(ctx, p.Path, c)
	assert.Error(t, err)
	assert.NoFileExists(t, strings.TrimSuffix(p.Path, ".plan")+".choices.json")
}

// A conflict that was decided says for whom, and is just what it was once it is open again.
func TestDecidingAndBack(t *testing.T) {
	source, target := object.Entry{Key: "a", Size: 1, Modified: plantest.Now},
		object.Entry{Key: "a", Size: 2, Modified: plantest.Now.Add(-time.Hour)}
	for _, c := range []struct {
		how    rule.Conflicts
		source *object.Entry
		target *object.Entry
		want   string
		note   string
	}{
		{rule.SourceWins, &source, &target, "change", "for the source"},
		{rule.TargetWins, &source, &target, "change back", "for the target"},
		{rule.NewerWins, &source, &target, "change", "for the source"},
		{rule.NewerWins, &target, &source, "change back", "for the target"},
		{rule.NewerWins, &source, &source, "change", "for the source"},
		{rule.SourceWins, nil, &target, "delete", "for the source"},
		{rule.TargetWins, nil, &target, "add back", "for the target"},
		{rule.SourceWins, &source, nil, "add", "for the source"},
		{rule.TargetWins, &source, nil, "delete back", "for the target"},
		{rule.NewerWins, nil, &target, "add back", "for the target"},
		{rule.NewerWins, &source, nil, "add", "for the source"},
		{rule.BothStay, nil, &target, "add back", "for the target"},
		{rule.BothStay, &source, nil, "add", "for the source"},
	} {
		e := plan.Effect{Key: "a", Kind: plan.Conflict, Reason: plan.Undecided, Source: c.source, Target: c.target}
		e.Decide(c.how)
		assert.Equal(t, c.want, told(&e), "%s of %v and %v", c.how, c.source != nil, c.target != nil)
		assert.Contains(t, e.Note, c.note)
		assert.Equal(t, plan.Decided, e.Reason)
		e.Decide(rule.Ask)
		assert.Equal(t, plan.Effect{Key: "a", Kind: plan.Conflict, Reason: plan.Undecided, Source: c.source,
			Target: c.target}, e)
	}
}

// What is moved away goes to a folder of its plan alone.
func TestStamp(t *testing.T) {
	made := time.Date(2026, 3, 4, 23, 30, 7, 0, time.FixedZone("", -3600))
	assert.Equal(t, "20260305-003007-masters-7", plan.Stamp("masters", 7, made))
	assert.Equal(t, "20260305-003007-7", plan.Stamp("", 7, made))
}

// What only the places can tell is asked for; what they do not tell is nobody's to guess.
func TestAsking(t *testing.T) {
	w := plantest.World{Source: plantest.Tree{}, Target: plantest.Tree{}, Rules: rule.Default(), KeepsTimes: true}
	for _, k := range []string{"alike", "other", "broken"} {
		w.Source[k], w.Target[k] = at(1, 1), at(1, 1)
	}
	w.Rules.As.Tags = true
	got, p := planned(t, &w, func(o *plan.Options) {
		o.Tags = func(context.Context, *object.Entry) (map[string]string, error) {
			t.Error("no rule is about tags, and they were asked for")
			return nil, nil
		}
		o.SameContent = func(context.Context, *object.Entry, *object.Entry) (bool, error) {
			t.Error("nothing is compared by content, and it was asked for")
			return false, nil
		}
		o.OtherFacts = func(_ context.Context, a, _ *object.Entry) (string, error) {
			return map[string]string{"other": "another tag"}[a.Key],
				map[string]error{"broken": errors.New("the tide came in")}[a.Key]
		}
	})
	assert.Equal(t, map[string]string{"alike": "same", "other": "metadata", "broken": "blocked"}, got)
	for key, why := range map[string]string{"other": "another tag",
		"broken": "comparing metadata failed: the tide came in"} {
		c := p.Effects(key)
		require.True(t, c.Next())
		assert.Contains(t, c.Effect().Why(), why)
	}
	w.Rules.As.Tags, w.Rules.Select.Tags = false, map[string]string{"site": "weir"}
	got, p = planned(t, &w, func(o *plan.Options) {
		o.Tags = func(_ context.Context, e *object.Entry) (map[string]string, error) {
			return map[string]map[string]string{"alike": {"site": "weir"}, "other": {"site": "spit"}}[e.Key],
				map[string]error{"broken": errors.New("the tide came in")}[e.Key]
		}
	})
	assert.Equal(t, map[string]string{"alike": "same", "other": "left out", "broken": "blocked"}, got)
	assert.EqualValues(t, 2, p.Info.Selected.Count, "what is not taken is not counted")
}

// How far planning has come is told, up to all of it, and what is known so far with it.
func TestPartial(t *testing.T) {
	w := plantest.World{Source: plantest.Tree{}, Target: plantest.Tree{}, Rules: rule.Default()}
	w.Rules.Select.Include = []string{"**"}
	for i := range 18_000 {
		e := at(1, 1)
		e.ETag = fmt.Sprintf("%0400d", i)
		if k := fmt.Sprintf("%05d", i); i%3 > 0 {
			w.Source[k] = e
		} else {
			w.Target[k] = e
		}
	}
	var shares []float64
	var first, last plan.Summary
	takes := int64(-1)
	_, p := planned(t, &w, func(o *plan.Options) {
		o.Partial = func(s plan.Summary, share float64) {
			if shares, last = append(shares, share), s; takes < 0 {
				first, takes = s, s.Tallies[0].Takes
			}
		}
	})
	assert.Equal(t, takes, first.Tallies[0].Takes, "what was told goes on counting")
	require.Greater(t, len(shares), 2)
	for i := 1; i < len(shares); i++ {
		assert.Greater(t, shares[i], shares[i-1])
	}
	assert.InDelta(t, 1, shares[len(shares)-1], 1e-9)
	assert.Equal(t, p.Info.Summary, last)
}

// Rules that cannot be read make no plan.
func TestRulesThatAreNone(t *testing.T) {
	dir := t.TempDir()
	w := plantest.World{Source: plantest.Tree{"a": at(1, 1)}, Target: plantest.Tree{}, Rules: rule.Default()}
	ca, cb := build(t, filepath.Join(dir, "a"), w.Source), build(t, filepath.Join(dir, "b"), w.Target)
	defer ca.Close()
	defer cb.Close()
	w.Rules.Select.OlderThan = "a while"
	_, err := plan.Build(ctx, filepath.Join(dir, "p"), ca, cb, plan.Options{Rules: w.Rules, Now: plantest.Now})
	assert.Error(t, err)
	assert.NoFileExists(t, filepath.Join(dir, "p"))
}
