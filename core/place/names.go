package place

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/text/unicode/norm"

	"lumtra/core/object"
)

// NameClasses are the kinds of names a key is of, for which a store may be known
// to keep another name; none for a plain one.
func NameClasses(key string) []NameClass {
	if len(key) <= longPart && plainName(key) {
		return nil
	}
	return classesOf(key)
}

// plainName tells that a key is of no kind, as that of most objects is, at the cost of one look at each byte.
// Of what may be odd by where it stands it takes the clear cases only.
func plainName(key string) bool {
	for i := range len(key) {
		switch c := key[i]; {
		case telling[c]:
			return false
		case edge(c) && (i == 0 || i == len(key)-1 || edge(key[i-1])):
			return false
		}
	}
	return true
}

// edge tells of bytes that are odd at the ends of a part, and beside each other.
func edge(c byte) bool { return c == '/' || c == '.' || c == ' ' }

func classesOf(key string) (all []NameClass) {
	add := func(c NameClass, is bool) {
		if is {
			all = append(all, c)
		}
	}
	framed := "/" + key + "/"
	add(Backslashes, strings.Contains(key, `\`))
	add(EmptyParts, strings.Contains(key, "//") || strings.HasPrefix(key, "/"))
	add(DotParts, strings.Contains(framed, "/./") || strings.Contains(framed, "/../"))
	add(Capitals, strings.ToLower(key) != key)
	add(Decomposed, !norm.NFC.IsNormalString(key))
	last := key[strings.LastIndexByte(key, '/')+1:]
	add(TrailingEnds, strings.HasSuffix(key, "/") || strings.HasSuffix(key, ".") && last != "." && last != "..")
	add(PartEnds, dotAtPart(key))
	add(Blanks, strings.Contains(framed, "/ ") || strings.Contains(framed, " /"))
	add(Controls, strings.ContainsFunc(key, func(r rune) bool {
		return (r < ' ' || r == 0x7f) && r != '\n' && r != '\r'
	}))
	add(LineBreaks, strings.ContainsAny(key, "\n\r"))
	add(Escapes, strings.ContainsAny(key, "%+"))
	add(Reserved, strings.ContainsAny(key, reserved))
	add(NonChars, strings.ContainsAny(key, "\ufffe\uffff"))
	add(Replaced, strings.Contains(key, "\ufffd"))
	add(Astral, strings.ContainsFunc(key, func(r rune) bool { return r > 0xffff }))
	add(LongParts, len(key) > longPart && slices.ContainsFunc(strings.Split(key, "/"), func(part string) bool {
		return len(part) > longPart
	}))
	return all
}

// reserved are characters that addresses are made of (RFC 3986, section 2.2), and those that shells and
// documents mind.
const reserved = "?#[]@!$&'()*,;=:<>\"|^`{}~"

// longPart is the longest name of most file systems, in bytes.
const longPart = 255

// telling are the bytes that can make a name odd wherever they stand.
var telling = func() (is [256]bool) {
	for c := range is {
		is[c] = c < 0x20 || c >= 0x7f || 'A' <= c && c <= 'Z' || strings.IndexByte(`\%+`+reserved, byte(c)) >= 0
	}
	return is
}()

// dotAtPart tells of a name of which a part, but for the last, ends in a dot.
func dotAtPart(key string) bool {
	parts := strings.Split(key, "/")
	for _, part := range parts[:len(parts)-1] {
		if strings.HasSuffix(part, ".") && part != "." && part != ".." {
			return true
		}
	}
	return false
}

// OddNames is an example of each kind of name, for trying.
var OddNames = map[NameClass]string{
	Backslashes: `reed\bed`, EmptyParts: "reed//bed", DotParts: "reed/./bed", Capitals: "Reed",
	Decomposed:   "re\u0301ed",
	TrailingEnds: "reed.", PartEnds: "reed./bed", Blanks: "reed ", Controls: "reed\x01bed", Escapes: "reed%2Fbed+1",
	LineBreaks: "reed\nbed", Reserved: "reed?bed#1&2=(3)*'$:@!,;[4]", NonChars: "reed\ufffebed",
	Replaced: "reed\ufffdbed", Astral: "reed\U0001f30abed", LongParts: "reed" + strings.Repeat("-bed", 70),
}

// HeldName tells why a store is known not to hold a key under its own name, "" for
// no reason known.
func (k *Known) HeldName(key string) string {
	for _, c := range NameClasses(key) {
		switch k.Name(c) {
		case Ignored:
			return fmt.Sprintf("the store keeps names like it (%s) under another name", c)
		case Refused:
			return fmt.Sprintf("the store does not take names like it (%s)", c)
		}
	}
	return ""
}

// ComesBack looks, after key was written, whether a listing has it under the name
// it was written under: some stores fold names, and whoever did not look would take
// the object for missing and its other name for a stranger's. What a store does
// with names of a kind is learned, and looked at only once; always has it looked
// at all the same. The error for a name that did not come back is [BadName].
func ComesBack(ctx context.Context, p Place, key string, always bool) error {
	classes := NameClasses(key)
	if !always && len(classes) == 0 {
		return nil // as of most objects: nothing is asked of the place
	}
	known := Can(p).Known
	if !always {
		open := false
		for _, c := range classes {
			open = open || known != nil && known.Name(c) != Works
		}
		if !open {
			return nil
		}
	}
	for range 3 { // a listing can be damaged on its way
		there, err := listed(ctx, p, key)
		if err != nil {
			return err
		}
		if there {
			for _, c := range classes {
				known.LearnName(c, Works)
			}
			return nil
		}
	}
	if len(classes) == 1 {
		known.LearnName(classes[0], Ignored)
	}
	why := "it does not come back under this name: the store keeps it under another"
	if other := otherName(ctx, p, key); other != "" {
		why = fmt.Sprintf("the store keeps it as %q", object.Display(other))
	}
	return NewError(p.Name(), "write", key, BadName, errors.New(why))
}

// StillListed tells whether a listing has a key yet that a store says is removed, or that it does not answer
// to. It looks where names like it are not known to come back as written, or where the name may stand for
// another one that the listing could not tell.
func StillListed(ctx context.Context, p Place, key string) (bool, error) {
	classes := NameClasses(key)
	if len(classes) == 0 {
		return false, nil
	}
	known := Can(p).Known
	if known == nil {
		return false, nil
	}
	open := false
	for _, c := range classes {
		open = open || known.Name(c) != Works || c == Replaced && known.Name(NonChars) != Works
	}
	if !open {
		return false, nil
	}
	// Asked for by its whole name a store would find nothing: by what no store changes of it, it is among the others.
	seen := 0
	for e, err := range p.List(ctx, key[:plainPart(key)], ListOptions{}) {
		switch seen++; {
		case err != nil && KindOf(err) == NotFound:
			return false, nil
		case err != nil:
			return false, err
		case e.Key == key:
			return true, nil
		case seen > mostBeside:
			return false, nil
		}
	}
	return false, nil
}

// mostBeside is how many keys are looked through for one.
const mostBeside = 10_000

// plainPart is how much of a key no store changes.
func plainPart(key string) int {
	plain := 0
	for plain < len(key) && len(NameClasses(key[:plain+1])) == 0 {
		plain++
	}
	return plain
}

// listed tells whether a listing has the key.
func listed(ctx context.Context, p Place, key string) (bool, error) {
	for e, err := range p.List(ctx, key, ListOptions{}) {
		if err != nil {
			if KindOf(err) == NotFound {
				return false, nil
			}
			return false, err
		}
		return e.Key == key, nil // longer ones come behind
	}
	return false, nil
}

// otherName looks beside the key for what answers to it; "" if it is not found.
func otherName(ctx context.Context, p Place, key string) string {
	at, err := p.Stat(ctx, object.Ref{Key: key})
	if err != nil {
		return ""
	}
	plain, seen := plainPart(key), 0
	for e, err := range p.List(ctx, key[:strings.LastIndexByte(key[:plain], '/')+1], ListOptions{}) {
		if seen++; err != nil || seen > 1000 {
			return ""
		}
		if e.Key != key && e.ETag == at.ETag && e.Size == at.Size && e.Modified.Sub(at.Modified).Abs() < 2e9 {
			return e.Key
		}
	}
	return ""
}
