package testkit

import (
	"errors"
	"flag"
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"os"
	"strconv"
	"sync"
	"testing"

	"pgregory.net/rapid"
)

// seedVariable is the environment variable that draws other cases.
const seedVariable = "LUMTRA_SEED"

// Seed is what all that tests draw goes by: 1, or what LUMTRA_SEED says. The hunt draws it.
func Seed() uint64 {
	text := os.Getenv(seedVariable)
	if text == "" {
		return 1
	}
	n, err := strconv.ParseUint(text, 10, 64)
	if err != nil {
		panic(fmt.Sprintf("%s=%q is not a number: %v", seedVariable, text, err))
	}
	return n
}

// of is the seed of one test, so that no two draw the same.
func of(name string, round int) uint64 {
	h := fnv.New64a()
	fmt.Fprintf(h, "%d %s %d", Seed(), name, round)
	return max(h.Sum64(), 1) // to rapid, 0 means: draw one
}

// Dice are the chances of one test, by [Seed] and its name: asked for again, they go on. They are
// for one goroutine. A test that fails says which seed it was.
func Dice(t testing.TB) *rand.Rand {
	t.Helper()
	if d, there := dice.Load(t); there {
		return d.(*rand.Rand)
	}
	d := rand.New(rand.NewPCG(of(t.Name(), 0), 1))
	dice.Store(t, d)
	t.Cleanup(func() { dice.Delete(t) })
	tell(t)
	return d
}

var dice sync.Map // of the tests that run, by their testing.TB

// tell has a test that fails say how it is repeated.
func tell(t testing.TB) {
	t.Cleanup(func() {
		if t.Failed() {
			t.Logf("repeat it with %s=%d", seedVariable, Seed())
		}
	})
}

// flagged are rapid's flags, which are one for the whole process.
type flagged struct {
	sync.Mutex // from setting them until rapid has read them
	once       sync.Once
	seed       string // as given; "0": none
	cases      int
}

var rapids flagged

// set sets what the next rapid.Check reads, unless a person has.
func (f *flagged) set(seed uint64, cases int) {
	f.once.Do(func() {
		f.seed = flag.Lookup("rapid.seed").Value.String()
		f.cases, _ = strconv.Atoi(flag.Lookup("rapid.checks").Value.String())
	})
	if cases == 0 {
		cases = f.cases
	}
	text := f.seed
	if text == "0" {
		text = strconv.FormatUint(seed, 10)
	}
	if err := errors.Join(flag.Set("rapid.seed", text), flag.Set("rapid.checks", strconv.Itoa(cases))); err != nil {
		panic(err)
	}
}

// Check holds a property against a hundred cases, drawn by [Seed] and the test's name. What -rapid.seed and
// -rapid.checks say goes before.
func Check(t *testing.T, property func(*rapid.T)) {
	t.Helper()
	tell(t)
	check(t, 0, 0, property)
}

// Checks is Check with so many cases. It ends with the first that fails.
func Checks(t *testing.T, cases int, property func(*rapid.T)) {
	t.Helper()
	tell(t)
	for round := 0; round*100 < cases && !t.Failed(); round++ { // each hundred by a seed of its own
		check(t, round, min(100, cases-100*round), property)
	}
}

// check lets the next test set the flags as soon as its own first case begins: by then they have been read.
func check(t *testing.T, round, cases int, property func(*rapid.T)) {
	t.Helper()
	rapids.Lock()
	var read sync.Once
	defer read.Do(rapids.Unlock)
	rapids.set(of(t.Name(), round), cases)
	rapid.Check(t, func(t *rapid.T) {
		read.Do(rapids.Unlock)
		property(t)
	})
}

// Number is what an environment variable says, or else the number that the gate goes by.
func Number(variable string, gate int) int {
	text := os.Getenv(variable)
	if text == "" {
		return gate
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 {
		panic(fmt.Sprintf("%s=%q is not a number", variable, text))
	}
	return n
}

// Draws is how many worlds are drawn: so many in the gate, LUMTRA_DRAWS of them in a hunt.
func Draws(gate int) int { return Number("LUMTRA_DRAWS", gate) }

// Kills is how often a program is killed at drawn moments: LUMTRA_KILLS times. The gate leaves the test out:
// no machine comes to the same moment twice.
func Kills(t testing.TB) int {
	t.Helper()
	n := Number("LUMTRA_KILLS", 0)
	if n == 0 {
		t.Skip("left to the hunt: LUMTRA_KILLS says how often it kills")
	}
	return n
}

// Heavy leaves a test to the hunt where the race detector runs, ten times slower than usual, and the test has no
// goroutines of its own to watch, or others have the same. LUMTRA_HEAVY has it run all the same.
func Heavy(t testing.TB) {
	t.Helper()
	if racing && os.Getenv("LUMTRA_HEAVY") == "" {
		t.Skip("left to the hunt: heavy under the race detector")
	}
}
