package places

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"lumtra/core/object"
	"lumtra/core/place"
)

// Metadata and tags are edited as one line: "name = value; other = value". A
// backslash stands before a semicolon or a backslash that is part of a value.

// pairs is the line for a map. What a line cannot hold, such as a value with a
// line break, is not in it, and so stays as it is.
func pairs(m map[string]string) string {
	var all []string
	for _, name := range sortedNames(m) {
		value := m[name]
		if strings.ContainsFunc(name+value, func(r rune) bool {
			return !unicode.IsPrint(r) ||
				r == unicode.ReplacementChar
		}) ||
			strings.ContainsAny(name, "=;\\") || strings.TrimSpace(name) != name || strings.TrimSpace(value) != value {
			continue
		}
		all = append(all, name+" = "+strings.NewReplacer(`\`, `\\`, ";", `\;`).Replace(value))
	}
	return strings.Join(all, "; ")
}

// split parts a line at its semicolons and takes the backslashes away.
func split(text string) []string {
	var parts []string
	var b strings.Builder
	escaped := false
	for _, r := range text {
		switch {
		case escaped:
			b.WriteRune(r)
			escaped = false
		case r == '\\':
			escaped = true
		case r == ';':
			parts = append(parts, b.String())
			b.Reset()
		default:
			b.WriteRune(r)
		}
	}
	return append(parts, b.String())
}

// read makes of a line what it sets and what it only names.
func read(fold func(string) string, text string) (set map[string]string, drop []string, err error) {
	set = map[string]string{}
	for _, part := range split(text) {
		name, value, ok := strings.Cut(part, "=")
		name = strings.TrimSpace(name)
		if fold != nil {
			name = fold(name)
		}
		switch {
		case name == "" && !ok:
		case name == "":
			return nil, nil, fmt.Errorf("%q has no name before the =", object.Display(part))
		case ok:
			set[name] = strings.TrimSpace(value)
		default:
			drop = append(drop, name)
		}
	}
	return set, drop, nil
}

// parsePairs reads an edited line into a change: what is new or different is
// set; what is named alone, or stood there before and does not now, is dropped.
// fold, when not nil, is how names are written.
func parsePairs(fold func(string) string, text, before string) (place.MetadataChange, error) {
	set, drop, err := read(fold, text)
	was, _, _ := read(fold, before)
	change := place.MetadataChange{Set: map[string]string{}, Drop: drop}
	for name, value := range set {
		if old, ok := was[name]; !ok || old != value {
			change.Set[name] = value
		}
	}
	for name := range was {
		if _, still := set[name]; !still && !slices.Contains(drop, name) {
			change.Drop = append(change.Drop, name)
		}
	}
	return change, err
}
