package rule

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/object"
)

// The quick ways to match patterns agree with the slow one.
func TestPatterns(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		part := rapid.SampledFrom([]string{"a", "b.wav", ".wav", "wav", "x y", ""})
		key := strings.Join(rapid.SliceOfN(part, 1, 4).Draw(t, "key"), "/")
		p := rapid.SampledFrom([]string{"**/*.wav", "**/*wav", "a/**", "a/b.wav/**", "*.wav", "**", "**/a/*", "{a,b.wav}/**", "a*/**", "**/*[v]"}).Draw(t, "pattern")
		require.Equal(t, doublestar.MatchUnvalidated(p, key), pattern(p)(key), "%q %q", p, key)
	})
}

// Each rule is counted on its own, and one that matches nothing is flagged with
// what would.
func TestTallies(t *testing.T) {
	now := time.Now()
	s := Selection{Include: []string{"**/*.wav", "*.flac"}, Exclude: []string{"raw/**", "*.tmp"}, OlderThan: "2d", Largest: "1KiB"}
	m, err := s.Compile(now)
	require.NoError(t, err)
	tallies := m.Tallies()
	taken := int64(0)
	for i, key := range []string{"a/1.wav", "a/2.wav", "raw/3.wav", "b/4.flac", "b/5.wav"} {
		e := &object.Entry{Key: key, Size: int64(i * 500), Modified: now.Add(-time.Duration(5-i) * 24 * time.Hour)}
		if ok, _ := m.Takes(e, tallies); ok {
			taken++
		}
	}
	m.Flag(tallies, 5)
	var lines []string
	for _, x := range tallies {
		lines = append(lines, fmt.Sprintf("%s: %d %d %s", x.Rule, x.Takes, x.Drops, x.Idle))
	}
	assert.EqualValues(t, 2, taken)
	assert.Equal(t, []string{
		"include **/*.wav: 4 0 ",
		"include *.flac: 0 0 matches nothing: it looks at the top only; **/*.flac looks everywhere",
		"exclude raw/**: 0 1 ",
		"exclude *.tmp: 0 0 matches nothing: it looks at the top only; **/*.tmp looks everywhere",
		"older than 2d: 3 2 ",
		"at most 1KiB: 3 2 ",
	}, lines)
}

// Each guard holds back from its number on, and can be set otherwise.
func TestGuards(t *testing.T) {
	fine := Facts{SourceName: "studio", SourceObjects: 100, TargetObjects: 100, Selected: 100, Removals: 20, Agreed: 100, Drifted: 20}
	off, none := false, int64(100)
	for name, c := range map[string]struct {
		change func(*Facts)
		guards Guards
		held   string
	}{
		"nothing":        {func(*Facts) {}, Guards{}, ""},
		"empty":          {func(f *Facts) { f.SourceObjects, f.Selected, f.Agreed, f.Drifted = 0, 0, 0, 0 }, Guards{}, "studio holds nothing"},
		"empty allowed":  {func(f *Facts) { f.SourceObjects, f.Selected, f.Agreed, f.Drifted = 0, 0, 0, 0 }, Guards{EmptySource: &off}, ""},
		"emptied target": {func(f *Facts) { f.EmptyTarget = "far" }, Guards{}, "far holds nothing, where both sides agreed on 100"},
		"empty target":   {func(f *Facts) { f.EmptyTarget, f.Agreed, f.Drifted = "far", 0, 0 }, Guards{}, ""},
		"share":          {func(f *Facts) { f.Removals = 21 }, Guards{}, "removes 21 of 100 objects at the target, more than 20 %"},
		"share back":     {func(f *Facts) { f.Removals, f.SourceRemovals, f.TargetObjects = 25, 21, 20 }, Guards{}, "removes 21 of 100 objects at the source, more than 20 %"},
		"share of each":  {func(f *Facts) { f.Removals, f.SourceRemovals, f.TargetObjects = 24, 20, 20 }, Guards{}, ""},
		"share allowed":  {func(f *Facts) { f.Removals = 100 }, Guards{RemovalShare: &none}, ""},
		"count":          {func(f *Facts) { f.Removals, f.TargetObjects = 1001, 100000 }, Guards{}, "removes 1001 objects, more than the 1000"},
		"shrink":         {func(f *Facts) { f.Selected = 49 }, Guards{}, "has 49 objects where there were 100: more than 50 %"},
		"drift":          {func(f *Facts) { f.Drifted = 21 }, Guards{}, "21 of 100 objects at the target changed or went without this job"},
	} {
		f := fine
		c.change(&f)
		held := strings.Join(c.guards.Hold(f), "; ")
		if c.held == "" {
			assert.Empty(t, held, name)
			continue
		}
		assert.Contains(t, held, c.held, name)
	}
}
