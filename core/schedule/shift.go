package schedule

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

var (
	timeInText = regexp.MustCompile(`\b\d\d?:\d\d\b`)
	cronFixed  = regexp.MustCompile(`^(\s*cron\s+)(\d+)(\s+)(\d+)(\s+.*)$`)
)

// Shift moves the times of the day that a rule names by so many minutes. False where it names none,
// or where one would leave its day.
func Shift(text string, minutes int) (string, bool) {
	if m := cronFixed.FindStringSubmatch(text); m != nil {
		minute, _ := strconv.Atoi(m[2]) // digits, by the form
		hour, _ := strconv.Atoi(m[4])
		at := hour*60 + minute + minutes
		if at < 0 || at >= 24*60 {
			return text, false
		}
		return fmt.Sprintf("%s%d%s%d%s", m[1], at%60, m[3], at/60, m[5]), true
	}
	words := wordsOf(text)
	if len(words) == 0 || words[0].text == "cron" || words[0].text == "rrule" {
		return text, false
	}
	begin := strings.LastIndex(text, "at ") // dates of "once" have no ":"
	moved, ok := timeInText.MatchString(text[max(begin, 0):]), true
	shifted := timeInText.ReplaceAllStringFunc(text, func(t string) string {
		minute, is := parseTime(t)
		if minute += minutes; !is || minute < 0 || minute >= 24*60 {
			ok = false
			return t
		}
		return clockWords(minute)
	})
	return shifted, moved && ok
}
