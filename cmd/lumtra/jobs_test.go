package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/cli"
	"lumtra/testkit"
)

// jobWorld is a workspace with two folders and a few recordings in the first.
func jobWorld(t *testing.T, jobs map[string]string) string {
	_, address := startStore(t, t.TempDir())
	dir := workspace(t, address, jobs)
	for i := range 8 {
		put(t, dir, fmt.Sprintf("src/dawn/take %02d.wav", i), strings.Repeat("w", i+1))
	}
	put(t, dir, "src/dawn/half.tmp", "t")
	return dir
}

// A job is written from nothing as a sentence, shows what it would do before
// it is planned, and runs; its file is what the sentence says.
func TestScreenWriteJob(t *testing.T) {
	t.Parallel()
	dir := jobWorld(t, nil)
	w := openWindow(t, "--workspace", dir)
	w.see(`Now`)
	w.keys("3")
	w.see(`No jobs yet`)
	w.keys("n")
	w.see(`A new job`)
	w.typed("Dawn Chorus")
	w.keys("Enter")
	w.see(`(?s)a name has 1 to 63.*lower-case letters`)
	for range 11 {
		w.keys("BSpace")
	}
	w.typed("dawn-chorus")
	w.keys("Enter")
	w.see(`Where it comes from`)
	w.see(`(?s)north.*src`) // what there is to choose from
	w.typed("src")
	w.keys("Tab")
	w.see(`  dawn`)
	w.keys("Down", "Enter")
	w.see(`Copy what is in ‹src / dawn›`)
	w.see(`▲ target is missing`)
	w.keys("j", "j", "Enter")
	w.see(`Where it goes`)
	w.typed("dst/birds")
	w.keys("Enter")
	w.see(`to ‹dst / birds›`)
	w.see(`Not surveyed yet: `)
	w.keys("s")
	text := w.see(`sends\s+9 objects`)
	assert.Regexp(t, `(?s)src/dawn/half.tmp.*→ dst/birds/half.tmp`, text)
	// A rule more, and the effect follows while it is typed.
	w.keys("k", "Enter")
	w.see(`exclude\s+Patterns of what is le`)
	w.keys("Down", "Enter")
	w.see(`enter keep it`)
	w.typed("*.doc")
	w.see(`▲ matches nothing: it looks at the top only; \*\*/\*.doc looks everywhere`)
	for range 5 {
		w.keys("BSpace")
	}
	w.typed("**/*.tmp")
	w.see(`sends\s+8 objects`)
	w.see(`exclude \*\*/\*.tmp\s+drops 1`)
	w.keys("Enter", "t")
	w.see(`exclude = \['\*\*/\*.tmp'\]`)
	w.keys("p")
	w.see(`Plan 1 .* waits to be approved`)
	w.keys("a")
	w.see(`It deletes nothing`)
	w.keys("Enter")
	w.see(`Everything the plan named is at the target`)
	w.leave()
	raw, err := os.ReadFile(filepath.Join(dir, "jobs/dawn-chorus.toml"))
	require.NoError(t, err)
	assert.Equal(t, "source = 'src/dawn'\ntarget = 'dst/birds'\n\n[select]\nexclude = ['**/*.tmp']\n", string(raw))
	left, err := os.ReadDir(filepath.Join(dir, "dst/birds"))
	require.NoError(t, err)
	assert.Len(t, left, 8)
}

// What is typed or pasted while the editor has the terminal, and it does not take, is no key of the window.
func TestTypedIntoTheEditor(t *testing.T) {
	t.Parallel()
	dir := jobWorld(t, map[string]string{"home": "source = \"src\"\ntarget = \"dst/home\"\n"})
	put(t, dir, "editor", "#!/bin/sh\n: >\""+dir+"/begun\"\nwhile [ ! -e \""+dir+"/go\" ]; do sleep 0.05; done\n")
	require.NoError(t, os.Chmod(filepath.Join(dir, "editor"), 0o755))
	w := openWindowEnv(t, []string{"EDITOR=" + dir + "/editor", "VISUAL="}, "--workspace", dir)
	w.see(`home`)
	w.keys("3")
	w.see(`target-only objects: keep`)
	w.keys("e")
	testkit.Until(t, func() bool {
		_, err := os.Stat(filepath.Join(dir, "begun"))
		return err == nil
	})
	w.typed("2D1")
	w.keys("Enter", "q", "q")
	w.see(`2D1`) // the terminal has it
	put(t, dir, "go", "")
	w.see(`target-only objects: keep`)
	w.keys("4")
	w.see(`› Plan`)
	assert.NotContains(t, w.text(), "code ")
	w.leave()
}

// The text edited in an editor and the sentence are one; mistakes are told at
// the phrase they belong to, and do not reach the file.
func TestScreenEditJobText(t *testing.T) {
	t.Parallel()
	dir := jobWorld(t, map[string]string{"home": "# Ours.\nsource = \"src\"\ntarget = \"dst/home\"\n"})
	editor := filepath.Join(t.TempDir(), "editor")
	put(t, filepath.Dir(editor), "editor",
		"#!/bin/sh\nif grep -q trash \"$1\"; then sed -i 's/trash/burn/' \"$1\"; else echo 'target-only = \"trash\"' "+
			">>\"$1\"; fi\n")
	require.NoError(t, os.Chmod(editor, 0o755))
	w := openWindowEnv(t, []string{"EDITOR=" + editor, "VISUAL="}, "--workspace", dir)
	w.see(`home`)
	w.keys("3")
	w.see(`target-only objects: keep`)
	w.keys("e")
	w.see(`target-only objects: move to trash in _trash`)
	w.see(`Written to`)
	w.keys("e")
	w.see(`target-only is "burn"; it is "keep", "trash" or "delete"`)
	raw, err := os.ReadFile(filepath.Join(dir, "jobs/home.toml"))
	require.NoError(t, err)
	assert.Equal(t, "# Ours.\nsource = \"src\"\ntarget = \"dst/home\"\ntarget-only = \"trash\"\n", string(raw))
	// Copied, renamed and deleted.
	w.keys("z")
	w.see(`z once more discards it`)
	w.keys("z")
	w.see(`target-only objects: move to trash`)
	w.keys("c")
	w.see(`A copy of home`)
	w.typed("home-2")
	w.keys("Enter")
	w.see(`home-2 \*`)
	w.keys("w")
	w.see(`Written to .*home-2.toml`)
	w.keys("R")
	w.see(`Rename home-2`)
	w.typed("b")
	w.keys("Enter")
	w.see(`Written to .*home-2b.toml`)
	w.keys("D")
	w.see(`Delete the job home-2b`)
	w.typed("home-2b")
	w.keys("Enter")
	w.see(`The job home-2b is gone`)
	w.leave()
	files, err := os.ReadDir(filepath.Join(dir, "jobs"))
	require.NoError(t, err)
	assert.Len(t, files, 1)
}

// Delete-mirroring is held back by a guard, needs a person, and goes when the
// number of removals is typed.
func TestScreenGuard(t *testing.T) {
	t.Parallel()
	dir := jobWorld(t, map[string]string{"mirror": "source = \"src\"\ntarget = \"dst/mirror\"\ntarget-only = " +
		"\"delete\"\n"})
	text, code := lumtra(t, dir, "run", "mirror")
	require.Zero(t, code, text)
	for i := range 5 {
		require.NoError(t, os.Remove(filepath.Join(dir, fmt.Sprintf("src/dawn/take %02d.wav", i))))
	}
	put(t, dir, "src/dawn/new.wav", "n")
	text, code = lumtra(t, dir, "run", "mirror")
	require.Equal(t, 4, code, text) // held back by a guard
	_, err := os.Stat(filepath.Join(dir, "dst/mirror/dawn/take 00.wav"))
	require.NoError(t, err, "nothing was deleted")
	w := openWindow(t, "--workspace", dir)
	w.see(`▲ mirror\s+plan 2 is held back: it deletes 5 of 9 objects at the target, more than 20 %`)
	w.keys("j", "Enter")
	w.see(`Plan 2 .*▲ held back`)
	w.keys("a")
	w.see(`It deletes 5 objects, 15 B. Type the number of deletions, 5, to let it go`)
	w.typed("4")
	w.keys("Enter")
	w.see(`that is not the number: it deletes 5`)
	w.keys("BSpace")
	w.typed("5")
	w.keys("Enter")
	w.see(`Everything the plan named is at the target`)
	w.leave()
	left, err := os.ReadDir(filepath.Join(dir, "dst/mirror/dawn"))
	require.NoError(t, err)
	assert.Len(t, left, 5)
}

// What changed at both sides is a conflict, which a person decides.
func TestScreenConflict(t *testing.T) {
	t.Parallel()
	dir := jobWorld(t, map[string]string{"step": "source = \"src\"\ntarget = \"dst/step\"\ndirection = \"two-way\"\n"})
	text, code := lumtra(t, dir, "run", "step")
	require.Zero(t, code, text)
	put(t, dir, "src/dawn/take 01.wav", "from the source")
	put(t, dir, "dst/step/dawn/take 01.wav", "from the target!")
	put(t, dir, "src/dawn/take 02.wav", "ours")
	put(t, dir, "dst/step/dawn/take 02.wav", "theirs")
	put(t, dir, "dst/step/dawn/take 03.wav", "changed there only")
	now := time.Now()
	require.NoError(t, os.Chtimes(filepath.Join(dir, "dst/step/dawn/take 03.wav"), now, now))
	w := openWindow(t, "--workspace", dir)
	w.see(`step`)
	w.keys("p")
	w.see(`(?s)Plan 2 .*change 1 .*conflict 2`)
	w.see(`▸ dawn/`)
	w.keys("Enter")
	w.see(`take 01.wav`)
	w.keys("j")
	w.see(`conflict because it changed at both sides since the last run: 15 B of`)
	w.keys("d")
	w.see(`Decide dawn/take 01.wav`)
	w.keys("Down", "Enter")
	w.see(`(?s)change 2 .*conflict 1`)
	w.keys("j", "d", "Down", "Down", "Down", "Enter")
	w.see(`Plan 2 .* waits to be approved`)
	w.see(`(?s)kept.*|change 3`)
	w.keys("a")
	w.see(`Let plan 2 run`)
	w.keys("Enter")
	w.see(`Everything the plan named is at the target`)
	w.leave()
	for name, want := range map[string]string{"src/dawn/take 01.wav": "from the target!",
		"dst/step/dawn/take 01.wav": "from the target!",
		"dst/step/dawn/take 02.wav": "ours", "src/dawn/take 03.wav": "changed there only"} {
		raw, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, want, string(raw), name)
	}
	kept, err := filepath.Glob(filepath.Join(dir, "dst/step/dawn/take 02 (*).wav"))
	require.NoError(t, err)
	require.Len(t, kept, 1)
	text, code = lumtra(t, dir, "run", "step")
	require.Equal(t, cli.ExitNothing, code, text)
	both, err := filepath.Glob(filepath.Join(dir, "src/dawn/take 02*.wav"))
	require.NoError(t, err)
	assert.Len(t, both, 2, "the one that was kept went to the other side, too")
}
