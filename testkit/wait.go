package testkit

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"testing"
	"time"
)

// Patience is how long a test waits for something that must come: two minutes, or LUMTRA_PATIENCE
// times as long. It is no measure of speed: what comes in time on a quiet machine comes in a tenth
// of it, and on a loaded one it may take most of it.
var Patience = time.Duration(float64(2*time.Minute) * times("LUMTRA_PATIENCE"))

// times is the factor that an environment variable gives, 1 where it gives none.
func times(variable string) float64 {
	text := os.Getenv(variable)
	if text == "" {
		return 1
	}
	n, err := strconv.ParseFloat(text, 64)
	if err != nil || n <= 0 {
		panic(fmt.Sprintf("%s=%q is not a factor", variable, text))
	}
	return n
}

// TB is what waiting needs of a test; *testing.T and rapid's are both one.
type TB interface {
	Helper()
	Fatalf(format string, args ...any)
}

// look is how often Until looks.
const look = 5 * time.Millisecond

// Until looks until it is so, and ends the test after [Patience]. What was seen last is in the
// message: seen is asked for it then.
func Until(t TB, is func() bool, seen ...func() any) {
	t.Helper()
	if Within(Patience, is) {
		return
	}
	var last []any
	for _, look := range seen {
		last = append(last, look())
	}
	t.Fatalf("not so after %s; seen last:\n%v", Patience, last)
}

// Becomes looks until what it gets is what is wanted.
func Becomes[T comparable](t TB, want T, get func() T) {
	t.Helper()
	var got T
	Until(t, func() bool { got = get(); return got == want },
		func() any { return fmt.Sprintf("%+v, in place of %+v", got, want) })
}

// Within looks for so long, and tells whether it came to be so.
func Within(limit time.Duration, is func() bool) bool {
	for deadline := time.Now().Add(limit); !is(); time.Sleep(look) {
		if time.Now().After(deadline) {
			return false
		}
	}
	return true
}

// Context is a test's context with an end to it: what hangs fails by itself, with its own words.
func Context(t testing.TB) context.Context {
	ctx, cancel := context.WithTimeout(t.Context(), Patience)
	t.Cleanup(cancel)
	return ctx
}

// Come is what comes from a channel, waited for.
func Come[T any](t TB, from <-chan T) (got T) {
	t.Helper()
	select {
	case got = <-from:
	case <-time.After(Patience):
		t.Fatalf("nothing came in %s", Patience)
	}
	return got
}
