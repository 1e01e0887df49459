package nearest

import (
	"fmt"
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"
)

// shown is how many names are listed where none is alike.
const shown = 12

// Of gives the known name most like the one that was typed, "" where none is. Alike are
// names with one letter in three other, at most, and those the typed one begins.
func Of(typed string, known []string) string {
	if typed == "" {
		return ""
	}
	best, least := "", max(1, len([]rune(typed))/3)+1
	for _, k := range slices.Sorted(slices.Values(known)) {
		d := distance(strings.ToLower(typed), strings.ToLower(k))
		if d < least {
			best, least = k, d
		}
	}
	if best != "" || len(typed) < 2 {
		return best
	}
	for _, k := range slices.Sorted(slices.Values(known)) {
		if strings.HasPrefix(strings.ToLower(k), strings.ToLower(typed)) {
			return k
		}
	}
	return ""
}

// distance is how many letters differ; two that changed places count as one.
func distance(a, b string) int {
	d := levenshtein.ComputeDistance(a, b)
	if d == 2 && len(a) == len(b) && string(letters(a)) == string(letters(b)) {
		return 1
	}
	return d
}

func letters(s string) []byte {
	all := []byte(s)
	slices.Sort(all)
	return all
}

// Hint is what to say behind "there is no thing called typed": what may be meant, or what
// there is.
func Hint(typed string, known []string) string {
	if near := Of(typed, known); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	known = slices.Sorted(slices.Values(known))
	switch {
	case len(known) == 0:
		return "; there are none yet"
	case len(known) == 1:
		return "; there is only " + known[0]
	case len(known) > shown:
		return fmt.Sprintf("; there are %s and %d more", strings.Join(known[:shown], ", "), len(known)-shown)
	}
	return "; there are " + strings.Join(known, ", ")
}
