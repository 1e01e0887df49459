package jobs

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/job"
)

// plainJob is the least a job needs.
const plainJob = "source = \"shore/studio\"\ntarget = \"north/masters\"\n"

func parsed(t require.TestingT, text string) *job.Job {
	j, err := job.Parse("masters", text, map[string]*job.Endpoint{"shore": {Name: "shore", Kind: "s3"}, "north": {Name: "north", Kind: "s3"}})
	require.NoError(t, err, text)
	return j
}

// phrases are all that the sentences of one-way and two-way jobs, of every setting that
// brings phrases of its own, are made of.
func phrases(t *testing.T) (all []*phrase) {
	for _, more := range []string{"", "direction = \"two-way\"\n", "extras = \"trash\"\n", "afterwards = \"archive\"\n", "afterwards = \"tag\"\nsource-tags = {sent = \"yes\"}\n", "limits.bandwidth = [\"1 MB/s\"]\n"} {
		for _, line := range sentence(parsed(t, plainJob+more)) {
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
	text, err := job.Set(text, p.typed(typed), p.path...)
	require.NoError(t, err)
	return parsed(t, text)
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
		"source": "shore/field", "target": "north/tides", "trash": "gone", "archive": "away", "source-tags": "a=1 b=2", "limits.bandwidth": `"80 MB/s" "20 MB/s 08:00-18:00"`, "limits.zone": "Europe/Lisbon",
		"as.class": "COLD", "as.metadata": "owner=sound", "as.gzip": "**/*.json", "limits.streams": "12", "limits.part-size": "32MiB", "survey-age": "2h",
		"guards.removals": "7", "guards.removal-share": "8", "guards.shrink": "9", "guards.drift": "10",
		"select.include": "**/*.wav 2026/**", "select.exclude": `**/*.tmp "a b/**"`, "select.prefix": "2026/", "select.suffix": ".wav", "select.older-than": "30d", "select.newer-than": "2d",
		"select.modified-from": "2026-01-31", "select.modified-until": "2026-02-28", "select.smallest": "4KiB", "select.largest": "2GB", "select.classes": "STANDARD COLD", "select.tags": "project=dawn",
	}
	for _, p := range phrases(t) {
		if p == anotherRule || len(p.choices) > 0 {
			continue
		}
		text, ok := typed[p.setting()]
		if !assert.True(t, ok, "%s is not tried here", p.setting()) {
			continue
		}
		base := plainJob
		switch p {
		case archive:
			base += "afterwards = \"archive\"\n"
		case sourceTags:
			base += "afterwards = \"tag\"\n"
		case trash:
			base += "extras = \"trash\"\n"
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
	rapid.Check(t, func(rt *rapid.T) {
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
		{"", conflicts, false}, {twoWay, conflicts, true}, {"", different, true}, {twoWay, different, false}, {twoWay, extras, false}, {"", drift, true}, {twoWay, drift, false},
		{"", afterwards, true}, {twoWay, afterwards, false}, {"", trash, false}, {"extras = \"trash\"\n", trash, true}, {"", archive, false}, {"afterwards = \"archive\"\n", archive, true},
		{"", shrink, true}, {"afterwards = \"remove\"\n", shrink, false}, {"afterwards = \"remove\"\n", emptySource, false}, {"afterwards = \"remove\"\n", removals, true},
		{"", zone, false}, {"limits.bandwidth = [\"1 MB/s\"]\n", zone, true},
	} {
		assert.Equal(t, c.want, says(c.more, c.p), "%s with %q", c.p.setting(), c.more)
	}
	assert.Equal(t, "everything", anotherRule.words(parsed(t, plainJob)))
	assert.Equal(t, "shore / studio", source.words(parsed(t, plainJob)))
	assert.Equal(t, "north / masters", target.words(parsed(t, plainJob)))
}
