package object

import "github.com/dustin/go-humanize"

// Count is a number of things in words: "1 object", "1,234 objects". The noun is one whose
// plural ends in s.
func Count[N int | int64](n N, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return humanize.Comma(int64(n)) + " " + noun + "s"
}
