package rule

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
)

// What is no age or time is told so, and is never an age of nothing.
func TestAgesAndTimes(t *testing.T) {
	for text, want := range map[string]time.Duration{"90min": 90 * time.Minute, "12h": 12 * time.Hour, "30d": 720 * time.Hour, "2w": 336 * time.Hour, "0d": 0} {
		got, ok := ParseAge(text)
		assert.True(t, ok, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "d", "5", "-5d", "5 d", "5D", "1h30min", "5y", "1234567d", "d5", "5.5h"} {
		_, ok := ParseAge(text)
		assert.False(t, ok, text)
	}
	day, ok := ParseTime("2026-03-04")
	assert.True(t, ok)
	assert.Equal(t, time.Date(2026, 3, 4, 0, 0, 0, 0, time.Local), day)
	moment, ok := ParseTime("2026-03-04T05:06:07+01:00")
	assert.True(t, ok)
	assert.True(t, moment.Equal(time.Date(2026, 3, 4, 4, 6, 7, 0, time.UTC)))
	for _, text := range []string{"", "2026", "2026-13-01", "2026-02-30", "04.03.2026", "2026-03-04T05:06"} {
		_, ok := ParseTime(text)
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
		"nothing said":               {Selection{}, true, true},
		"included":                   {Selection{Include: []string{"*.wav"}}, true, true},
		"not included":               {Selection{Include: []string{"*.txt"}}, false, true},
		"one of two":                 {Selection{Include: []string{"*.txt", "*.wav"}}, true, true},
		"excluded":                   {Selection{Exclude: []string{"*.wav"}}, false, true},
		"excluded, whatever else":    {Selection{Exclude: []string{"*.wav"}, OlderThan: "1h", Tags: map[string]string{"a": "b"}}, false, true},
		"too small":                  {Selection{Smallest: "6B"}, false, true},
		"small enough":               {Selection{Largest: "5B"}, true, true},
		"by its time":                {Selection{OlderThan: "1h"}, true, false},
		"by its tags":                {Selection{Tags: map[string]string{"a": "b"}}, true, false},
		"not included, by its class": {Selection{Include: []string{"*.txt"}, Classes: []string{"STANDARD"}}, false, false},
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
		"guards.removals":      func(r *Rules) { r.Guards.Removals = &low },
		"guards.races":         func(r *Rules) { r.Guards.Races = "perhaps" },
		"guards.unverified":    func(r *Rules) { r.Guards.Unverified = "perhaps" },
		"guards.removal-share": func(r *Rules) { r.Guards.RemovalShare = &high },
		"guards.shrink":        func(r *Rules) { r.Guards.Shrink = &low },
		"guards.drift":         func(r *Rules) { r.Guards.Drift = &high },
		"judge":                func(r *Rules) { r.Judge = "feeling" },
		"different":            func(r *Rules) { r.Different = "perhaps" },
		"extras":               func(r *Rules) { r.Extras = "perhaps" },
		"direction":            func(r *Rules) { r.Direction = "three-way" },
		"conflicts":            func(r *Rules) { r.Conflicts = "perhaps" },
		"afterwards":           func(r *Rules) { r.Afterwards = "perhaps" },
	} {
		r := Default()
		change(&r)
		at, what := r.Check()
		assert.Equal(t, setting, at)
		assert.NotEmpty(t, what)
		assert.False(t, strings.Contains(what, `""`), "%s: %s", setting, what)
	}
	r := Default()
	r.Guards.Drift, r.Guards.Shrink, r.Guards.Races, r.Guards.Unverified = &fine, &fine, RefuseRaces, FailUnverified
	at, what := r.Check()
	assert.Empty(t, at+what)
}
