package testkit

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// The same seed draws the same, in each test and hundred of its own; another draws others.
func TestSeed(t *testing.T) {
	drawn := func(t *testing.T, name, seed string) (all []int) {
		t.Setenv(seedVariable, seed)
		t.Run(name, func(t *testing.T) {
			Checks(t, 150, func(t *rapid.T) { all = append(all, rapid.IntRange(0, 1<<40).Draw(t, "n")) })
		})
		require.Len(t, all, 150)
		return all
	}
	a := drawn(t, "a", "")
	t.Run("again", func(t *testing.T) { assert.NotEqual(t, a, drawn(t, "b", "")) })
	assert.Equal(t, a, drawn2(t))
	assert.NotEqual(t, a[:50], a[100:], "the second hundred is not the first")
	assert.Equal(t, uint64(1), Seed())
	one := of("a", 0)
	t.Setenv(seedVariable, "2")
	assert.NotEqual(t, one, of("a", 0))
}

// drawn2 is what TestSeed/a draws, drawn once more under that name.
func drawn2(t *testing.T) (all []int) {
	for round, cases := range []int{100, 50} {
		rapids.Lock()
		rapids.set(of("TestSeed/a", round), cases)
		rapid.Check(t, func(t *rapid.T) { all = append(all, rapid.IntRange(0, 1<<40).Draw(t, "n")) })
		rapids.Unlock()
	}
	return all
}

// The dice of a test go on where they were, and are not those of another.
func TestDice(t *testing.T) {
	first := Dice(t).Uint64()
	again := rand.New(rand.NewPCG(of(t.Name(), 0), 1))
	assert.Equal(t, again.Uint64(), first)
	assert.Equal(t, again.Uint64(), Dice(t).Uint64())
	t.Run("another", func(t *testing.T) { assert.NotEqual(t, first, Dice(t).Uint64()) })
}

// failing notes how a test would have ended.
type failing struct{ said string }

func (f *failing) Helper() {}

func (f *failing) Fatalf(format string, args ...any) { f.said = fmt.Sprintf(format, args...) }

// What does not come is told with what was seen last.
func TestPatience(t *testing.T) {
	was := Patience
	defer func() { Patience = was }()
	n := 0
	Until(t, func() bool { n++; return n > 3 })
	Becomes(t, 7, func() int { n++; return n })
	came := make(chan error, 1)
	came <- errors.New("ebb")
	assert.EqualError(t, Come(t, came), "ebb")
	_, ends := Context(t).Deadline()
	assert.True(t, ends)

	Patience = 20 * time.Millisecond
	var f failing
	Until(&f, func() bool { return false }, func() any { return "low water" })
	assert.Contains(t, f.said, "low water")
	Becomes(&f, 3, func() int { return 2 })
	assert.Contains(t, f.said, "2, in place of 3")
	Come(&f, make(chan int))
	assert.Contains(t, f.said, "nothing came")
}

// Numbers of the environment are read, and refused where they are none.
func TestNumber(t *testing.T) {
	assert.Equal(t, 5, Number("LUMTRA_NO_SUCH", 5))
	t.Setenv("LUMTRA_DRAWS", "9")
	assert.Equal(t, 9, Draws(3))
	t.Setenv("LUMTRA_DRAWS", "many")
	assert.Panics(t, func() { Draws(3) })
	t.Setenv("LUMTRA_PATIENCE", "1.5")
	assert.InDelta(t, 1.5, times("LUMTRA_PATIENCE"), 0)
	t.Setenv("LUMTRA_PATIENCE", "-1")
	assert.Panics(t, func() { times("LUMTRA_PATIENCE") })
	t.Setenv(seedVariable, "x")
	assert.Panics(t, func() { Seed() })
	t.Setenv("LUMTRA_KILLS", "")
	t.Run("kills", func(t *testing.T) {
		defer func() { assert.True(t, t.Skipped()) }()
		Kills(t)
	})
}
