package plantest

import (
	"strings"
	"time"

	"pgregory.net/rapid"

	"lumtra/core/rule"
)

// Now is the time that drawn worlds are planned at, Age what their rules about
// age draw the line at.
var Now = time.Unix(1_700_000_000, 0)

// Age is two seconds; in text form it is what no rule can say, so drawn times
// lie days apart.
const Age = 3 * 24 * time.Hour

// Key draws a key of few parts, so that keys meet.
func Key(t *rapid.T) string {
	return strings.Join(rapid.SliceOfN(rapid.SampledFrom([]string{"a", "b", "a-", "x.t", "é"}), 1, 3).Draw(t,
		"parts"), "/")
}

// Time draws one of four times, days apart.
func Time(t *rapid.T) time.Time {
	return Now.Add(-time.Duration(rapid.IntRange(1, 4).Draw(t, "days ago")*2*24) * time.Hour)
}

// Rules draws rules that pass their check.
func Rules(t *rapid.T) rule.Rules {
	r := rule.Default()
	pick := func(name string, from ...string) string { return rapid.SampledFrom(from).Draw(t, name) }
	r.CompareBy = rule.CompareBy(pick("compare-by", "size-and-time", "size", "content", "all"))
	r.WhenDifferent = rule.WhenDifferent(pick("when-different", "replace", "skip", "if-newer", "keep-both"))
	r.TargetOnly = rule.TargetOnly(pick("target-only", "keep", "trash", "delete"))
	if rapid.Bool().Draw(t, "two-way") {
		r.Direction, r.WhenDifferent, r.TargetOnly = rule.TwoWay, rule.Replace, rule.KeepThere
		r.Conflicts = rule.Conflicts(pick("conflicts", "ask", "source", "target", "newer", "keep-both"))
		if r.CompareBy == rule.SendAll {
			r.CompareBy = rule.BySizeAndTime
		}
	}
	if r.Direction == rule.OneWay && r.TargetOnly == rule.KeepThere {
		r.Afterwards = rule.Afterwards(pick("afterwards", "keep", "delete", "archive"))
	}
	s := &r.Select
	patterns := func(name string) (all []string) {
		if rapid.IntRange(0, 2).Draw(t, name+"?") == 0 {
			all = rapid.SliceOfN(rapid.SampledFrom([]string{"**/*.t", "a/**", "b*", "**/b", "*/a/**"}), 1, 2).Draw(t,
				name)
		}
		return all
	}
	s.Include, s.Exclude = patterns("include"), patterns("exclude")
	s.Prefix = pick("prefix", "", "", "", "a")
	s.Suffix = pick("suffix", "", "", "", "t")
	s.Smallest = pick("smallest", "", "", "1B")
	s.Largest = pick("largest", "", "", "1B")
	s.NewerThan = pick("newer", "", "", "", "3d")
	off := int64(100)
	many := int64(1 << 40)
	r.Safety = rule.Safety{Deletions: &many, DeletionShare: &off, Shrink: &off, Drift: &off}
	return r
}
