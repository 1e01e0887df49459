package jobs

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/job"
	"lumtra/core/place/kind"
	"lumtra/testkit"
)

// plainJob is the least a job needs.
const (
	plainJob     = "source = \"shore/studio\"\ntarget = \"north/masters\"\n"
	severalPacks = "source = \"shore/studio\"\ntarget = \"north/masters/*.tar.zst!\"\n"
)

func parsed(t require.TestingT, text string) *job.Job {
	j, err := job.Parse("", "masters", text, map[string]*kind.Settings{"shore": {Name: "shore", Kind: "s3"},
		"north": {Name: "north", Kind: "s3"}})
	require.NoError(t, err, text)
	return j
}

// phrases are all that the sentences of one-way and two-way jobs, of every setting that
// brings phrases of its own, are made of.
func phrases(t *testing.T) (all []*phrase) {
	for _, more := range []string{"", "direction = \"two-way\"\n", "target-only = \"trash\"\n",
		"afterwards = \"archive\"\n", "afterwards = \"tag\"\nsource-tags = {sent = \"yes\"}\n",
		"limits.bandwidth = [\"1 MB/s\"]\n", "[when]\nstart = \"every 15 minutes\"\nwindow = [\"20:00-06:00\"]\n",
		"[when]\nstart = \"on arrival\"\n", "several"} {
		text := plainJob + more
		if more == "several" {
			text = severalPacks
		}
		for _, line := range sentence(parsed(t, text)) {
			for _, x := range line {
				if x.phrase != nil && !slices.Contains(all, x.phrase) {
					all = append(all, x.phrase)
				}
			}
		}
	}
	return append(all, rules...)
}

// with is a plain job with one setting set as the sentence sets it.
func with(t require.TestingT, text string, p *phrase, typed string) *job.Job {
	value := p.typed(typed)
	if p.into != nil {
		value = p.into(parsed(t, text), typed)
	}
	text, err := job.Set(text, value, p.path...)
	require.NoError(t, err)
	return parsed(t, text)
}

// A target becomes a pack of its own name, another kind of pack, and a folder again.
func TestIntoPacks(t *testing.T) {
	for was, want := range map[string]string{"north/masters": "north/masters/studio.tar.zst!",
		"north/a/b": "north/a/b.tar.zst!", "north/a/b/": "north/a/b.tar.zst!",
		"north/a/b.tar.gz!": "north/a/b.tar.zst!",
		"north/a/b.tgz!/x":  "north/a/b.tar.zst!"} {
		j := parsed(t, fmt.Sprintf("source = \"shore/studio\"\ntarget = %q\n", was))
		assert.Equal(t, want, packing.into(j, "tar.zst"), was)
		j.Target = want
		assert.Equal(t, strings.TrimSuffix(want, ".tar.zst!"), packing.into(j, ""), was)
		assert.Equal(t, strings.TrimSuffix(want, ".zst!")+"!", packing.into(j, "tar"), was)
		several := strings.TrimSuffix(want, ".tar.zst!") + "/*.tar.zst!"
		assert.Equal(t, several, packing.into(j, "*tar.zst"), was)
		j.Target = several
		assert.Equal(t, want, packing.into(j, "tar.zst"), was)
		assert.Equal(t, strings.TrimSuffix(want, ".tar.zst!"), packing.into(j, ""), was)
	}
	const sizes, level = "at-most = \"50GB\"\nunder = \"1MB\"\n", "level = 3\n"
	for target, packs := range map[string]string{"north/a/*.tar.zst!": sizes + level, "north/a/*.tar!": sizes,
		"north/a/b.tar.gz!": level, "north/a/b.tar!": "", "north/a/b": ""} {
		text := fmt.Sprintf("source = \"shore/studio\"\ntarget = %q\n[packs]\n", target)
		all := text + sizes + level
		j, _ := job.Parse("", "masters", all, map[string]*kind.Settings{"shore": {Kind: "s3"}, "north": {Kind: "s3"}})
		assert.Equal(t, text+packs, fitting(all, j), "what was for another target is taken out")
		parsed(t, text+packs)
	}
	_, err := job.Parse("", "x", "source = \"shore/studio\"\ntarget = \"north/a/b.tar!\"\ntarget-only = \"trash\"\n",
		map[string]*kind.Settings{"shore": {Name: "shore", Kind: "s3"}, "north": {Name: "north", Kind: "s3"}})
	assert.ErrorContains(t, err, "a pack, which has no trash")
}

// Each choice that the sentence offers can be made: it is a value that a job takes, it is
// read back as the same, and no other choice of the phrase says it in the same words.
func TestChoicesCanBeMade(t *testing.T) {
	for _, p := range phrases(t) {
		require.True(t, p == anotherRule || len(p.path) > 0)
		assert.NotEmpty(t, p.title, p.setting())
		said := map[string]string{}
		for _, c := range p.choices {
			text := plainJob
			switch c.value {
			case "two-way":
			case "tag":
				text += "source-tags = {sent = \"yes\"}\n"
			}
			if strings.HasPrefix(p.setting(), "packs.") {
				text = severalPacks
			}
			if p == conflicts {
				text += "direction = \"two-way\"\n"
			}
			j := with(t, text, p, c.value)
			assert.Equal(t, c.value, p.value(j), "%s = %q", p.setting(), c.value)
			assert.Equal(t, c.words, p.words(j))
			assert.NotEmpty(t, c.meaning, "%s = %q is not explained", p.setting(), c.value)
			other, double := said[c.words]
			assert.False(t, double, "%s says %q and %q in the same words", p.setting(), c.value, other)
			said[c.words] = c.value
		}
	}
}

// What is typed into a phrase is what the job then says, and the sentence shows it.
func TestTypedIsRead(t *testing.T) {
	typed := map[string]string{
		"source": "shore/field", "target": "north/tides", "trash": "gone", "archive": "away",
		"source-tags": "a=1 b=2", "limits.bandwidth": `"80 MB/s" "20 MB/s 08:00-18:00"`, "limits.zone": "Europe/Lisbon",
		"as.class": "COLD", "as.metadata": "owner=sound", "as.gzip": "**/*.json", "limits.streams": "12",
		"limits.part-size": "32MiB", "survey-age": "2h",
		"packs.at-most": "50GB", "packs.under": "1MB", "packs.level": "7",
		"safety.deletions": "7", "safety.deletion-share": "8", "safety.shrink": "9", "safety.drift": "10",
		"when.start": "daily at 23:30", "when.zone": "Europe/Lisbon", "when.except": `"2026-12-24 to 2027-01-02"`,
		"when.window": `"20:00-06:00 mon-fri"`, "when.missed": "6h", "when.spread": "5m", "when.approve-within": "12h",
		"when.arrival.settle": "3s", "when.arrival.every": "1m", "when.arrival.not-yet": "*.part *.tmp",
		"when.arrival.marker": "READY",
		"select.include":      "**/*.wav 2026/**", "select.exclude": `**/*.tmp "a b/**"`, "select.prefix": "2026/",
		"select.suffix": ".wav", "select.older-than": "30d", "select.newer-than": "2d",
		"select.modified-from": "2026-01-31", "select.modified-until": "2026-02-28", "select.smallest": "4KiB",
		"select.largest": "2GB", "select.classes": "STANDARD COLD", "select.tags": "project=dawn",
	}
	for _, p := range phrases(t) {
		if p == anotherRule || len(p.choices) > 0 {
			continue
		}
		text, ok := typed[p.setting()]
		if !assert.True(t, ok, "%s is not tested here", p.setting()) {
			continue
		}
		base := plainJob
		switch p {
		case archive:
			base += "afterwards = \"archive\"\n"
		case sourceTags:
			base += "afterwards = \"tag\"\n"
		case trash:
			base += "target-only = \"trash\"\n"
		case whenZone, except, window, missed, spread, approveWithin:
			base += "[when]\nstart = \"every 15 minutes\"\n"
		case settleTime, arrivalEvery, notYet, marker:
			base += "[when]\nstart = \"on arrival\"\n"
		case packsAtMost, packsUnder, packsLevel:
			base = severalPacks
		case zone:
			base += "limits.bandwidth = [\"1 MB/s\"]\n"
		}
		j := with(t, base, p, text)
		assert.Equal(t, text, p.value(j), p.setting())
		was := p.words(parsed(t, strings.ReplaceAll(base, "afterwards = \"tag\"\n", "")))
		assert.NotEqual(t, was, p.words(j), "%s: the sentence does not show it", p.setting())
	}
}

// A list and its pairs come back from the text they are typed as.
func TestListsAsTyped(t *testing.T) {
	testkit.Check(t, func(rt *rapid.T) {
		list := rapid.SliceOf(rapid.StringMatching(`[a-z*/."\\ =]{0,6}[a-z]`)).Draw(rt, "list")
		assert.Equal(rt, append([]string{}, list...), append([]string{}, words(listText(list))...))
	})
	assert.Equal(t, []string{"a", "b c", `"d`}, words(`  a "b c"   "d`), "a quote without its end is a character")
	assert.Equal(t, map[string]string{"a": "1=2", "b": ""}, (&phrase{how: byPairs}).typed("a=1=2 b"))
	assert.Equal(t, int64(5), (&phrase{how: byNumber}).typed(" 5 "))
	assert.Equal(t, "five", (&phrase{how: byNumber}).typed("five"), "told where the job is read")
	assert.Equal(t, true, (&phrase{how: byChoice}).typed("true"))
	assert.Equal(t, false, (&phrase{how: byChoice}).typed("false"))
	assert.Equal(t, `a=1 "b=2 3"`, pairsText(map[string]string{"b": "2 3", "a": "1"}))
}

// The sentence says what matters for the direction, and no more.
func TestSentenceFollowsTheJob(t *testing.T) {
	says := func(more string, p *phrase) bool {
		return slices.ContainsFunc(sentence(parsed(t, plainJob+more)), func(line []segment) bool {
			return slices.ContainsFunc(line, func(x segment) bool { return x.phrase == p })
		})
	}
	twoWay := "direction = \"two-way\"\n"
	for _, c := range []struct {
		more string
		p    *phrase
		want bool
	}{
		{"", conflicts, false}, {twoWay, conflicts, true}, {"", different, true}, {twoWay, different, false},
		{twoWay, targetOnly, false}, {"", drift, true}, {twoWay, drift, false},
		{"", afterwards, true}, {twoWay, afterwards, false}, {"", trash, false},
		{"target-only = \"trash\"\n", trash, true}, {"", archive, false}, {"afterwards = \"archive\"\n", archive, true},
		{"", shrink, true}, {"afterwards = \"delete\"\n", shrink, false},
		{"afterwards = \"delete\"\n", emptySource, false}, {"afterwards = \"delete\"\n", removals, true},
		{"", zone, false}, {"limits.bandwidth = [\"1 MB/s\"]\n", zone, true},
	} {
		assert.Equal(t, c.want, says(c.more, c.p), "%s with %q", c.p.setting(), c.more)
	}
	assert.Equal(t, "everything", anotherRule.words(parsed(t, plainJob)))
	assert.Equal(t, "shore / studio", source.words(parsed(t, plainJob)))
	assert.Equal(t, "north / masters", target.words(parsed(t, plainJob)))
}

// A path of this machine is not taken for an endpoint.
func TestPathsOfThisMachine(t *testing.T) {
	assert.Equal(t, "/srv/takes", source.words(&job.Job{Source: "/srv/takes/"}))
	assert.Equal(t, "shore / studio", source.words(&job.Job{Source: "shore/studio/"}))
	assert.Equal(t, "… a place", source.words(&job.Job{}))
}
