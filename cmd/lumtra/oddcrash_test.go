package main

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/cli"
	"lumtra/core/place"
	"lumtra/standin"
	"lumtra/testkit"
)

// oddSets is how many sets of habits a run is killed under.
const oddSets = 6

// Killed at random moments, in its first test of the store, too, and taken up again, a
// run to a store with any set of habits ends with what is at the source, and leaves
// nothing behind. LUMTRA_KILLS is how often it is killed on each store at least,
// LUMTRA_SEED draws other stores.
func TestKilledOnOddStores(t *testing.T) {
	wanted, rng := testkit.Kills(t), testkit.Dice(t)
	for n := range oddSets {
		var habits []standin.Habit
		for _, h := range standin.Habits() {
			if h != standin.Forgets && rng.IntN(4) == 0 {
				habits = append(habits, h)
			}
		}
		t.Run(fmt.Sprint(n), func(t *testing.T) {
			o := newOdd(t, "", habits...)
			t.Logf("%v", habits)
			fill(t, filepath.Join(o.dir, "src"), 150, 21<<20, 12<<20)
			want := sums(files(t, filepath.Join(o.dir, "src")))
			killed := 0
			for round := 0; killed < wanted; round++ {
				// A bucket nobody has tested yet, now and then: its facts are forgotten.
				if round%2 == 1 {
					os.RemoveAll(stateOf(t, o.dir, "tests"))
				}
				job := fmt.Sprint("leg-", round)
				o.job(job, "src", fmt.Sprint("north/archive/copy", round),
					"[limits]\nstreams = 6\npart-size = \"5MiB\"\n")
				killed += killOften(t, o.dir, job, o.store, wanted-killed)
				// What an interrupted write has left in doubt may take another plan.
				text, code := "", -1
				for tries := 0; tries < 3 && code != cli.ExitDone && code != cli.ExitNothing; tries++ {
					text, code = lumtra(t, o.dir, "run", job)
				}
				require.Contains(t, []int{cli.ExitDone, cli.ExitNothing}, code, "%v: %s", habits, text)
				o.run(cli.ExitDone, "prove", job, "--by", "read-back", "--both-ways")
				end, err := o.end.Open(fmt.Sprint("archive/copy", round))
				require.NoError(t, err)
				o.at = end
				assert.Equal(t, want, sums(o.there()), "%v", habits)
			}
			o.nothingLeft()
		})
	}
}

// nothingLeft makes sure that no test and no upload is left in the bucket.
func (o *odd) nothingLeft() {
	p, err := o.end.Open("archive")
	require.NoError(o.T, err)
	for e, err := range p.List(o.Context(), "", place.ListOptions{}) {
		require.NoError(o.T, err)
		assert.False(o.T, strings.Contains(e.Key, "lumtra-probe"), "left behind: %q", e.Key)
	}
	raw, err := os.ReadFile(filepath.Join(o.data, "archive", "journal"))
	require.NoError(o.T, err)
	assert.Equal(o.T, bytes.Count(raw, []byte(`{"Begin"`)), bytes.Count(raw, []byte(`{"End"`)),
		"every upload was ended")
}
