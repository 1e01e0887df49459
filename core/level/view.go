package level

import (
	"cmp"
	"context"
	"path"
	"slices"
	"strings"

	"lumtra/core/object"
)

// Order is how rows are sorted.
type Order string

// The orders. By name is the order of the listing: byte order of keys.
const (
	ByName Order = "name"
	BySize Order = "size" // largest first
	ByTime Order = "time" // newest first
)

// View is a choice of a level's rows in an order: row numbers. It holds four
// bytes a row and is not changed once made.
type View struct {
	Order Order
	// Words are what the name must have, whatever their case; one with "*" or "?" is the whole name.
	Words string
	// Rows are numbers of the level's rows.
	Rows []uint32
	// Looked is how many of the level's rows were looked at: a level that has
	// more by now needs a new view.
	Looked int
}

// Make looks at all the rows there are and makes a view. totals may give what
// lies below a prefix, by key, to sort it by; nil counts as nothing known.
func Make(ctx context.Context, l *Level, prefix string, order Order, words string,
	totals func(key string) int64) *View {
	v := &View{Order: order, Words: words, Looked: l.State().Rows}
	want := wanted(words)
	var by []int64 // what each chosen row is sorted by
	for i, e := range l.All() {
		if i%(64*frameRows) == 0 && ctx.Err() != nil {
			return nil
		}
		if !want(e.Key[min(len(prefix), len(e.Key)):]) {
			continue
		}
		v.Rows = append(v.Rows, uint32(i))
		switch {
		case order == BySize && e.Kind == object.Prefix && totals != nil:
			by = append(by, totals(e.Key))
		case order == BySize:
			by = append(by, e.Size)
		case order == ByTime && !e.Modified.IsZero():
			by = append(by, e.Modified.UnixNano())
		case order == ByTime:
			by = append(by, 0)
		}
	}
	if order == ByName {
		return v
	}
	at := make([]uint32, len(v.Rows))
	for i := range at {
		at[i] = uint32(i)
	}
	slices.SortStableFunc(at, func(a, b uint32) int { return cmp.Compare(by[b], by[a]) })
	for i, j := range at {
		at[i] = v.Rows[j]
	}
	v.Rows = at
	return v
}

// wanted makes of the words a test for names: a name must have all of them, whatever their case; a word
// with "*" or "?" must be the whole name, as in "*.wav".
func wanted(words string) func(name string) bool {
	all := strings.Fields(strings.ToLower(words))
	if len(all) == 0 {
		return func(string) bool { return true }
	}
	return func(name string) bool {
		name = strings.ToLower(strings.TrimSuffix(name, "/"))
		return !slices.ContainsFunc(all, func(w string) bool {
			if strings.ContainsAny(w, "*?") {
				ok, err := path.Match(w, name)
				return err != nil || !ok
			}
			return !strings.Contains(name, w)
		})
	}
}
