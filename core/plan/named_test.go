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

	"lumtra/core/agreed"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/plan/plantest"
	"lumtra/core/rule"
)

// at is an object of some bytes, so many hours old.
func at(size int64, hours int) object.Entry {
	return object.Entry{Size: size, Modified: plantest.Now.Add(-time.Duration(hours) * time.Hour),
		ETag: strings.Repeat("e", int(size)) + string(rune('a'+hours%26))}
}

// told is an effect in a few words: kind, "back", the name kept under, "because" of it.
func told(e *plan.Effect) string {
	text := e.Kind.String()
	if e.Back {
		text += " back"
	}
	if e.Aside != "" {
		text += " aside " + e.Aside
	}
	return text
}

// planned plans and gives every effect in words, with the plan.
func planned(t *testing.T, w *plantest.World, change func(*plan.Options)) (map[string]string, *plan.Plan) {
	dir := t.TempDir()
	ca, cb := build(t, filepath.Join(dir, "a"), w.Source), build(t, filepath.Join(dir, "b"), w.Target)
	t.Cleanup(func() { ca.Close(); cb.Close() })
	if w.Gaps {
		cb.Info.Missed = 1
	}
	opts := plan.Options{Job: "masters", Number: 7, Rules: w.Rules, Now: plantest.Now,
		Source: place.Abilities{Tree: w.SourceIsTree}, Target: place.Abilities{KeepsTimes: w.KeepsTimes,
			Tree: w.IsTree}}
	if w.Agreed != nil {
		known := keepStates(t, filepath.Join(dir, "g"), w)
		t.Cleanup(func() { known.Close() })
		opts.Agreed = known
	}
	if change != nil {
		change(&opts)
	}
	p, err := plan.Build(ctx, filepath.Join(dir, plan.FileName(7)), ca, cb, opts)
	require.NoError(t, err)
	t.Cleanup(func() { p.Close() })
	return effects(t, p), p
}

func effects(t *testing.T, p *plan.Plan) map[string]string {
	all := map[string]string{}
	for c := p.Effects(""); c.Next(); {
		all[c.Effect().Key] = told(c.Effect())
	}
	return all
}

// Cases that matter one by one, beside the drawn ones.
func TestNamed(t *testing.T) {
	day := plantest.Now.Add(-24 * time.Hour).UTC().Format("2006-01-02 15.04.05")
	twoWay := func(c rule.Conflicts) rule.Rules {
		r := rule.Default()
		r.Direction, r.Conflicts = rule.TwoWay, c
		return r
	}
	with := func(change func(*rule.Rules)) rule.Rules {
		r := rule.Default()
		change(&r)
		return r
	}
	both := plantest.Agreed{"a": {at(1, 48), at(1, 48)}}
	for name, c := range map[string]struct {
		world plantest.World
		want  map[string]string
	}{
		"changed at both sides, a person decides": {plantest.World{Source: plantest.Tree{"a": at(2, 1)},
			Target: plantest.Tree{"a": at(3, 24)}, Agreed: both, Rules: twoWay(rule.Ask)},
			map[string]string{"a": "conflict"}},
		"changed at both sides, the source wins": {plantest.World{Source: plantest.Tree{"a": at(2, 1)},
			Target: plantest.Tree{"a": at(3, 24)}, Agreed: both, Rules: twoWay(rule.SourceWins)},
			map[string]string{"a": "change"}},
		"changed at both sides, the newer wins": {plantest.World{Source: plantest.Tree{"a": at(2, 30)},
			Target: plantest.Tree{"a": at(3, 24)}, Agreed: both, Rules: twoWay(rule.NewerWins)},
			map[string]string{"a": "change back"}},
		"changed at both sides, both stay": {plantest.World{Source: plantest.Tree{"a": at(2, 1)},
			Target: plantest.Tree{"a": at(3, 24)}, Agreed: both, Rules: twoWay(rule.BothStay)},
			map[string]string{"a": "change aside a (" + day + ")"}},
		"deleted here, changed there": {plantest.World{Target: plantest.Tree{"a": at(3, 24), "b": at(1, 1)},
			Agreed: both, Rules: twoWay(rule.Ask)},
			map[string]string{"a": "conflict", "b": "add back"}},
		"deleted here, changed there, the newer wins": {plantest.World{Target: plantest.Tree{"a": at(3, 24)},
			Agreed: both, Rules: twoWay(rule.NewerWins)},
			map[string]string{"a": "add back"}},
		"deleted here, the same there": {plantest.World{Source: plantest.Tree{"b": at(1, 1)},
			Target: plantest.Tree{"a": at(1, 48), "b": at(1, 1)}, Agreed: both, Rules: twoWay(rule.Ask)},
			map[string]string{"a": "delete", "b": "same"}},
		"deleted there, the same here": {plantest.World{Source: plantest.Tree{"a": at(1, 48)},
			Target: plantest.Tree{"c": at(1, 48)}, Agreed: both, Rules: twoWay(rule.Ask)},
			map[string]string{"a": "delete back", "c": "add back"}},
		"deleted here, with a gap in a listing": {plantest.World{Target: plantest.Tree{"a": at(1, 48)}, Agreed: both,
			Rules: twoWay(rule.Ask), Gaps: true},
			map[string]string{"a": "target-only"}},
		"deleted there, with a gap in a listing": {plantest.World{Source: plantest.Tree{"a": at(1, 48)}, Agreed: both,
			Rules: twoWay(rule.Ask), Gaps: true},
			map[string]string{"a": "blocked"}},
		"an extra, with a gap": {plantest.World{Source: plantest.Tree{"b": at(1, 1)},
			Target: plantest.Tree{"a": at(1, 48)}, Rules: with(func(r *rule.Rules) { r.TargetOnly = rule.DeleteThere }),
			Gaps: true},
			map[string]string{"a": "target-only", "b": "add"}},
		"an extra, to the trash": {plantest.World{Source: plantest.Tree{"b": at(1, 1)},
			Target: plantest.Tree{"a": at(1, 48), "_trash/old": at(1, 1)},
			Rules:  with(func(r *rule.Rules) { r.TargetOnly = rule.MoveToTrash })},
			map[string]string{"a": "delete aside _trash/" + plan.Stamp("masters", 7, plantest.Now) + "/a", "b": "add",
				"_trash/old": "left out"}},
		"an older copy that was kept is no extra": {plantest.World{Source: plantest.Tree{"a.wav": at(2, 1)},
			Target: plantest.Tree{"a.wav": at(1, 24), "a (" + day + ").wav": at(1, 30), "b (1999).wav": at(1, 1)},
			Rules:  with(func(r *rule.Rules) { r.WhenDifferent, r.TargetOnly = rule.KeepBoth, rule.DeleteThere })},
			map[string]string{"a.wav": "change aside a (" + day + " 2).wav", "a (" + day + ").wav": "target-only",
				"b (1999).wav": "delete"}},
		"a dot in front is no ending": {plantest.World{Source: plantest.Tree{".profile": at(2, 1)},
			Target: plantest.Tree{".profile": at(1, 24)},
			Rules:  with(func(r *rule.Rules) { r.WhenDifferent = rule.KeepBoth })},
			map[string]string{".profile": "change aside .profile (" + day + ")"}},
		"newer only": {plantest.World{Source: plantest.Tree{"a": at(2, 30), "b": at(2, 20), "c": at(2, 24)},
			Target: plantest.Tree{"a": at(1, 24), "b": at(1, 24), "c": at(1, 24)},
			Rules:  with(func(r *rule.Rules) { r.WhenDifferent = rule.IfNewer })},
			map[string]string{"a": "left out", "b": "change", "c": "left out"}},
		"a file where folders are": {plantest.World{Source: plantest.Tree{"a": at(1, 1), "b/c": at(1, 1)},
			Target: plantest.Tree{"a/x": at(1, 1), "b": at(1, 1)}, IsTree: true, Rules: rule.Default()},
			map[string]string{"a": "blocked", "a/x": "target-only", "b": "target-only", "b/c": "blocked"}},
		"a file that is left out where folders are": {plantest.World{Source: plantest.Tree{"a": at(1, 1), "a/b": at(1,
			30)},
			Target: plantest.Tree{"a": at(2, 40)}, IsTree: true,
			Rules: with(func(r *rule.Rules) { r.Select.OlderThan = "2h" })},
			map[string]string{"a": "left out", "a/b": "blocked"}},
		"a store holds both, from a tree": {plantest.World{Source: plantest.Tree{"a/b": at(1, 1)}, SourceIsTree: true,
			Target: plantest.Tree{"a": at(1, 1)}, Rules: rule.Default()},
			map[string]string{"a": "target-only", "a/b": "add"}},
		"two stores hold both, two ways": {plantest.World{Source: plantest.Tree{"a": at(1, 1)},
			Target: plantest.Tree{"a/b": at(1, 1)}, Rules: twoWay(rule.Ask)},
			map[string]string{"a": "add", "a/b": "add back"}},
		"links are not content": {plantest.World{Source: plantest.Tree{"a": {Kind: object.Special}},
			Target: plantest.Tree{"b": {Kind: object.Special}},
			Rules:  with(func(r *rule.Rules) { r.TargetOnly = rule.DeleteThere })},
			map[string]string{"a": "blocked", "b": "target-only"}},
	} {
		t.Run(name, func(t *testing.T) {
			got, _ := planned(t, &c.world, nil)
			assert.Equal(t, c.want, got)
		})
	}
}

// What has not arrived whole is left alone, and what is there under its name at a tree stays in the way.
func TestNotArrived(t *testing.T) {
	w := plantest.World{Source: plantest.Tree{"a": at(1, 1), "a/b": at(1, 30), "c": at(1, 1)},
		Target: plantest.Tree{"a": at(2, 40)}, IsTree: true, Rules: rule.Default()}
	got, _ := planned(t, &w, func(o *plan.Options) {
		o.Arrived = func(e *object.Entry) string {
			if e.Key == "a/b" {
				return ""
			}
			return "it is being written"
		}
	})
	assert.Equal(t, map[string]string{"a": "left out", "a/b": "blocked", "c": "left out"}, got)
}

// Times that are closer to each other than their clocks tell say nothing: content does. Beyond that the
// later one is the newer.
func TestClocks(t *testing.T) {
	const half = 500 * time.Millisecond
	for name, c := range map[string]struct {
		source, target time.Duration // when it changed, when it was stored
		clock          place.Clock   // of the target
		same           bool          // its content
		want           string
	}{
		"agreeing, stored later":               {0, time.Second, place.Clock{}, false, "same"},
		"agreeing, changed later":              {time.Second, 0, place.Clock{}, true, "change"},
		"rounded up, within it, same":          {0, half, place.Clock{Late: time.Second}, true, "same"},
		"rounded up, within it, another":       {0, half, place.Clock{Late: time.Second}, false, "change"},
		"rounded up, beyond it":                {0, 2 * time.Second, place.Clock{Late: time.Second}, false, "same"},
		"rounded down, within it, same":        {half, 0, place.Clock{Early: time.Second}, true, "same"},
		"rounded down, within it, another":     {half, 0, place.Clock{Early: time.Second}, false, "change"},
		"rounded down, beyond it":              {2 * time.Second, 0, place.Clock{Early: time.Second}, true, "change"},
		"a clock that is ahead hides a change": {0, 30 * time.Second, place.Clock{Late: time.Minute}, false, "change"},
	} {
		a, b := at(1, 1), at(1, 1)
		a.Modified, b.Modified = a.Modified.Add(c.source), b.Modified.Add(c.target)
		w := plantest.World{Source: plantest.Tree{"a": a}, Target: plantest.Tree{"a": b}, Rules: rule.Default()}
		got, p := planned(t, &w, func(o *plan.Options) {
			o.Target.Clock = c.clock
			o.SameContent = func(context.Context, *object.Entry, *object.Entry) (bool, error) { return c.same, nil }
		})
		assert.Equal(t, c.want, got["a"], name)
		assert.Equal(t, strings.Contains(name, "beyond") && c.want == "same" || name == "agreeing, stored later",
			p.Info.Later == 1, name)
	}
}

// What could not be compared is neither the same nor changed, and says why.
func TestNotCompared(t *testing.T) {
	w := plantest.World{Source: plantest.Tree{"a": at(1, 1), "b": at(1, 1)},
		Target: plantest.Tree{"a": at(1, 1), "b": at(1, 1)}, Rules: rule.Default()}
	w.Rules.CompareBy = rule.ByContent
	got, p := planned(t, &w, func(o *plan.Options) {
		o.SameContent = func(_ context.Context, a, _ *object.Entry) (bool, error) {
			if a.Key == "a" {
				return true, errors.New("the tide came in")
			}
			return true, nil
		}
	})
	assert.Equal(t, map[string]string{"a": "blocked", "b": "same"}, got)
	assert.EqualValues(t, 1, p.Info.Left)
	c := p.Effects("a")
	require.True(t, c.Next())
	assert.Contains(t, c.Effect().Why(), "the tide came in")
}

// Agreed states that are damaged end the planning: they are not taken for none, by which
// what was changed at the target would be overwritten.
func TestDamagedAgreement(t *testing.T) {
	dir := t.TempDir()
	w := plantest.World{Source: plantest.Tree{}, Target: plantest.Tree{}, Agreed: plantest.Agreed{},
		Rules: rule.Default()}
	for i := range 4000 {
		k := fmt.Sprintf("%d", 10_000+i)
		w.Source[k], w.Target[k] = at(3, 1), at(3, 2)
		w.Agreed[k] = [2]object.Entry{at(3, 1), at(3, i%20)}
	}
	path := filepath.Join(dir, "g")
	require.NoError(t, keepStates(t, path, &w).Close())
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	raw[len(raw)/3] ^= 0x40
	require.NoError(t, os.WriteFile(path, raw, 0o600))
	known, err := agreed.Open(path, "a", "b")
	require.NoError(t, err)
	defer known.Close()
	ca, cb := build(t, filepath.Join(dir, "a"), w.Source), build(t, filepath.Join(dir, "b"), w.Target)
	defer ca.Close()
	defer cb.Close()
	for name, same := range map[string]func(context.Context, *object.Entry, *object.Entry) (bool,
		error){"at once": nil, "asking": func(context.Context, *object.Entry, *object.Entry) (bool,
		error) {
		return true, nil
	}} {
		opts := plan.Options{Rules: w.Rules, Agreed: known, Now: plantest.Now, SameContent: same}
		if same != nil {
			opts.Rules.CompareBy = rule.ByContent
		}
		_, err := plan.Build(ctx, filepath.Join(dir, "p"), ca, cb, opts)
		assert.Error(t, err, name)
		assert.NoFileExists(t, filepath.Join(dir, "p"), name)
	}
}
