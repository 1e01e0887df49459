package rule

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
)

// A selection takes everything only while none of its rules is set, whatever else is.
func TestEmptySelection(t *testing.T) {
	assert.True(t, (&Selection{}).Empty())
	for i, s := range []Selection{
		{Include: []string{"a"}}, {Exclude: []string{"a"}}, {Classes: []string{"a"}},
		{Tags: map[string]string{"a": "b"}},
		{Include: []string{"a"}, Exclude: []string{"a"}}, {Classes: []string{"a"}, Tags: map[string]string{"a": "b"}},
		{Include: []string{"a"}, Classes: []string{"a"}}, {Exclude: []string{"a"}, Tags: map[string]string{"a": "b"}},
		{Prefix: "a"}, {Suffix: "a"}, {OlderThan: "1d"}, {NewerThan: "1d"}, {From: "a"}, {Until: "a"},
		{Smallest: "1B"}, {Largest: "1B"},
	} {
		assert.False(t, s.Empty(), i)
	}
}

// What keeps an object away is told by its rule: the last pattern to include is one of
// several that could have, the rule behind it is itself.
func TestRuleByItsNumber(t *testing.T) {
	m, err := (&Selection{Include: []string{"*.wav", "*.flac"}, Exclude: []string{"raw*"}}).Compile(time.Now())
	require.NoError(t, err)
	for key, want := range map[string]string{"a.txt": "no pattern to include matches it", "raw.wav": "exclude raw*"} {
		taken, by := m.Takes(&object.Entry{Key: key}, nil)
		assert.False(t, taken)
		assert.Equal(t, want, m.Text(by), key)
	}
	sum := Tally{Takes: 1, Drops: 2, TakesBytes: 3, DropsBytes: 4}
	sum.Add(Tally{Takes: 10, Drops: 20, TakesBytes: 30, DropsBytes: 40})
	assert.Equal(t, Tally{Takes: 11, Drops: 22, TakesBytes: 33, DropsBytes: 44}, sum)
}

// Each rule of a selection at its edge: what lies on it, just before and just behind.
func TestEdgesOfSelection(t *testing.T) {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	entry := func(key string, size int64, age time.Duration) *object.Entry {
		return &object.Entry{Key: key, Size: size, Modified: now.Add(-age)}
	}
	for name, c := range map[string]struct {
		rules Selection
		takes []*object.Entry
		drops []*object.Entry
	}{
		"smallest": {Selection{Smallest: "1KiB"}, []*object.Entry{entry("a", 1024, 0), entry("a", 1025, 0)},
			[]*object.Entry{entry("a", 1023, 0), entry("a", 0, 0)}},
		"largest": {Selection{Largest: "1KiB"}, []*object.Entry{entry("a", 1024, 0), entry("a", 0, 0)},
			[]*object.Entry{entry("a", 1025, 0)}},
		"newer than": {Selection{NewerThan: "1h"}, []*object.Entry{entry("a", 1, time.Hour-time.Second),
			entry("a", 1, -time.Hour)}, []*object.Entry{entry("a", 1, time.Hour+time.Second)}},
		"older than": {Selection{OlderThan: "1h"}, []*object.Entry{entry("a", 1, time.Hour+time.Second)},
			[]*object.Entry{entry("a", 1, time.Hour-time.Second), entry("a", 1, -time.Hour)}},
		"prefix": {Selection{Prefix: "ab"}, []*object.Entry{entry("ab", 1, 0), entry("ab/c", 1, 0),
			entry("abc", 1, 0)}, []*object.Entry{entry("a", 1, 0), entry("xab", 1, 0), entry("AB", 1, 0)}},
		"suffix": {Selection{Suffix: ".wav"}, []*object.Entry{entry("a.wav", 1, 0), entry(".wav", 1, 0)},
			[]*object.Entry{entry("a.wav2", 1, 0), entry("a.WAV", 1, 0), entry("wav", 1, 0)}},
		"include": {Selection{Include: []string{"a/*", "**/*.txt"}},
			[]*object.Entry{entry("a/b", 1, 0), entry("x/y/z.txt", 1, 0), entry("z.txt", 1, 0)},
			[]*object.Entry{entry("a/b/c", 1, 0), entry("b/b", 1, 0), entry("a", 1, 0)}},
		"exclude": {Selection{Exclude: []string{"raw/**"}},
			[]*object.Entry{entry("rawer/a", 1, 0), entry("x/raw/a", 1, 0)},
			[]*object.Entry{entry("raw/a", 1, 0), entry("raw/a/b", 1, 0)}},
		"both": {Selection{Include: []string{"**/*.wav"}, Exclude: []string{"tmp/**"}},
			[]*object.Entry{entry("a.wav", 1, 0)}, []*object.Entry{entry("tmp/a.wav", 1, 0), entry("a.txt", 1, 0)}},
		"all at once": {Selection{Prefix: "a", Suffix: "z", Smallest: "2B", Largest: "3B"},
			[]*object.Entry{entry("a-z", 2, 0), entry("az", 3, 0)},
			[]*object.Entry{entry("a-z", 1, 0), entry("a-z", 4, 0), entry("b-z", 2, 0), entry("a-y", 2, 0)}},
		"nothing said": {Selection{}, []*object.Entry{entry("a", 0, 0), entry("x/y", 1<<40, 1<<50)}, nil},
	} {
		m, err := c.rules.Compile(now)
		require.NoError(t, err, name)
		for _, e := range c.takes {
			taken, _ := m.Takes(e, m.Tallies())
			assert.True(t, taken, "%s takes %s of %d, %s old", name, e.Key, e.Size, now.Sub(e.Modified))
		}
		for _, e := range c.drops {
			taken, by := m.Takes(e, m.Tallies())
			assert.False(t, taken, "%s drops %s of %d, %s old", name, e.Key, e.Size, now.Sub(e.Modified))
			assert.NotEmpty(t, m.Text(by), name)
		}
	}
}
