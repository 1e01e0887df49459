package rule

import (
	"strings"
	"testing"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/object"
	"lumtra/testkit"
)

// What is no age or time is told so, and is never an age of nothing.
func TestAgesAndTimes(t *testing.T) {
	for text, want := range map[string]time.Duration{"90min": 90 * time.Minute, "12h": 12 * time.Hour,
		"30d": 720 * time.Hour, "2w": 336 * time.Hour, "0d": 0} {
		got, ok := ParseAge(text)
		assert.True(t, ok, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "d", "5", "-5d", "5 d", "5D", "1h30min", "5y", "1234567d", "d5", "5.5h"} {
		_, ok := ParseAge(text)
		assert.False(t, ok, text)
	}
	day, ok := parseTime("2026-03-04")
	assert.True(t, ok)
	assert.Equal(t, time.Date(2026, 3, 4, 0, 0, 0, 0, time.Local), day)
	moment, ok := parseTime("2026-03-04T05:06:07+01:00")
	assert.True(t, ok)
	assert.True(t, moment.Equal(time.Date(2026, 3, 4, 4, 6, 7, 0, time.UTC)))
	for _, text := range []string{"", "2026", "2026-13-01", "2026-02-30", "04.03.2026", "2026-03-04T05:06"} {
		_, ok := parseTime(text)
		assert.False(t, ok, text)
	}
}

// Of what is only at the target its name and size can be told, and it is said where that
// is not enough.
func TestTakesName(t *testing.T) {
	e := &object.Entry{Key: "a.wav", Size: 5}
	for name, c := range map[string]struct {
		rules       Selection
		taken, sure bool
	}{
		"nothing said": {Selection{}, true, true},
		"included":     {Selection{Include: []string{"*.wav"}}, true, true},
		"not included": {Selection{Include: []string{"*.txt"}}, false, true},
		"one of two":   {Selection{Include: []string{"*.txt", "*.wav"}}, true, true},
		"excluded":     {Selection{Exclude: []string{"*.wav"}}, false, true},
		"excluded, whatever else": {Selection{Exclude: []string{"*.wav"}, OlderThan: "1h",
			Tags: map[string]string{"a": "b"}}, false, true},
		"begins so":    {Selection{Prefix: "a."}, true, true},
		"begins other": {Selection{Prefix: "b"}, false, true},
		"ends so":      {Selection{Suffix: ".wav"}, true, true},
		"ends other":   {Selection{Suffix: ".txt", Tags: map[string]string{"a": "b"}}, false, true},
		"begins other, whatever its age": {Selection{Prefix: "b", OlderThan: "1h", Classes: []string{"STANDARD"}},
			false,
			true},
		"too small":    {Selection{Smallest: "6B"}, false, true},
		"small enough": {Selection{Largest: "5B"}, true, true},
		"by its time":  {Selection{OlderThan: "1h"}, true, false},
		"by its tags":  {Selection{Tags: map[string]string{"a": "b"}}, true, false},
		"not included, by its class": {Selection{Include: []string{"*.txt"}, Classes: []string{"STANDARD"}}, false,
			false},
	} {
		m, err := c.rules.Compile(time.Now())
		require.NoError(t, err, name)
		taken, sure := m.TakesName(e)
		assert.Equal(t, [2]bool{c.taken, c.sure}, [2]bool{taken, sure}, name)
	}
}

// Settings that are no such thing are named with what there is.
func TestSettingsThatAreNone(t *testing.T) {
	low, high, fine := int64(-1), int64(101), int64(100)
	for setting, change := range map[string]func(*Rules){
		"safety.deletions":      func(r *Rules) { r.Safety.Deletions = &low },
		"safety.races":          func(r *Rules) { r.Safety.Races = "perhaps" },
		"safety.unverified":     func(r *Rules) { r.Safety.Unverified = "perhaps" },
		"safety.deletion-share": func(r *Rules) { r.Safety.DeletionShare = &high },
		"safety.shrink":         func(r *Rules) { r.Safety.Shrink = &low },
		"safety.drift":          func(r *Rules) { r.Safety.Drift = &high },
		"compare-by":            func(r *Rules) { r.CompareBy = "feeling" },
		"when-different":        func(r *Rules) { r.WhenDifferent = "perhaps" },
		"target-only":           func(r *Rules) { r.TargetOnly = "perhaps" },
		"direction":             func(r *Rules) { r.Direction = "three-way" },
		"conflicts":             func(r *Rules) { r.Conflicts = "perhaps" },
		"afterwards":            func(r *Rules) { r.Afterwards = "perhaps" },
	} {
		r := Default()
		change(&r)
		at, what := r.Check()
		assert.Equal(t, setting, at)
		assert.NotEmpty(t, what)
		assert.False(t, strings.Contains(what, `""`), "%s: %s", setting, what)
	}
	none := int64(0)
	r := Default()
	r.Safety.Deletions, r.Safety.DeletionShare = &none, &none
	r.Safety.Drift, r.Safety.Shrink, r.Safety.Races, r.Safety.Unverified = &fine, &fine, RefuseRaces, FailUnverified
	at, what := r.Check()
	assert.Empty(t, at+what)
}

// A key's own pattern matches it and nothing else, whatever the key has in it.
func TestLiteral(t *testing.T) {
	testkit.Check(t, func(rt *rapid.T) {
		key := rapid.StringOf(rapid.SampledFrom([]rune(`ab*?`+
			`[]{}\/!^-,é`))).Filter(func(s string) bool { return s != "" }).Draw(rt, "key")
		other := rapid.StringOf(rapid.SampledFrom([]rune(`ab*?[]{}\/!^-,é`))).Draw(rt, "other")
		m, err := (&Selection{Include: []string{Literal(key)}}).Compile(time.Now())
		require.NoError(rt, err)
		taken, _ := m.Takes(&object.Entry{Key: key}, nil)
		assert.True(rt, taken)
		taken, _ = m.Takes(&object.Entry{Key: other}, nil)
		assert.Equal(rt, key == other, taken)
	})
}

// The two patterns that are matched in a quicker way match what they would in the usual one.
func TestQuickPatterns(t *testing.T) {
	testkit.Check(t, func(rt *rapid.T) {
		pattern := rapid.SampledFrom([]string{"**/*", "**/*.wav", "**/*w", "a/**", "a/b/**", "**/*a/b", "**/*{a,b}",
			"[a]/**", "**/**"}).Draw(rt, "pattern")
		key := rapid.StringOfN(rapid.SampledFrom([]rune("ab/.wv")), 1, 8, -1).Draw(rt, "key")
		m, err := (&Selection{Include: []string{pattern}}).Compile(time.Now())
		require.NoError(rt, err)
		taken, _ := m.Takes(&object.Entry{Key: key}, nil)
		assert.Equal(rt, doublestar.MatchUnvalidated(pattern, key), taken, "%s on %q", pattern, key)
	})
}

// Bytes are told with what a rule takes and drops; classes are told apart whatever their
// case, and an object without one is of the usual.
func TestTalliedBytes(t *testing.T) {
	m, err := (&Selection{Classes: []string{"Standard", "COLD"}, Smallest: "2B"}).Compile(time.Now())
	require.NoError(t, err)
	tallies := m.Tallies()
	for _, c := range []struct {
		class string
		size  int64
		taken bool
	}{{"", 10, true}, {"STANDARD", 100, true}, {"cold", 1000, true}, {"GLACIER", 10_000, false}, {"", 1, false}} {
		taken, by := m.Takes(&object.Entry{Key: "a", Size: c.size, Class: c.class}, tallies)
		assert.Equal(t, c.taken, taken, c.class)
		without, same := m.Takes(&object.Entry{Key: "a", Size: c.size, Class: c.class}, nil)
		assert.Equal(t, [2]any{taken, by}, [2]any{without, same}, "counted or not")
	}
	var told [][4]int64
	for _, x := range tallies {
		told = append(told, [4]int64{x.Takes, x.TakesBytes, x.Drops, x.DropsBytes})
	}
	assert.ElementsMatch(t, [][4]int64{{4, 1111, 1, 10_000}, {4, 11_110, 1, 1}}, told)
}

// What only a one-way job has is refused in a two-way one, and the other way round.
func TestWhatADirectionHas(t *testing.T) {
	for setting, change := range map[string]func(*Rules){
		"target-only":    func(r *Rules) { r.TargetOnly = DeleteThere },
		"when-different": func(r *Rules) { r.WhenDifferent = Skip },
		"compare-by":     func(r *Rules) { r.CompareBy = SendAll },
	} {
		r := Default()
		change(&r)
		at, _ := r.Check()
		assert.Empty(t, at, "one-way")
		r.Direction = TwoWay
		at, what := r.Check()
		assert.Equal(t, setting, at)
		assert.Contains(t, what, "two-way")
	}
}

// A selection is empty only with no rule at all, each rule has its edge, and one that
// cannot be read is named.
func TestEachRule(t *testing.T) {
	assert.True(t, (&Selection{}).Empty())
	noon := time.Date(2026, 3, 4, 12, 0, 0, 0, time.UTC)
	for setting, c := range map[string]struct{ good, bad Selection }{
		"include":        {Selection{Include: []string{"a"}}, Selection{Include: []string{"["}}},
		"exclude":        {Selection{Exclude: []string{"a"}}, Selection{Exclude: []string{"/a"}}},
		"older-than":     {Selection{OlderThan: "1h"}, Selection{OlderThan: "soon"}},
		"newer-than":     {Selection{NewerThan: "1h"}, Selection{NewerThan: "soon"}},
		"modified-from":  {Selection{From: "2026-03-04T12:00:00Z"}, Selection{From: "noon"}},
		"modified-until": {Selection{Until: "2026-03-04T12:00:00Z"}, Selection{Until: "noon"}},
		"smallest":       {Selection{Smallest: "1KiB"}, Selection{Smallest: "small"}},
		"largest":        {Selection{Largest: "1KiB"}, Selection{Largest: "-5"}},
		"classes":        {Selection{Classes: []string{"COLD"}}, Selection{}},
		"tags":           {Selection{Tags: map[string]string{"a": "b"}}, Selection{}},
		"prefix":         {Selection{Prefix: "a"}, Selection{}},
		"suffix":         {Selection{Suffix: "a"}, Selection{}},
	} {
		assert.False(t, c.good.Empty(), setting)
		_, err := c.good.Compile(noon)
		assert.NoError(t, err, setting)
		if !c.bad.Empty() {
			_, err = c.bad.Compile(noon)
			assert.ErrorContains(t, err, setting)
		}
	}
	for at, takes := range map[time.Duration][2]bool{-time.Second: {false, true}, 0: {true, false},
		time.Second: {true, false}} {
		for i, s := range []Selection{{From: "2026-03-04T12:00:00Z"}, {Until: "2026-03-04T12:00:00Z"}} {
			m, err := s.Compile(noon)
			require.NoError(t, err)
			taken, _ := m.Takes(&object.Entry{Key: "a", Modified: noon.Add(at)}, nil)
			assert.Equal(t, takes[i], taken, "%+v, %s", s, at)
		}
	}
}

// A rule that meets nothing of a source says so, where there is something to meet, and
// what may have been meant.
func TestIdleRules(t *testing.T) {
	s := Selection{Include: []string{"*.flac", "x/*.wav", "**/*.wav"}, Exclude: []string{"*.tmp", "raw/**"},
		OlderThan: "1h", Largest: "1KiB"}
	m, err := s.Compile(time.Now())
	require.NoError(t, err)
	idle := func(objects int64, entries ...*object.Entry) (all []string) {
		tallies := m.Tallies()
		for _, e := range entries {
			m.Takes(e, tallies)
		}
		m.Flag(tallies, objects)
		for _, x := range tallies {
			all = append(all, x.Idle)
		}
		return all
	}
	assert.Equal(t, make([]string, 7), idle(0), "nothing is idle where there is nothing")
	top := func(p string) string {
		return "matches nothing: it looks at the top only; **/" + p + " looks everywhere"
	}
	assert.Equal(t, []string{top("*.flac"), "matches nothing", "", top("*.tmp"), "matches nothing", "takes nothing",
		""}, idle(1, &object.Entry{Key: "a/b.wav", Size: 1, Modified: time.Now()}))
}
