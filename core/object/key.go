package object

import (
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Display makes any text from a store safe and honest to show: control bytes,
// invalid UTF-8, invisible and direction-changing characters come out as
// backslash escapes, so that no name can steer a terminal, break a line or
// pretend to be another. Text that needs nothing is returned as it is.
func Display(s string) string {
	clean := true
	for i := 0; i < len(s); i++ {
		if c := s[i]; c < 0x20 || c >= 0x7f || c == '\\' {
			clean = false
			break
		}
	}
	if clean {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && n <= 1:
			b.WriteString(`\x`)
			b.WriteByte(hexDigits[s[i]>>4])
			b.WriteByte(hexDigits[s[i]&15])
		case r == '\\':
			b.WriteString(`\\`)
		case hidden(r):
			q := strconv.QuoteRuneToASCII(r)
			b.WriteString(q[1 : len(q)-1])
		default:
			b.WriteString(s[i : i+n])
		}
		i += n
	}
	return b.String()
}

// DisplayKey is [Display] for keys and names: blanks at their ends, and at the ends of their
// parts, which nobody would see, come out as escapes, too.
func DisplayKey(s string) string {
	shown := Display(s)
	if !strings.Contains(shown, " ") {
		return shown
	}
	parts := strings.Split(shown, "/")
	for i, p := range parts {
		inner := strings.Trim(p, " ")
		if inner == p {
			continue
		}
		ahead := len(p) - len(strings.TrimLeft(p, " "))
		parts[i] = strings.Repeat(`\x20`, ahead) + inner + strings.Repeat(`\x20`, len(p)-ahead-len(inner))
	}
	return strings.Join(parts, "/")
}

const hexDigits = "0123456789abcdef"

// hidden tells whether a rune would not show as itself: controls (Cc), format
// characters such as direction overrides and zero-width joiners (Cf), line and
// paragraph separators, unassigned and private-use code points.
func hidden(r rune) bool {
	return r != ' ' && !unicode.IsPrint(r)
}

// Base is the last part of a key: "b" of "a/b", "b/" of "a/b/".
func Base(key string) string {
	end := strings.TrimSuffix(key, "/")
	return key[strings.LastIndexByte(end, '/')+1:]
}

// Parent is the prefix a key lies in, with its "/": "a/" of "a/b" and of
// "a/b/", "" at the top.
func Parent(key string) string {
	return key[:len(key)-len(Base(key))]
}
