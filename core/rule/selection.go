package rule

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/dustin/go-humanize"

	"lumtra/core/object"
)

// Selection says which objects a job takes. An object must pass every rule;
// the zero Selection takes all.
type Selection struct {
	// Include takes what any of its patterns matches, Exclude drops what any of
	// its does. Patterns match whole keys: "*" within a part, "**" across "/".
	Include []string `toml:"include,omitempty"`
	Exclude []string `toml:"exclude,omitempty"`
	Prefix  string   `toml:"prefix,omitempty"`
	Suffix  string   `toml:"suffix,omitempty"`
	// OlderThan and NewerThan are ages such as "30d" or "12h".
	OlderThan string `toml:"older-than,omitempty"`
	NewerThan string `toml:"newer-than,omitempty"`
	// From and Until bound the time of modification: "2026-01-31", which is
	// midnight where Lumtra runs, or RFC 3339.
	From  string `toml:"modified-from,omitempty"`
	Until string `toml:"modified-until,omitempty"`
	// Smallest and Largest are sizes such as "4KiB", both included.
	Smallest string   `toml:"smallest,omitempty"`
	Largest  string   `toml:"largest,omitempty"`
	Classes  []string `toml:"classes,omitempty"`
	// Tags must all be there with these values. They are asked for object by
	// object.
	Tags map[string]string `toml:"tags,omitempty"`
}

// Empty tells that everything is taken.
func (s *Selection) Empty() bool {
	return len(s.Include)+len(s.Exclude)+len(s.Classes)+len(s.Tags) == 0 &&
		s.Prefix+s.Suffix+s.OlderThan+s.NewerThan+s.From+s.Until+s.Smallest+s.Largest == ""
}

func (s *Selection) check() (setting, what string) {
	_, setting, what = s.compile(time.Now())
	return setting, what
}

// Tally is what one rule of a selection does to the objects of a source. Each
// rule is counted on its own, whatever the others say.
type Tally struct {
	// Rule is the rule as people read it.
	Rule string
	// Takes and Drops are the objects that pass it and that do not, with their
	// bytes. A pattern to include only takes, one to exclude only drops.
	Takes, Drops           int64
	TakesBytes, DropsBytes int64
	// Idle tells, in words, of a rule that matches nothing; "" for others.
	Idle string
}

// rule is one rule, compiled.
type rule struct {
	text    string
	include bool // one of those of which one must match
	exclude bool
	byName  bool // looks at the key alone, so that it holds for both sides
	bySize  bool
	// takes tells whether the rule lets the object through; for exclude rules
	// whether it does not match.
	takes func(e *object.Entry) bool
}

// Matcher is a compiled selection. It may be shared.
type Matcher struct {
	rules    []rule
	includes int
	tags     map[string]string
}

// Compile readies the selection for objects; ages count back from now. It must
// have passed [Rules.Check].
func (s *Selection) Compile(now time.Time) (*Matcher, error) {
	m, setting, what := s.compile(now)
	if what != "" {
		return nil, fmt.Errorf("%s: %s", setting, what)
	}
	return m, nil
}

func (s *Selection) compile(now time.Time) (m *Matcher, setting, what string) {
	m = &Matcher{includes: len(s.Include), tags: s.Tags}
	for _, list := range []struct {
		name     string
		patterns []string
	}{{"include", s.Include}, {"exclude", s.Exclude}} {
		for _, p := range list.patterns {
			if what := badPattern(list.name, p); what != "" {
				return nil, "select." + list.name, what
			}
			match := pattern(p)
			r := rule{text: list.name + " " + p, include: list.name == "include", exclude: list.name == "exclude",
				byName: true}
			r.takes = func(e *object.Entry) bool { return match(e.Key) }
			if r.exclude {
				r.takes = func(e *object.Entry) bool { return !match(e.Key) }
			}
			m.rules = append(m.rules, r)
		}
	}
	if p := s.Prefix; p != "" {
		m.rules = append(m.rules, rule{text: "starts with " + p, byName: true,
			takes: func(e *object.Entry) bool { return strings.HasPrefix(e.Key, p) }})
	}
	if x := s.Suffix; x != "" {
		m.rules = append(m.rules,
			rule{text: "ends in " + x, byName: true,
				takes: func(e *object.Entry) bool { return strings.HasSuffix(e.Key, x) }})
	}
	if setting, what = m.addTimes(s, now); what != "" {
		return nil, setting, what
	}
	if setting, what = m.addSizes(s); what != "" {
		return nil, setting, what
	}
	if classes := s.Classes; len(classes) > 0 {
		m.rules = append(m.rules, rule{text: "class " + strings.Join(classes, " or "),
			takes: func(e *object.Entry) bool {
				return slices.ContainsFunc(classes, func(c string) bool {
					return strings.EqualFold(c, e.Class) || e.Class == "" && strings.EqualFold(c, "standard")
				})
			}})
	}
	return m, "", ""
}

// badPattern tells what is wrong with a pattern, "" when nothing is.
func badPattern(name, p string) string {
	switch {
	case p == "" || !doublestar.ValidatePattern(p):
		return fmt.Sprintf("%s has the pattern %q, which cannot be read; patterns look like \"**/*.wav\" or "+
			"\"2026/**\"", name, p)
	case strings.HasPrefix(p, "/"):
		return fmt.Sprintf("%s has the pattern %q; keys do not start with \"/\": write %q", name, p,
			strings.TrimLeft(p, "/"))
	}
	return ""
}

func (m *Matcher) addTimes(s *Selection, now time.Time) (setting, what string) {
	for _, x := range []struct {
		name, text string
		older      bool
	}{{"older-than", s.OlderThan, true}, {"newer-than", s.NewerThan, false}} {
		if x.text == "" {
			continue
		}
		age, ok := ParseAge(x.text)
		if !ok {
			return "select." + x.name, fmt.Sprintf("%s is %q; it is an age such as \"30d\", \"12h\" or \"2w\"",
				x.name, x.text)
		}
		m.addTime(strings.ReplaceAll(x.name, "-", " ")+" "+x.text, now.Add(-age), !x.older)
	}
	for _, x := range []struct {
		name, text, words string
		from              bool
	}{{"modified-from", s.From, "modified from ", true}, {"modified-until", s.Until, "modified until ", false}} {
		if x.text == "" {
			continue
		}
		at, ok := parseTime(x.text)
		if !ok {
			return "select." + x.name,
				fmt.Sprintf("%s is %q; it is a date such as \"2026-01-31\" or a time such as "+
					"\"2026-01-31T08:00:00Z\"", x.name, x.text)
		}
		m.addTime(x.words+x.text, at, x.from)
	}
	return "", ""
}

// addTime takes what was modified at the time or after it, or before it.
func (m *Matcher) addTime(text string, at time.Time, after bool) {
	m.rules = append(m.rules,
		rule{text: text, takes: func(e *object.Entry) bool { return e.Modified.Before(at) != after }})
}

func (m *Matcher) addSizes(s *Selection) (setting, what string) {
	for _, x := range []struct {
		name, text string
		least      bool
	}{{"smallest", s.Smallest, true}, {"largest", s.Largest, false}} {
		if x.text == "" {
			continue
		}
		n, err := humanize.ParseBytes(x.text)
		if err != nil || n > 1<<62 {
			return "select." + x.name, fmt.Sprintf("%s is %q; it is a size such as \"4KiB\" or \"2GB\"", x.name, x.text)
		}
		bound, words := int64(n), "at most "
		takes := func(e *object.Entry) bool { return e.Size <= bound }
		if x.least {
			words, takes = "at least ", func(e *object.Entry) bool { return e.Size >= bound }
		}
		m.rules = append(m.rules, rule{text: words + x.text, bySize: true, takes: takes})
	}
	return "", ""
}

var ages = regexp.MustCompile(`^([0-9]{1,6})(min|h|d|w)$`)

// ParseAge reads "30d", "12h", "90min" or "2w".
func ParseAge(text string) (time.Duration, bool) {
	parts := ages.FindStringSubmatch(text)
	if parts == nil {
		return 0, false
	}
	n, _ := strconv.Atoi(parts[1])
	unit := map[string]time.Duration{"min": time.Minute, "h": time.Hour, "d": 24 * time.Hour,
		"w": 7 * 24 * time.Hour}[parts[2]]
	return time.Duration(n) * unit, true
}

// parseTime reads a date, as midnight in the local zone, or RFC 3339.
func parseTime(text string) (time.Time, bool) {
	if t, err := time.ParseInLocation(time.DateOnly, text, time.Local); err == nil {
		return t, true
	}
	t, err := time.Parse(time.RFC3339, text)
	return t, err == nil
}

// pattern makes a function that matches keys. The two forms nearly all
// patterns have are matched without looking at every part.
func pattern(p string) func(key string) bool {
	const meta = `*?[]{}\`
	if end, ok := strings.CutPrefix(p, "**/*"); ok && end != "" && !strings.ContainsAny(end, meta+"/") {
		return func(key string) bool { return strings.HasSuffix(key, end) }
	}
	if start, ok := strings.CutSuffix(p, "/**"); ok && start != "" && !strings.ContainsAny(start, meta) {
		return func(key string) bool {
			return strings.HasPrefix(key, start) && (len(key) == len(start) || key[len(start)] == '/')
		}
	}
	return func(key string) bool { return doublestar.MatchUnvalidated(p, key) }
}

// NeedsTags tells that [Matcher.TakesTags] has to be asked too.
func (m *Matcher) NeedsTags() bool { return len(m.tags) > 0 }

// TakesTags tells whether an object with these tags is taken.
func (m *Matcher) TakesTags(tags map[string]string) bool {
	for name, value := range m.tags {
		if tags[name] != value {
			return false
		}
	}
	return true
}

// TagRule is the rule about tags as people read it.
func (m *Matcher) TagRule() string {
	var all []string
	for name, value := range m.tags {
		all = append(all, name+"="+value)
	}
	slices.Sort(all)
	return "tagged " + strings.Join(all, ", ")
}

// Tallies are empty counts, one for each rule.
func (m *Matcher) Tallies() []Tally {
	var t []Tally
	for i := range m.rules {
		t = append(t, Tally{Rule: m.rules[i].text})
	}
	return t
}

// Takes tells whether the object is taken and, if not, the number of the rule
// that drops it. Tallies, when not nil, are counted on.
func (m *Matcher) Takes(e *object.Entry, tallies []Tally) (taken bool, by int) {
	named, by := m.includes == 0, -1
	for i := range m.rules {
		r := &m.rules[i]
		if tallies == nil && (by >= 0 || r.include && named) {
			continue
		}
		ok := r.takes(e)
		switch {
		case r.include:
			named = named || ok
		case !ok && by < 0:
			by = i
		}
		if i == m.includes-1 && !named {
			by = 0
		}
		if tallies == nil {
			continue
		}
		t := &tallies[i]
		switch {
		case ok && !r.exclude:
			t.Takes++
			t.TakesBytes += e.Size
		case !ok && !r.include:
			t.Drops++
			t.DropsBytes += e.Size
		}
	}
	return by < 0, by
}

// TakesName is Takes for an object that is only at the target: by what can be
// told of it there, its name and size. sure is false when there are rules it
// cannot be held against.
func (m *Matcher) TakesName(e *object.Entry) (taken, sure bool) {
	named, sure := m.includes == 0, len(m.tags) == 0
	for i := range m.rules {
		r := &m.rules[i]
		switch {
		case !r.byName && !r.bySize:
			sure = false
		case r.include:
			named = named || r.takes(e)
		case !r.takes(e):
			return false, true
		}
	}
	return named, sure
}

// Text is a rule by its number, as people read it.
func (m *Matcher) Text(number int) string {
	if number < m.includes {
		return "no pattern to include matches it"
	}
	return m.rules[number].text
}

// Add adds another count of the same rule.
func (t *Tally) Add(o Tally) {
	t.Takes += o.Takes
	t.Drops += o.Drops
	t.TakesBytes += o.TakesBytes
	t.DropsBytes += o.DropsBytes
}

// Flag marks the rules that match nothing of a source that holds something.
func (m *Matcher) Flag(tallies []Tally, objects int64) {
	for i := range tallies {
		r, t := &m.rules[i], &tallies[i]
		switch {
		case objects == 0:
		case r.exclude && t.Drops == 0, r.include && t.Takes == 0:
			t.Idle = "matches nothing"
			_, p, _ := strings.Cut(r.text, " ")
			if !strings.Contains(p, "/") && !strings.Contains(p, "**") {
				t.Idle += ": it looks at the top only; **/" + p + " looks everywhere"
			}
		case !r.exclude && !r.include && t.Takes == 0:
			t.Idle = "takes nothing"
		}
	}
}

// Literal is the pattern that matches one key and no other.
func Literal(key string) string {
	var b strings.Builder
	for i, c := range []byte(key) {
		if strings.IndexByte(`\*?[]{}`, c) >= 0 || i == 0 && c == '/' {
			b.WriteByte('\\')
		}
		b.WriteByte(c)
	}
	return b.String()
}
