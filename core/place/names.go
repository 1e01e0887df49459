package place

import (
	"strings"

	"golang.org/x/text/unicode/norm"
)

// NameClasses are the kinds of names a key is of, for which a store may be known
// to keep another name; none for a plain one.
func NameClasses(key string) []NameClass {
	var all []NameClass
	add := func(c NameClass, is bool) {
		if is {
			all = append(all, c)
		}
	}
	plain := true
	for i := range len(key) {
		if c := key[i]; c >= 0x7f || c < 0x20 || 'A' <= c && c <= 'Z' || c == '\\' || c == '%' || c == '+' || c == ' ' || c == '/' || c == '.' {
			plain = false
			break
		}
	}
	if plain {
		return nil
	}
	framed := "/" + key + "/"
	add(Backslashes, strings.Contains(key, `\`))
	add(EmptyParts, strings.Contains(key, "//") || strings.HasPrefix(key, "/"))
	add(DotParts, strings.Contains(framed, "/./") || strings.Contains(framed, "/../"))
	add(Capitals, strings.ToLower(key) != key)
	add(Decomposed, !norm.NFC.IsNormalString(key))
	add(TrailingEnds, strings.HasSuffix(key, "/") || strings.Contains(framed, "./"))
	add(Blanks, strings.Contains(framed, "/ ") || strings.Contains(framed, " /"))
	add(Controls, strings.ContainsFunc(key, func(r rune) bool { return r < ' ' || r == 0x7f }))
	add(Escapes, strings.ContainsAny(key, "%+"))
	return all
}

// OddNames is an example of each kind of name, for trying.
var OddNames = map[NameClass]string{
	Backslashes: `reed\bed`, EmptyParts: "reed//bed", DotParts: "reed/./bed", Capitals: "Reed", Decomposed: "re\u0301ed",
	TrailingEnds: "reed.", Blanks: "reed ", Controls: "reed\x01bed", Escapes: "reed%2Fbed+1",
}
