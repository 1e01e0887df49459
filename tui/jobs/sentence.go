package jobs

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"lumtra/core/compare"
	"lumtra/core/job"
	"lumtra/core/rule"
)

// how a phrase is changed.
type how int

const (
	byChoice how = iota // one of a few
	byText              // a few characters
	byList              // patterns or names, with blanks between
	byPairs             // name=value, with blanks between
	byNumber
	byPlace // looked for, or typed
	byRule  // which rule of the selection to add
)

// choice is one that a phrase has.
type choice struct {
	value   string
	words   string // as the sentence says it
	meaning string // what follows from it
}

// phrase is a part of the sentence that can be changed.
type phrase struct {
	path    []string // of the setting in the job's text
	how     how
	choices []choice
	title   string
	hint    string
	presets []string // texts that one comes to by ↓
	// value is what the job says now, as it is typed; words is how the
	// sentence says it.
	value func(*job.Job) string
	words func(*job.Job) string
	// into is what becomes of the setting where that is not the choice itself; nil where it is.
	into func(j *job.Job, chosen string) string
}

// setting is the phrase's path with dots.
func (p *phrase) setting() string { return strings.Join(p.path, ".") }

// segment is a piece of a line: plain words, or a phrase.
type segment struct {
	plain  string
	phrase *phrase
}

func plain(s string) segment { return segment{plain: s} }

func say(p *phrase) segment { return segment{phrase: p} }

// verb begins the sentence: a job one way that deletes its source afterwards is a move.
func verb(p *phrase) *phrase {
	chosen := p.words
	p.words = func(j *job.Job) string {
		if j.Direction == rule.OneWay && j.Afterwards == rule.DeleteSource {
			return "Move"
		}
		return chosen(j)
	}
	return p
}

// choose makes a phrase of a few choices.
func choose(path, title string, value func(*job.Job) string, choices ...choice) *phrase {
	p := &phrase{path: strings.Split(path, "."), title: title, choices: choices, value: value}
	p.words = func(j *job.Job) string {
		for _, c := range choices {
			if c.value == value(j) {
				return c.words
			}
		}
		return value(j)
	}
	return p
}

func placePhrase(path, title string, value func(*job.Job) string) *phrase {
	return &phrase{path: []string{path}, how: byPlace, title: title, hint: "endpoint/bucket/path", value: value,
		words: func(j *job.Job) string {
			if v := value(j); strings.HasPrefix(v, "/") {
				return strings.TrimRight(v, "/") // of this machine: its "/" tells it from an endpoint's
			} else if v != "" {
				return strings.Join(strings.Split(strings.Trim(v, "/"), "/"), " / ")
			}
			return "… a place"
		}}
}

// lands is the line that says where it goes, and as what.
func lands(j *job.Job) []segment {
	line := []segment{plain("and "), say(target)}
	if j.Direction == rule.OneWay {
		line = []segment{plain("to "), say(target), plain(" , "), say(packing)}
		line = append(line, divided(j)...)
	}
	return append(line, plain(" , in "), say(class), plain(" , "), say(tags), plain(" and "), say(metadata),
		plain(" , "), say(gzipped))
}

// The phrases of every job.
var (
	direction = verb(choose("direction", "One way, or both", func(j *job.Job) string { return string(j.Direction) },
		choice{"one-way", "Copy", "The target follows the source. What becomes of the source afterwards is said " +
			"below: " +
			"where it is deleted, the job is a move."},
		choice{"two-way", "Sync both ways",
			"What changed at either side since the last run goes to the other; what changed at both is a conflict."}))
	source  = placePhrase("source", "Where it comes from", func(j *job.Job) string { return j.Source })
	target  = placePhrase("target", "Where it goes", func(j *job.Job) string { return j.Target })
	landing = choose("landing", "What of the source lands", func(j *job.Job) string { return string(j.Landing) },
		choice{"inside", "what is in",
			"What lies in the source lands directly at the target. A \"/\" at the end of either place changes " +
				"nothing."},
		choice{"folder", "the folder", "The source folder itself lands at the target, under its name."})
	compareBy = choose("compare-by", "What two objects are compared by",
		func(j *job.Job) string { return string(j.CompareBy) },
		choice{"size-and-time", "size and time",
			"By what both sides were at the last run; without one, by size and time. Asks for nothing " +
				"but the listings."},
		choice{"size", "size alone", "Quick, and blind to a change that keeps the size."},
		choice{"content", "content",
			"By checksums. Folders are read, stores asked object by object: slower, and certain."},
		choice{"all", "nothing: all is sent", "Everything is sent each time."})
	different = choose("when-different", "When the target has a different object of that name",
		func(j *job.Job) string { return string(j.WhenDifferent) },
		choice{"replace", "replace", "The target's gives way to the source's."},
		choice{"skip", "skip", "The target's stays; only what is not there at all is sent."},
		choice{"if-newer", "replace if newer", "The target's gives way only to a newer one."},
		choice{"keep-both", "keep both",
			"The target's goes to a name with its time in it, and the new one takes the key."})
	targetOnly = choose("target-only", "Objects that are only at the target",
		func(j *job.Job) string { return string(j.TargetOnly) },
		choice{"keep", "keep", "What is only at the target is left alone."},
		choice{"trash", "move to trash",
			"What is only at the target is moved below the trash prefix there, in a folder for each plan."},
		choice{"delete", "delete",
			"What is only at the target is deleted: the target mirrors the source. Safety limits and a typed " +
				"number stand " +
				"before it."})
	trash = &phrase{path: []string{"trash"}, how: byText, title: "The trash prefix at the target",
		hint: rule.DefaultTrash, value: func(j *job.Job) string { return j.TrashPath },
		words: func(j *job.Job) string { return j.TrashPath }}
	conflicts = choose("conflicts", "What changed at both sides",
		func(j *job.Job) string { return string(j.Conflicts) },
		choice{"ask", "ask", "Each conflict waits in the plan until someone decides it."},
		choice{"source", "source wins", "The source's replaces the target's."},
		choice{"target", "target wins", "The target's replaces the source's."},
		choice{"newer", "newer wins",
			"Whichever was changed later; what was changed counts more than what was deleted."},
		choice{"keep-both", "keep both",
			"The target's goes to a name with its time in it, and both sides get both."})
	afterwards = choose("afterwards", "What becomes of the source",
		func(j *job.Job) string { return string(j.Afterwards) },
		choice{"keep", "keep the source", "Nothing at the source changes."},
		choice{"delete", "delete the source",
			"A move: each object goes from the source once its copy at the target is proven."},
		choice{"archive", "archive the source",
			"Each object moves below a prefix of the source, in a folder for each plan, once its copy is proven."},
		choice{"tag", "tag the source",
			"Each object gets tags at the source once its copy is proven. For stores with tags."})
	archive = &phrase{path: []string{"archive"}, how: byText,
		title: "The prefix at the source for the archive", hint: rule.DefaultArchive,
		value: func(j *job.Job) string { return j.ArchivePath },
		words: func(j *job.Job) string { return j.ArchivePath }}
	sourceTags = &phrase{path: []string{"source-tags"}, how: byPairs, title: "Tags that the source gets",
		hint: "sent=yes", value: func(j *job.Job) string { return pairsText(j.SourceTags) },
		words: func(j *job.Job) string {
			if len(j.SourceTags) == 0 {
				return "… tags"
			}
			return pairsText(j.SourceTags)
		}}
	bandwidth = &phrase{path: []string{"limits", "bandwidth"}, how: byList,
		title: "Bandwidth, by the hours of the week",
		hint:  `"80 MB/s" "20 MB/s 08:00-18:00 mon-fri" "quiet 12:00-13:00"; the last that fits counts`,
		value: func(j *job.Job) string { return listText(j.Limits.Bandwidth) },
		words: func(j *job.Job) string {
			if len(j.Limits.Bandwidth) == 0 {
				return "as fast as it goes"
			}
			return strings.Join(j.Limits.Bandwidth, ", ")
		}}
	zone = &phrase{path: []string{"limits", "zone"}, how: byText, title: "The time zone of those hours",
		hint: "Europe/Lisbon; nothing for this machine's", value: func(j *job.Job) string { return j.Limits.Zone },
		words: func(j *job.Job) string {
			if j.Limits.Zone == "" {
				return "local time"
			}
			return j.Limits.Zone + " time"
		}}
	proof = choose("proof", "How closely a proof looks", func(j *job.Job) string { return string(j.Proof) },
		choice{string(compare.BySize), "size", "Sizes are held against each other. Quick, and weak."},
		choice{string(compare.ByStoredSum), "stored checksums",
			"The checksums that stores keep, against those of the source."},
		choice{string(compare.ByReadBack), "reading both back", "Every byte of both sides. Slow, and certain."})
	digest = choose("digest", "Digests of what is sent, for proofs to write down",
		func(j *job.Job) string { return j.Digest },
		choice{"", "no digests", "Nothing beside the comparison."},
		choice{"sha256", "SHA-256 digests",
			"Computed while sending and kept with the objects; a proof makes a manifest that `sha256sum -c` takes. " +
				"Some 0.3 GB/s a core without SHA instructions."},
		choice{"blake3", "BLAKE3 digests",
			"Computed while sending and kept with the objects; a proof makes a manifest that `b3sum -c` takes. More " +
				"than 1 GB/s a core."})
	class = &phrase{path: []string{"as", "class"}, how: byText, title: "Storage class at the target",
		hint:  "STANDARD_IA, GLACIER, Cool, … ; nothing for the target's usual one",
		value: func(j *job.Job) string { return j.As.Class },
		words: func(j *job.Job) string {
			if j.As.Class == "" {
				return "its usual class"
			}
			return "class " + j.As.Class
		}}
	tags = choose("as.tags", "Tags",
		func(j *job.Job) string { return map[bool]string{true: "true", false: ""}[j.As.Tags] },
		choice{"", "without tags", "Tags stay behind."},
		choice{"true", "with its tags", "Tags are carried over: one more request for each object at either side."})
	metadata = &phrase{path: []string{"as", "metadata"}, how: byPairs, title: "Metadata set on all that is sent",
		hint: "owner=sound project=dawn", value: func(j *job.Job) string { return pairsText(j.As.Metadata) },
		words: func(j *job.Job) string {
			if len(j.As.Metadata) == 0 {
				return "its own metadata"
			}
			return "its own metadata and " + pairsText(j.As.Metadata)
		}}
	gzipped = &phrase{path: []string{"as", "gzip"}, how: byList,
		title: "Patterns of what is compressed on the way and stored so",
		hint:  "**/*.json **/*.csv ; nothing for none", value: func(j *job.Job) string { return listText(j.As.Gzip) },
		words: func(j *job.Job) string {
			if len(j.As.Gzip) == 0 {
				return "nothing compressed"
			}
			return "compressed where " + strings.Join(j.As.Gzip, ", ")
		}}
	streams = &phrase{path: []string{"limits", "streams"}, how: byNumber, title: "Requests at a time",
		hint:  "1 to 1024; nothing for as many as help",
		value: func(j *job.Job) string { return number(int64(j.Limits.Streams)) },
		words: func(j *job.Job) string {
			if j.Limits.Streams == 0 {
				return "as many streams as help"
			}
			return fmt.Sprintf("%d streams", j.Limits.Streams)
		}}
	partSize = &phrase{path: []string{"limits", "part-size"}, how: byText, title: "Size of the parts of big objects",
		hint: "16MiB; nothing for automatic", value: func(j *job.Job) string { return j.Limits.PartSize },
		words: func(j *job.Job) string {
			if j.Limits.PartSize == "" {
				return "parts sized by object"
			}
			return "parts of " + j.Limits.PartSize
		}}
	surveyAge = &phrase{path: []string{"survey-age"}, how: byText,
		title: "How old a survey may be to be planned from", hint: "2h, 1d; nothing to survey for every plan",
		value: func(j *job.Job) string { return j.SurveyAge },
		words: func(j *job.Job) string {
			if j.SurveyAge == "" {
				return "surveys made for it"
			}
			return "surveys up to " + j.SurveyAge + " old"
		}}
	durable = choose("limits.durable", "What a power loss may cost",
		func(j *job.Job) string { return map[bool]string{true: "true", false: ""}[j.Limits.Durable] },
		choice{"", "safe against a crash",
			"What a run has noted outlives the program; after a power loss some of it is found out again."},
		choice{"true", "safe against power loss",
			"Every note reaches the disk before it counts: slower. Set sync at a folder's endpoint for its files."})
	template = choose("template", "Job or template",
		func(j *job.Job) string { return map[bool]string{true: "true", false: ""}[j.Template] },
		choice{"", "a job", "It can be planned and run."},
		choice{"true", "a template", "It is never run; new jobs are made from it."})
	anotherRule = &phrase{how: byRule, title: "Add a rule about what is taken",
		value: func(*job.Job) string { return "" }, words: func(j *job.Job) string {
			if j.Select.Empty() {
				return "everything"
			}
			return "+ a rule"
		}}
)

func number(n int64) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatInt(n, 10)
}

func guard(name, title, words string, otherwise int64, value func(*rule.Safety) *int64) *phrase {
	return &phrase{path: []string{"safety", name}, how: byNumber, title: title,
		hint: fmt.Sprintf("nothing for %d", otherwise),
		value: func(j *job.Job) string {
			if v := value(&j.Safety); v != nil {
				return strconv.FormatInt(*v, 10)
			}
			return ""
		},
		words: func(j *job.Job) string { return fmt.Sprintf(words, rule.Limit(value(&j.Safety), otherwise)) }}
}

// The guards.
var (
	emptySource = choose("safety.empty-source", "An empty source",
		func(j *job.Job) string { return map[bool]string{true: "", false: "false"}[j.Safety.HoldsEmpty()] },
		choice{"", "is empty", "A source with nothing in it holds the plan back: it may not be mounted."},
		choice{"false", "(may be empty)", "An empty source is taken at its word."})
	races = choose("safety.races", "Other programs that write there at the same time",
		func(j *job.Job) string { return map[rule.Races]string{rule.RefuseRaces: "refuse"}[j.Safety.Races] },
		choice{"", "check before and after",
			"A store that cannot decide in the moment of writing is looked at just before and after."},
		choice{"refuse", "only where the store decides",
			"A run does not begin where the store does not decide that nothing unseen is overwritten."})
	unverified = choose("safety.unverified", "Objects that no checksum can verify", func(j *job.Job) string {
		return map[rule.Unverified]string{rule.FailUnverified: "fail"}[j.Safety.Unverified]
	},
		choice{"", "counted",
			"Objects of which no side keeps a checksum are done, and their number is told."},
		choice{"fail", "failed", "Such objects have failed, and the run is not clean."})
	evidence = choose("safety.evidence", "Copies whose source keeps nothing to hold them against",
		func(j *job.Job) string {
			return map[rule.Evidence]string{rule.OneReading: "one-reading"}[j.Safety.Evidence]
		},
		choice{"", "a second reading of it",
			"Where the source keeps no checksum it is read again, in full, and held against the copy before it goes."},
		choice{"one-reading", "the reading that made it",
			"It goes by one reading: what was damaged on the way here is lost with it."})
	readTwice = choose("read-twice", "Sources that keep no checksum",
		func(j *job.Job) string { return map[bool]string{true: "true"}[j.ReadTwice] },
		choice{"", "once", "Content is read once."},
		choice{"true", "twice", "Content that no checksum can verify is read twice, and has to be the same both " +
			"times."})
	removals = guard("deletions", "The most objects a plan may delete", "more than %d are deleted",
		rule.DefaultRemovals, func(g *rule.Safety) *int64 { return g.Deletions })
	removalShare = guard("deletion-share", "The most it may delete, in percent of the target", "or more than %d %%",
		rule.DefaultRemovalShare, func(g *rule.Safety) *int64 { return g.DeletionShare })
	shrink = guard("shrink", "By how many percent the source may shrink", "shrank by %d %%", rule.DefaultShrink,
		func(g *rule.Safety) *int64 { return g.Shrink })
	drift = guard("drift", "How many percent may have changed at the target since the last run",
		"or %d %% changed at the target", rule.DefaultDrift, func(g *rule.Safety) *int64 { return g.Drift })
)

// rules are those a selection can have, with what begins their phrase.
var rules = []*phrase{
	listRule("include", "only", "Patterns of what is taken", "**/*.wav 2026/**",
		func(s *rule.Selection) []string { return s.Include }),
	listRule("exclude", "except", "Patterns of what is left out", "**/*.tmp **/scratch/**",
		func(s *rule.Selection) []string { return s.Exclude }),
	textRule("prefix", "starting with", "The start of keys that are taken", "2026/",
		func(s *rule.Selection) string { return s.Prefix }),
	textRule("suffix", "ending in", "The end of keys that are taken", ".wav",
		func(s *rule.Selection) string { return s.Suffix }),
	textRule("older-than", "older than", "The least age", "30d, 12h, 2w",
		func(s *rule.Selection) string { return s.OlderThan }),
	textRule("newer-than", "newer than", "The greatest age", "30d, 12h, 2w",
		func(s *rule.Selection) string { return s.NewerThan }),
	textRule("modified-from", "modified from", "The first day or time of modification", "2026-01-31",
		func(s *rule.Selection) string { return s.From }),
	textRule("modified-until", "modified before", "The day or time before which it was modified", "2026-01-31",
		func(s *rule.Selection) string { return s.Until }),
	textRule("smallest", "of at least", "The least size", "4KiB, 2GB",
		func(s *rule.Selection) string { return s.Smallest }),
	textRule("largest", "of at most", "The greatest size", "4KiB, 2GB",
		func(s *rule.Selection) string { return s.Largest }),
	listRule("classes", "of class", "Storage classes", "STANDARD GLACIER",
		func(s *rule.Selection) []string { return s.Classes }),
	{path: []string{"select", "tags"}, how: byPairs, title: "Tags that must be there, asked for object by object",
		hint: "project=dawn", value: func(j *job.Job) string { return pairsText(j.Select.Tags) },
		words: func(j *job.Job) string { return "tagged " + pairsText(j.Select.Tags) }},
}

func listRule(name, words, title, hint string, value func(*rule.Selection) []string) *phrase {
	return &phrase{path: []string{"select", name}, how: byList, title: title, hint: hint,
		value: func(j *job.Job) string { return listText(value(&j.Select)) },
		words: func(j *job.Job) string { return words + " " + strings.Join(value(&j.Select), ", ") }}
}

func textRule(name, words, title, hint string, value func(*rule.Selection) string) *phrase {
	return &phrase{path: []string{"select", name}, how: byText, title: title, hint: hint,
		value: func(j *job.Job) string { return value(&j.Select) },
		words: func(j *job.Job) string { return words + " " + value(&j.Select) }}
}

// listText and pairsText are values as they are typed; a blank in one needs
// quotes around it.
func listText(list []string) string {
	quoted := make([]string, len(list))
	for i, s := range list {
		if quoted[i] = s; strings.ContainsAny(s, " \"") {
			quoted[i] = strconv.Quote(s)
		}
	}
	return strings.Join(quoted, " ")
}

func pairsText(m map[string]string) string {
	var all []string
	for _, name := range slices.Sorted(maps.Keys(m)) {
		all = append(all, name+"="+m[name])
	}
	return listText(all)
}

// words splits what was typed at blanks outside quotes and braces.
func words(text string) (all []string) {
	for text = strings.TrimSpace(text); text != ""; text = strings.TrimSpace(text) {
		if text[0] == '"' {
			if q, err := strconv.QuotedPrefix(text); err == nil {
				s, _ := strconv.Unquote(q)
				all, text = append(all, s), text[len(q):]
				continue
			}
		}
		end := strings.IndexByte(text, ' ')
		if end < 0 {
			end = len(text)
		}
		all, text = append(all, text[:end]), text[end:]
	}
	return all
}

// typed turns what was typed into the value that a job's text gets.
func (p *phrase) typed(text string) any {
	text = strings.TrimSpace(text)
	switch p.how {
	case byList:
		return words(text)
	case byPairs:
		m := map[string]string{}
		for _, w := range words(text) {
			name, value, _ := strings.Cut(w, "=")
			m[name] = value
		}
		return m
	case byNumber:
		if n, err := strconv.ParseInt(text, 10, 64); err == nil {
			return n
		}
	case byChoice:
		switch text {
		case "true":
			return true
		case "false":
			return false
		}
	}
	return text
}

// sentence is the job as lines of words and phrases.
func sentence(j *job.Job) [][]segment {
	taken := []segment{}
	if j.Select.Empty() {
		taken = append(taken, say(anotherRule), plain(" in it"))
	} else {
		for _, r := range rules {
			if r.value(j) != "" {
				taken = append(taken, say(r), plain("  "))
			}
		}
		taken = append(taken, say(anotherRule))
	}
	lines := [][]segment{
		{say(direction), plain(" "), say(landing), plain(" "), say(source)},
		taken,
		lands(j),
	}
	if j.Direction == rule.TwoWay {
		lines = append(lines, []segment{plain("what changed since the last run, compared by "), say(compareBy),
			plain(" ; where both changed: "), say(conflicts)})
	} else {
		rest := []segment{plain("what is new or changed, compared by "), say(compareBy),
			plain(" ; when the target differs: "), say(different), plain(" ; target-only objects: "),
			say(targetOnly)}
		if j.TargetOnly == rule.MoveToTrash {
			rest = append(rest, plain(" in "), say(trash))
		}
		lines = append(lines, rest)
	}
	guards := []segment{plain("safety limits: hold it back when the source "), say(emptySource), plain(" or "),
		say(shrink),
		plain(" , when "), say(removals), plain(" "), say(removalShare)}
	if j.Afterwards.Leaves() { // a source that the job empties is no cause for worry
		guards = []segment{plain("safety limits: hold it back when "), say(removals), plain(" "), say(removalShare)}
	}
	if j.Direction == rule.OneWay {
		guards = append(guards, plain(" , "), say(drift))
	}
	lines = append(lines, guards)
	lines = append(lines, []segment{plain("other writers at the target: "), say(races),
		plain(" ; without a checksum: read "),
		say(readTwice), plain(" , "), say(unverified)})
	last := []segment{plain("proof by "), say(proof), plain(" and "), say(digest), plain(" ; this is "), say(template)}
	if j.Direction == rule.OneWay {
		then := []segment{plain("afterwards "), say(afterwards)}
		switch j.Afterwards {
		case rule.ArchiveSource:
			then = append(then, plain(" in "), say(archive))
		case rule.TagSource:
			then = append(then, plain(" "), say(sourceTags))
		}
		if j.Afterwards != rule.KeepSource {
			then = append(then, plain(" , shown by "), say(evidence))
		}
		last = append(append(then, plain(" ; ")), last...)
	}
	pace := []segment{say(bandwidth)}
	if len(j.Limits.Bandwidth) > 0 {
		pace = append(pace, plain(" , in "), say(zone))
	}
	lines = append(lines, when(j)...)
	return append(lines,
		append(append([]segment{plain("over "), say(streams), plain(" , ")}, pace...), plain(" , "), say(partSize),
			plain(" , "), say(durable), plain(" , from "), say(surveyAge)),
		last)
}
