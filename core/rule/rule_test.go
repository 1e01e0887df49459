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
	"lumtra/testkit"
)

// The quick ways to match patterns agree with the slow one.
func TestPatterns(t *testing.T) {
	testkit.Check(t, func(t *rapid.T) {
		part := rapid.SampledFrom([]string{"a", "b.wav", ".wav", "wav", "x y", ""})
		key := strings.Join(rapid.SliceOfN(part, 1, 4).Draw(t, "key"), "/")
		p := rapid.SampledFrom([]string{"**/*.wav", "**/*wav", "a/**", "a/b.wav/**", "*.wav", "**", "**/a/*",
			"{a,b.wav}/**", "a*/**", "**/*[v]"}).Draw(t, "pattern")
		require.Equal(t, doublestar.MatchUnvalidated(p, key), pattern(p)(key), "%q %q", p, key)
	})
}

// Each rule is counted on its own, and one that matches nothing is flagged with
// what would.
func TestTallies(t *testing.T) {
	now := time.Now()
	s := Selection{Include: []string{"**/*.wav", "*.flac"}, Exclude: []string{"raw/**", "*.tmp"}, OlderThan: "2d",
		Largest: "1KiB"}
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
	fine := Guarded{SourceName: "studio", SourceObjects: 100, TargetObjects: 100, Selected: 100, Removals: 20,
		Agreed: 100, Drifted: 20}
	off, none := false, int64(100)
	for name, c := range map[string]struct {
		change func(*Guarded)
		guards Safety
		held   string
	}{
		"nothing": {func(*Guarded) {}, Safety{}, ""},
		"empty": {func(f *Guarded) { f.SourceObjects, f.Selected, f.Agreed, f.Drifted = 0, 0, 0, 0 }, Safety{},
			"studio holds nothing"},
		"empty allowed": {func(f *Guarded) { f.SourceObjects, f.Selected, f.Agreed, f.Drifted = 0, 0, 0, 0 },
			Safety{EmptySource: &off}, ""},
		"emptied target": {func(f *Guarded) { f.EmptyTarget = "far" }, Safety{},
			"far holds nothing, where there were 100 objects at the last run"},
		"empty target": {func(f *Guarded) { f.EmptyTarget, f.Agreed, f.Drifted = "far", 0, 0 }, Safety{}, ""},
		"share": {func(f *Guarded) { f.Removals = 21 }, Safety{},
			"deletes 21 of 100 objects at the target, more than 20 %"},
		"share back": {func(f *Guarded) { f.Removals, f.SourceRemovals, f.TargetObjects = 25, 21, 20 }, Safety{},
			"deletes 21 of 100 objects at the source, more than 20 %"},
		"share of each": {func(f *Guarded) { f.Removals, f.SourceRemovals, f.TargetObjects = 24, 20, 20 }, Safety{},
			""},
		"share allowed": {func(f *Guarded) { f.Removals = 100 }, Safety{DeletionShare: &none}, ""},
		"count": {func(f *Guarded) { f.Removals, f.TargetObjects = 1001, 100000 }, Safety{},
			"deletes 1,001 objects, more than the 1000"},
		"count at most": {func(f *Guarded) { f.Removals, f.TargetObjects = 1000, 100000 }, Safety{}, ""},
		"shrink": {func(f *Guarded) { f.Selected = 49 }, Safety{},
			"has 49 objects where there were 100: more than 50 %"},
		"shrink at most":   {func(f *Guarded) { f.Selected = 50 }, Safety{}, ""},
		"nothing agreed":   {func(f *Guarded) { f.Selected, f.Agreed, f.Drifted = 1, 0, 0 }, Safety{}, ""},
		"sources go":       {func(f *Guarded) { f.Selected, f.Leaves = 1, true }, Safety{}, ""},
		"empty, told once": {func(f *Guarded) { f.SourceObjects, f.Selected, f.Drifted = 0, 0, 0 }, Safety{}, "studio"},
		"drift at most":    {func(f *Guarded) { f.Drifted = 20 }, Safety{}, ""},
		"drift": {func(f *Guarded) { f.Drifted = 21 }, Safety{},
			"21 of 100 objects at the target changed or went without this job"},
	} {
		f := fine
		c.change(&f)
		all := c.guards.Hold(f)
		held := strings.Join(all, "; ")
		if c.held == "" {
			assert.Empty(t, held, name)
			continue
		}
		assert.Contains(t, held, c.held, name)
		assert.Len(t, all, 1, name)
	}
}

// What is compressed on the way is told by its name; nothing is where none is named.
func TestGzips(t *testing.T) {
	assert.Nil(t, (&As{}).Gzips())
	gzips := (&As{Gzip: []string{"*.csv", "notes/**"}}).Gzips()
	for key, want := range map[string]bool{"a.csv": true, "a/b.csv": false, "notes/x/y": true, "a.wav": false} {
		assert.Equal(t, want, gzips(key), key)
	}
}
