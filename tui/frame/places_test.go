package frame

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/tui/kit"
)

// Objects of a folder are narrowed, sorted, made, marked, moved and removed by
// hand, and the disk agrees each time.
func TestPlacesByHand(t *testing.T) {
	t.Parallel()
	h := opened(t)
	dir := h.m.shared.Service.Workspace().Dir
	there := func(name string) bool {
		_, err := os.Lstat(filepath.Join(dir, name))
		return err == nil
	}
	for name, size := range map[string]int{"alpha.wav": 10, "beta.wav": 3000, "gamma.txt": 200} {
		path := filepath.Join(dir, "copy/x", name)
		require.NoError(t, os.WriteFile(path, make([]byte, size), 0o600))
	}
	h.goes("2", "~▸ copy", "enter")
	h.sees("▾ copy", "▸ x/")
	h.goes("j", "enter")
	h.sees("alpha.wav", "gamma.txt", "4   3.1 KiB")
	h.goes("s")
	h.sees("↕ largest first")
	h.goes(`~(?s)beta\.wav.*alpha\.wav`)
	h.goes("s", "s", "/")
	h.goes("=*.wav a")
	h.sees("3 of 4 have these words")
	assert.NotContains(t, h.text(), "gamma.txt ")
	h.goes("esc")
	h.sees("gamma.txt")

	h.goes("g", "j", "n")
	h.sees("A folder in copy/x/")
	h.goes("=new ones")
	h.goes("enter")
	h.sees("Made copy/x/new ones/.")
	assert.True(t, there("copy/x/new ones"))

	h.goes("g", "j", "*")
	h.sees("Mark by pattern")
	h.goes("=zz*")
	h.goes("enter")
	h.sees(`matches "zz*"`)
	h.goes("esc")
	h.goes("*")
	h.goes("=*.wav")
	h.goes("enter")
	h.sees(`"*.wav" matches 3 objects`)
	h.goes("enter")
	h.sees("◆ 3 marked")
	h.goes("m")
	h.sees("and 2 more that are marked", "This touches 3 things")
	h.goes("down")
	h.goes("=new ones/")
	h.goes("down")
	h.goes("=4")
	h.goes("enter")
	h.sees("this is not the number")
	assert.False(t, there("copy/x/new ones/beta.wav"))
	h.goes("backspace")
	h.goes("=3")
	h.goes("enter")
	h.sees("Done.")
	assert.True(t, there("copy/x/new ones/beta.wav") && !there("copy/x/beta.wav"))
	h.goes("enter")

	h.goes("g", "j", "G", "g", "j")
	h.sees("▸ new ones/")
	h.goes("j")
	for range 10 {
		if !strings.Contains(h.text(), "› new ones") {
			h.goes("j")
		}
	}
	h.sees("› new ones")
	h.goes("D")
	h.sees("Delete copy/x/new ones/", "Type the number of things that go, 3,")
	h.goes("=4")
	h.goes("enter")
	h.sees("this is not the number")
	h.goes("backspace")
	h.goes("=3")
	h.goes("enter")
	h.sees("Done.")
	assert.False(t, there("copy/x/new ones"))
	h.goes("enter", "H")
	h.sees("What was deleted", "3 objects, 2.9 KiB")
	h.goes("esc")

	h.goes("K", "~a keeps one", "a")
	h.sees("Keep a credential")
	h.goes("=marsh")
	h.goes("down", "down")
	h.goes("=AKMARSH")
	h.goes("down")
	h.goes("=not to be seen")
	assert.NotContains(t, h.text(), "not to be seen")
	h.goes("enter")
	h.sees("Kept marsh, fingerprint")
	h.goes("K")
	h.sees("AKMARSH", "not used", "key-pair")
	h.goes("x")
	h.sees("Type its label, marsh")
	h.goes("=marsh")
	h.goes("enter")
	h.sees("Deleted the credential marsh")
}

// Whatever is done with an object, the cursor is still on it afterwards, so that the next key
// is not about something else; and the command that does the same is at hand.
func TestCursorStaysOnItsObject(t *testing.T) {
	t.Parallel()
	dir := keyWorld(t)
	at := "north › reeds › dawn.txt"
	for _, c := range []struct {
		name, command string
		steps         []string
	}{
		{"brought back", "versions back north/reeds/dawn.txt ", []string{"tab", "~left older", "left",
			"~1 before the newest", "b", "~Bring back an older state", "?command", "enter", "~Brought back"}},
		{"metadata", "metadata north/reeds/dawn.txt --set site=weir", []string{"i", "~Metadata and tags",
			"=site = weir",
			"?command", "enter", "~set metadata", "esc"}},
		{"read again", "info north/reeds/dawn.txt", []string{"?command", "r", "~Read again"}},
		{"deleted shown", "info north/reeds/dawn.txt --deleted|info north/reeds/dawn.txt", []string{"V",
			"~○ gone.txt", "?command"}},
		{"another deleted beside it", "delete north/reeds/frozen.txt --approve 1", []string{"j", "j", "~› frozen.txt",
			"D",
			"~Versions are kept", "enter", "~Type the number", "?command", "=1", "enter", "~delete: ", "esc"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			x := openStage(t, copied(t, dir))
			x.goes("~Needs you", "2", "~▸ north", "j", "enter", "~▸ reeds", "j", "enter", "~dawn.txt", "j", "~"+at)
			want := at
			for _, step := range c.steps {
				if step != "?command" {
					x.goes(step)
					continue
				}
				words := x.m.screens[x.m.view].(kit.Commander).Command()
				assert.Regexp(t, "^("+c.command+")", strings.Join(words, " "))
			}
			if strings.Contains(c.name, "another") {
				want = "north › reeds › deep"
			}
			x.goes("~"+want, "~▾ reeds(.|\n)*dawn.txt")
			x.goes("~" + want)
		})
	}
}

// Two trees side by side: each keeps a path of its own, what differs between their folders is
// told, and what is marked in one goes to the other by a plan.
func TestTwoTrees(t *testing.T) {
	t.Parallel()
	dir := copied(t, keyWorld(t))
	x := openStage(t, dir)
	x.goes("~Needs you", "2", "~▸ north", "j", "enter", "~▸ reeds", "j", "enter", "~dawn.txt", "|", "~\\| one tree",
		"~▸ studio", "j", "j", "~› studio", "enter", "~▸ masters", "=", "~looking|1 only|only at", "~only at the left",
		"esc", "tab", "~› reeds", "j", "~› dawn.txt")
	assert.Equal(t, []string{"copy", "north/reeds/dawn.txt", "studio"},
		x.m.screens[x.m.view].(kit.Commander).Command())
	x.goes("M", "~› Plan › tray-1", "~add 1", "~once proven")
	assert.FileExists(t, filepath.Join(dir, "state/drops/tray-1.json"))
	x.goes("2", "~▌ north/reeds", "|", "~\\| beside|space mark", "|", "~\\| one tree")
}

// A job is found by typing some of its name, from any view.
func TestJobsAreFoundByTyping(t *testing.T) {
	t.Parallel()
	x := openStage(t, copied(t, keyWorld(t)))
	x.goes("~Needs you", "ctrl+p", "~do what", "=fail", "~job +failing", "enter", "~› Plan › failing", "3",
		"~› Jobs › failing", "ctrl+p", "=mast", "~job +masters", "enter", "~› Jobs › masters", "ctrl+p", "=zzz",
		"~no action and no job")
}
