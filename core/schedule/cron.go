package schedule

import (
	"math/bits"
	"slices"
	"strings"

	"github.com/robfig/cron/v3"
)

// cronParser reads five fields: minute, hour, day of the month, month, weekday, and the words for
// common rules such as "@daily".
var cronParser = cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow | cron.Descriptor)

// cronStar is the bit by which the parser tells that a field was "*".
const cronStar = 1 << 63

// parseCron reads a cron expression (crontab(5) as POSIX.1 has it, with names, steps and ranges);
// from is where it stands in the rule. Where the day of the month and the weekday are both named,
// a day that fits one of them is taken.
func parseCron(text string, from int) (rule, error) {
	if strings.Contains(text, "TZ=") {
		return nil, wrongStart(from, "a cron expression has no zone of its own here: set zone")
	}
	if strings.HasPrefix(text, "@every") {
		return nil, wrongStart(from, "write \"every 15 minutes\" in place of @every")
	}
	parsed, err := cronParser.Parse(text)
	if err != nil {
		return nil, wrongStart(from+cronMistake(text), "%s", cronWords(text, err))
	}
	s := parsed.(*cron.SpecSchedule) // what the parser makes of all but @every
	d := days{either: s.Dom&cronStar == 0 && s.Dow&cronStar == 0}
	fill(d.months[:], s.Month)
	fill(d.monthDays[:], s.Dom)
	fill(d.weekdays[:], s.Dow)
	if s.Hour&cronStar != 0 {
		e := &even{days: d}
		fill(e.minutes[:], s.Minute)
		return e, nil
	}
	c := &calendar{days: d}
	for hour := range 24 {
		for minute := range 60 {
			if s.Hour>>hour&1 != 0 && s.Minute>>minute&1 != 0 {
				c.times = append(c.times, hour*60+minute)
			}
		}
	}
	return c, nil
}

// fill sets what a field names; "*" leaves all unset, which is all.
func fill(set []bool, field uint64) {
	if field&cronStar != 0 && bits.OnesCount64(field&^cronStar) > 1 && len(set) != 60 {
		return
	}
	for i := range set {
		set[i] = field>>i&1 != 0
	}
}

// cronMistake is where the field begins that makes an expression wrong.
func cronMistake(text string) int {
	words := wordForm2.FindAllStringIndex(text, -1)
	usual := []string{"*", "*", "*", "*", "*"}
	for i, m := range words {
		if i == len(usual) {
			return m[0]
		}
		one := slices.Clone(usual)
		one[i] = text[m[0]:m[1]]
		if _, err := cronParser.Parse(strings.Join(one, " ")); err != nil {
			return m[0]
		}
	}
	return len(text)
}

// cronWords says what is wrong with an expression.
func cronWords(text string, err error) string {
	names := []string{"minute (0-59)", "hour (0-23)", "day of the month (1-31)", "month (1-12)",
		"weekday (0-6, sun-sat)"}
	n := len(strings.Fields(text))
	if at := cronMistake(text); at < len(text) && n <= len(names) {
		i := len(strings.Fields(text[:at]))
		return "the " + names[i] + " of the cron expression is not one: " + err.Error()
	}
	if n != len(names) && !strings.HasPrefix(text, "@") {
		return "a cron expression has five fields, as in \"30 23 * * mon-fri\": minute, hour, day of the month, " +
			"month, weekday"
	}
	return "the cron expression cannot be read: " + err.Error()
}
