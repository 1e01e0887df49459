package main

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/cli"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/testkit"
)

// wholes are the objects in the bucket whose names begin with a prefix, as they lie there, by the rest of
// their names.
func (o *odd) wholes(prefix string) map[string]string {
	p, err := o.end.Open("archive")
	require.NoError(o.T, err)
	all := map[string]string{}
	for e, err := range p.List(o.Context(), prefix, place.ListOptions{}) {
		require.NoError(o.T, err)
		raw, _, err := place.Open(o.Context(), p, e.Key, 1<<30)
		require.NoError(o.T, err)
		all[strings.TrimPrefix(e.Key, prefix)] = string(raw)
	}
	return all
}

// killedUntilDone kills a job's runs, and has the last one come to its end.
func (o *odd) killedUntilDone(job string, most int) int {
	killed := killOften(o.T, o.dir, job, o.store, most)
	text, code := "", -1
	for tries := 0; tries < 3 && code != cli.ExitDone && code != cli.ExitNothing; tries++ {
		text, code = lumtra(o.T, o.dir, "run", job)
	}
	require.Contains(o.T, []int{cli.ExitDone, cli.ExitNothing}, code, text)
	return killed
}

// In the window: a job is told to pack, planned and run; the pack is opened as a tree, a member looked at,
// looked for, put on the tray and deleted; what is new is added.
func TestPackInTheWindow(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	makeBucket(t, data)
	_, address := startStore(t, data)
	dir := workspace(t, address, map[string]string{"tiles": "source = \"src\"\ntarget = \"north/archive/tiles\"\n"})
	for i := range 30 {
		put(t, dir, fmt.Sprintf("src/2031/%02d.txt", i), fmt.Sprintf("tide table %d", i))
	}
	put(t, dir, "src/read me.txt", "all of the tide tables")
	w := openWindow(t, "--workspace", dir)
	w.see(`eeds you`)
	w.keys("3")
	w.see(`› Jobs › tiles`)
	// Each key moves the mark, which is waited for: a slow machine draws later.
	marked := func() string {
		before, rest, _ := strings.Cut(w.text(), "‹")
		phrase, _, _ := strings.Cut(rest, "›")
		return fmt.Sprint(len(before), phrase)
	}
	for at := marked(); !strings.Contains(at, "as they are"); at = marked() {
		w.keys("Right")
		testkit.Until(t, func() bool { return marked() != at }, func() any { return w.text() })
	}
	w.see(`‹as they are›`)
	w.keys("Enter", "Down")
	w.see(`as one pack, zstd`)
	w.keys("Enter")
	w.see(`to north / archive / tiles.tar.zst! ?, ‹as one pack, zstd›`)
	w.keys("w")
	w.see(`Written to`)
	text, code := lumtra(t, dir, "run", "tiles")
	require.Equal(t, cli.ExitDone, code, text)
	w.keys("2")
	w.see(`▸ north`)
	w.keys("End", "Home", "j", "Enter")
	w.see(`archive/`)
	w.keys("j", "Enter")
	w.see(`tiles.tar.zst`)
	w.keys("j")
	w.see(`holds +32 members`)
	w.keys("Enter")
	w.see(`read me.txt`)
	w.keys("j", "j")
	w.see(`all of the tide tables`)
	w.keys("k", "Enter")
	w.see(`07.txt`)
	w.keys("j", "D")
	w.see(`This deletes 1 object, 12 B`)
	w.keys("1", "Enter")
	testkit.Until(t, func() bool {
		out, _ := lumtra(t, dir, "pack", "show", "north/archive/tiles.tar.zst")
		return strings.Contains(out, "31 members")
	}, func() any { return w.text() })
	w.see(`Done\.`)
	w.keys("Enter", "V")
	w.see(`○ 00.txt`)
	w.keys("V")
	testkit.Until(t, func() bool { return !strings.Contains(w.text(), " 00.txt  ") }, func() any { return w.text() })

	put(t, dir, "src/2031/new.txt", "a new table")
	w.keys("4")
	w.see(`› Plan › tiles`)
	w.keys("p")
	w.see(`(?s)Plan 2 .*waits to be approved.*add +2.*names: `)
	w.keys("a")
	w.see(`It deletes nothing|Let plan`)
	w.keys("Enter")
	w.see(`Everything the plan named is at the target`)
	testkit.Until(t, func() bool {
		out, _ := lumtra(t, dir, "pack", "show", "north/archive/tiles.tar.zst")
		return strings.Contains(out, "33 members")
	}, func() any { return w.text() })
	w.leave()
}

// Killed at random moments while it packs, and while it adds to a pack and drops from it, a run that is
// taken up leaves the pack, byte for byte, that one leaves which was never killed, and no unfinished
// upload. LUMTRA_KILLS is how often it is killed for each form, at each of the two.
func TestPacksOutliveKills(t *testing.T) {
	wanted := testkit.Kills(t)
	endings := []string{"/*.tar.zst", "/*.tar"} // several packs, with what is large beside them, and one a folder
	for _, form := range pack.Forms {
		endings = append(endings, "."+string(form))
	}
	for _, ending := range endings {
		t.Run(strings.TrimLeft(ending, "/."), func(t *testing.T) {
			o := newOdd(t, "")
			limits := "target-only = \"delete\"\n[limits]\npart-size = \"5MiB\"\n[safety]\ndeletion-share = 100\n"
			switch ending {
			case "/*.tar":
				limits += "[packs]\nby = \"folder\"\n"
			case "/*.tar.zst":
				limits += "[packs]\nat-most = \"16MB\"\nunder = \"15MB\"\n"
			}
			src := filepath.Join(o.dir, "src")
			for killed, round := 0, 0; killed < 2*wanted; round++ {
				require.NoError(t, os.RemoveAll(src))
				fill(t, src, 150, 21<<20, 12<<20)
				calm, rough := fmt.Sprint("calm-", round), fmt.Sprint("rough-", round)
				o.job(calm, "src", fmt.Sprintf("north/archive/calm-%d%s!", round, ending), limits)
				o.job(rough, "src", fmt.Sprintf("north/archive/rough-%d%s!", round, ending), limits)
				for range 2 {
					o.run(cli.ExitDone, "run", calm)
					killed += o.killedUntilDone(rough, wanted)
					a, b := o.wholes(calm), o.wholes(rough)
					require.Equal(t, slices.Sorted(maps.Keys(a)), slices.Sorted(maps.Keys(b)))
					for key := range a {
						assert.True(t, a[key] == b[key], "%s byte for byte: %d and %d", key, len(a[key]), len(b[key]))
					}
					o.run(cli.ExitDone, "prove", rough, "--by", "read-back", "--both-ways")
					put(t, src, "more/one.wav", strings.Repeat("tide", 3<<20))
					put(t, src, "tiles/00/0000.png", "changed")
					require.NoError(t, os.RemoveAll(filepath.Join(src, "tiles/01/0001.png")))
				}
			}
			o.nothingLeft()
		})
	}
}

// Killed at random moments while a pack is written anew inside its store, and where everything passes through
// here, it is the old pack or the new one, as one comes out that was never killed; what a killed one had begun
// in the store is dropped. LUMTRA_KILLS is how often, for each form.
func TestRewritesOutliveKills(t *testing.T) {
	wanted := testkit.Kills(t)
	for _, form := range pack.Forms {
		t.Run(string(form), func(t *testing.T) {
			o := newOdd(t, "")
			src := filepath.Join(o.dir, "src")
			fill(t, src, 40, 21<<20, 6<<20, 17<<20)
			made := "north/archive/made." + string(form)
			o.job("made", "src", made+"!", "")
			o.run(cli.ExitDone, "run", "made")
			o.run(cli.ExitDone, "delete", made+"!/masters/dawn 1.wav", "--approve", "1")
			o.run(cli.ExitDone, "delete", made+"!/tiles/", "--approve", "40")
			p, err := o.end.Open("archive")
			require.NoError(t, err)
			for killed, round := 0, 0; killed < wanted; round++ {
				calm, rough := fmt.Sprintf("calm-%d.%s", round, form), fmt.Sprintf("rough-%d.%s", round, form)
				before := o.wholes("made." + string(form))[""]
				for _, name := range []string{calm, rough} {
					_, err := p.Write(o.Context(), name, strings.NewReader(before), int64(len(before)),
						place.WriteOptions{})
					require.NoError(t, err)
				}
				said := o.run(cli.ExitDone, "pack", "rewrite", "north/archive/"+calm)
				assert.Equal(t, form != pack.Gzip, strings.Contains(said, "the store copied"), said)
				after := o.wholes(calm)[""]
				require.NotEqual(t, len(before), len(after))
				n := killCommand(t, o.dir, o.store, wanted-killed, "pack", "rewrite", "north/archive/"+rough)
				killed += n
				now := o.wholes(rough)[""]
				assert.True(t, now == before || now == after, "after %d kills it is neither", n)
				if now == before {
					o.run(cli.ExitDone, "pack", "rewrite", "north/archive/"+rough)
				}
				assert.True(t, o.wholes(rough)[""] == after, "it comes out differently")
				o.run(cli.ExitDone, "pack", "check", "north/archive/"+rough)
				assert.Equal(t, o.run(cli.ExitDone, "pack", "manifest", "north/archive/"+calm),
					o.run(cli.ExitDone, "pack", "manifest", "north/archive/"+rough))
				// One that was killed when the pack was written already had begun to write it once more.
				o.run(cli.ExitDone, "pack", "rewrite", "north/archive/"+rough)
				o.nothingLeft()
			}
		})
	}
}
