package plan_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/core/plan/plantest"
	"lumtra/core/rule"
)

// mirror is a plan that removes seven of nine at the target, and is held back for it.
func mirror(t *testing.T) *plan.Plan {
	w := plantest.World{Source: plantest.Tree{"new": at(5, 1), "kept": at(1, 1)},
		Target: plantest.Tree{"kept": at(1, 1), "other": at(1, 1)}, Rules: rule.Default()}
	w.Rules.TargetOnly = rule.DeleteThere
	for _, k := range []string{"a", "ab", "a/1", "a/2", "b/1", "b/c/2"} {
		w.Target[k] = at(2, 1)
	}
	_, p := planned(t, &w, nil)
	require.EqualValues(t, 7, p.Info.Totals[plan.Remove].Count)
	require.NotEmpty(t, p.Info.Held)
	return p
}

// choose keeps choices and gives the plan as it is with them.
func choose(t *testing.T, p *plan.Plan, change func(*plan.Choices)) *plan.Plan {
	c := p.Choices.Clone()
	change(&c)
	_, err := plan.Choose(ctx, p.Path, c)
	require.NoError(t, err)
	again, err := plan.Open(p.Path)
	require.NoError(t, err)
	t.Cleanup(func() { again.Close() })
	return again
}

// What is struck out is that and nothing else; what stays is counted anew, and the guards
// look at what stays.
func TestStriking(t *testing.T) {
	p := mirror(t)
	struck := func(p *plan.Plan) (keys []string) {
		for c := p.Effects(""); c.Next(); {
			if e := c.Effect(); e.Reason == plan.Struck {
				keys = append(keys, e.Key)
			}
		}
		return keys
	}
	one := choose(t, p, func(c *plan.Choices) { c.Strike("a") })
	assert.Equal(t, []string{"a"}, struck(one))
	assert.True(t, one.Choices.IsStruck("a") && !one.Choices.IsStruck("ab") && !one.Choices.IsStruck("a/1"))
	assert.EqualValues(t, 6, one.Info.Totals[plan.Remove].Count)
	assert.NotEmpty(t, one.Info.Held, "six of nine are still too many")

	folder := choose(t, one, func(c *plan.Choices) { c.Strike("a/") })
	assert.Equal(t, []string{"a", "a/1", "a/2"}, struck(folder))
	assert.Equal(t, []string{"a", "a/"}, folder.Choices.Struck)
	all := choose(t, folder, func(c *plan.Choices) { c.Strike("b/"); c.Strike("ab"); c.Strike("other") })
	assert.Zero(t, all.Info.Totals[plan.Remove].Count)
	assert.Empty(t, all.Info.Held, "nothing is deleted any more")
	assert.EqualValues(t, 1, all.Info.Totals[plan.Add].Count, "the rest stays")

	// In again, one by one; a folder takes in what was struck below it alone.
	back := choose(t, all, func(c *plan.Choices) { c.Strike("b/"); c.Strike("b/1"); c.Strike("b/") })
	assert.Equal(t, []string{"a", "a/1", "a/2", "ab", "b/1", "b/c/2", "other"}, struck(back))
	assert.Equal(t, []string{"a", "a/", "ab", "b/", "other"}, back.Choices.Struck)
	none := choose(t, back, func(c *plan.Choices) {
		for _, name := range []string{"a", "a/", "ab", "b/", "other"} {
			c.Strike(name)
		}
	})
	assert.Empty(t, struck(none))
	assert.Equal(t, p.Info.Totals, none.Info.Totals)
	assert.Equal(t, p.Info.Held, none.Info.Held)
	same := choose(t, none, func(c *plan.Choices) { c.Strike("kept") })
	assert.Empty(t, struck(same), "what a run passes over anyway stays what it is")
}

// An approval is for the removals that were shown, and ends with every other choice.
func TestApproving(t *testing.T) {
	p := mirror(t)
	approve := func(n int64) func(*plan.Choices) {
		return func(c *plan.Choices) { c.Approved = &plan.Approval{By: "a person", Removals: n} }
	}
	assert.False(t, p.Approved())
	assert.True(t, choose(t, p, approve(7)).Approved())
	assert.False(t, choose(t, p, approve(6)).Approved())
	assert.False(t, choose(t, p, approve(8)).Approved())
	for name, change := range map[string]func(*plan.Choices){"strike": func(c *plan.Choices) { c.Strike("new") },
		"decide": func(c *plan.Choices) { c.Decide("new", rule.SourceWins) }} {
		yes := choose(t, p, approve(7))
		assert.False(t, choose(t, yes, change).Approved(), name)
	}
	// An approval that is brought beside another plan of as many removals is none of that.
	yes, other := choose(t, p, approve(7)), mirror(t)
	raw, err := os.ReadFile(strings.TrimSuffix(yes.Path, ".plan") + ".choices.json")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(strings.TrimSuffix(other.Path, ".plan")+".choices.json", raw, 0o600))
	again, err := plan.Open(other.Path)
	require.NoError(t, err)
	defer again.Close()
	assert.False(t, again.Approved(), "it was made at another time")
}

// A conflict is decided by the nearest name that was given, and opened again.
func TestDeciding(t *testing.T) {
	w := plantest.World{Source: plantest.Tree{}, Target: plantest.Tree{}, Agreed: plantest.Agreed{},
		Rules: rule.Default()}
	w.Rules.Direction = rule.TwoWay
	for _, k := range []string{"a", "ab", "d/1", "d/2", "d/e/3"} {
		w.Source[k], w.Target[k], w.Agreed[k] = at(2, 1), at(3, 2), [2]object.Entry{at(1, 9), at(1, 9)}
	}
	got, p := planned(t, &w, nil)
	require.Equal(t, map[string]string{"a": "conflict", "ab": "conflict", "d/1": "conflict", "d/2": "conflict",
		"d/e/3": "conflict"}, got)
	p = choose(t, p, func(c *plan.Choices) {
		c.Decide("a", rule.SourceWins)
		c.Decide("d/", rule.TargetWins)
		c.Decide("d/e/", rule.NewerWins)
	})
	assert.Equal(t, map[string]string{"a": "change", "ab": "conflict", "d/1": "change back", "d/2": "change back",
		"d/e/3": "change"}, effects(t, p))
	assert.Equal(t, []int64{1, 4, 2}, []int64{p.Info.Totals[plan.Conflict].Count, p.Info.Totals[plan.Change].Count,
		p.Info.Back.Count})
	p = choose(t, p, func(c *plan.Choices) { c.Decide("d/", rule.Ask) })
	assert.Equal(t, map[string]string{"a": "change", "ab": "conflict", "d/1": "conflict", "d/2": "conflict",
		"d/e/3": "conflict"}, effects(t, p), "a folder's word replaces those below it")
	p = choose(t, p, func(c *plan.Choices) { c.Strike("a") })
	assert.Equal(t, "left out", effects(t, p)["a"], "struck counts more")
}

// What is no conflict stays what it is, whatever is decided for the folder that it lies in.
func TestDecidingOfConflictsAlone(t *testing.T) {
	w := plantest.World{Source: plantest.Tree{"d/new": at(1, 1), "d/older": at(3, 1)},
		Target: plantest.Tree{"d/theirs": at(1, 1), "d/older": at(1, 9)},
		Agreed: plantest.Agreed{"d/older": {at(1, 9), at(1, 9)}}, Rules: rule.Default()}
	w.Rules.Direction = rule.TwoWay
	w.Source["d/both"], w.Target["d/both"], w.Agreed["d/both"] = at(2, 1), at(3, 2), [2]object.Entry{at(1, 9), at(1, 9)}
	want, p := planned(t, &w, nil)
	require.Equal(t, map[string]string{"d/new": "add", "d/older": "change", "d/theirs": "add back",
		"d/both": "conflict"},
		want)
	for how, text := range map[rule.Conflicts]string{rule.TargetWins: "change back", rule.SourceWins: "change",
		rule.Ask: "conflict"} {
		p = choose(t, p, func(c *plan.Choices) { c.Decide("d/", how) })
		want["d/both"] = text
		assert.Equal(t, want, effects(t, p), how)
	}
}
