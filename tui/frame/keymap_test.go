package frame

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/job"
	"lumtra/tui/kit"
)

// Keys of a person's own do what was on others, are shown where keys are shown, and may not
// contradict what is there.
func TestKeysOfOnesOwn(t *testing.T) {
	for says, table := range map[string]map[string]map[string]string{
		`there is no such view; there are everywhere, jobs`: {"plans": {"A": "a"}},
		`nothing there is on "§"`:                           {"plan": {"A": "§"}},
		`"p" does something already; give that another key`: {"plan": {"p": "a"}},
		`[keys.everywhere]: "a" does something already`:     {"everywhere": {"a": "q"}},
		`"enter" cannot be given another meaning`:           {"plan": {"enter": "a"}},
		`what "esc" does cannot be moved elsewhere`:         {"plan": {"A": "esc"}},
		`no key is called ""`:                               {"plan": {"": "a"}},
		`no key is called "hello"`:                          {"plan": {"hello": "a"}},
	} {
		_, err := newKeymap(&job.Preferences{Keys: table})
		assert.ErrorContains(t, err, says)
	}
	k, err := newKeymap(&job.Preferences{Keys: map[string]map[string]string{"plan": {"p": "a", "a": "p"},
		"everywhere": {"Q": "q"}}})
	require.NoError(t, err, "two that change places")
	for key, want := range map[string][2]string{"p": {"a", ""}, "a": {"p", ""}, "Q": {"q", ""}, "q": {"", "Q"},
		"x": {"x", ""}} {
		meant, to := k.of(kit.Plan, key)
		assert.Equal(t, want, [2]string{meant, to}, key)
	}
	meant, _ := k.of(kit.Now, "p")
	assert.Equal(t, "p", meant, "only in its view")
	assert.Equal(t, []kit.Key{{Press: "p"}, {Press: "Q"}, {Press: "x"}},
		k.shown(kit.Plan, []kit.Key{{Press: "a"}, {Press: "q"}, {Press: "x"}}))
}

// The view of settings: each is changed with two keys, holds at once and is in the person's
// file; what is wrong there is told, and keys are then as usual. It is alone: sizes are in the units of the process.
func TestSettings(t *testing.T) {
	defer kit.Decimal(false)
	x := openStage(t, copied(t, keyWorld(t)))
	path := x.m.shared.PreferencesAt
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	x.goes("~Needs you", "7", "~› Settings(.|\n)*▌ theme +‹ terminal", "right", "~‹ dark ›", "~Written to "+path)
	assert.NotNil(t, x.m.shared.Theme.Ground)
	x.goes("left", "~‹ terminal ›", "left", "~‹ safe ›", "down", "right", "~‹ decimal(.|\n)*123 MB", "down", "right",
		"~‹ bits(.|\n)*Mbit/s", "down", "enter", "~such as Europe", "=Mars/Olympus", "enter", "~which is no time",
		"esc",
		"~Left as it was", "down", "right", "~window title +‹ off", "x", "~window title +‹ on")
	p, err := job.LoadPreferences(path)
	require.NoError(t, err)
	assert.Equal(t, [3]string{"safe", "decimal", "bits"}, [3]string{p.Theme, p.Units, p.Rates})

	require.NoError(t, os.WriteFile(path, []byte("[keys.plan]\nA = \"a\"\n[keys.everywhere]\nQ = \"q\"\n"), 0o600))
	x.update(kit.Prefer{})
	x.goes("~plan +A does what a did", "4", ">", ">", ">", "~Plan 2", "~A approve", "~Q leave", "a", "~That is on A",
		"A",
		"~Let plan 2 run", "esc", "q", "~That is on Q", "ctrl+p", "=approve", "enter", "~Let plan 2 run", "esc")
	require.NoError(t, os.WriteFile(path, []byte("[keys.plan]\np = \"a\"\n"), 0o600))
	x.update(kit.Prefer{})
	x.goes("7", `~▲ \[keys.plan\]: "p" does something already`, "4", "a", "~Let plan 2 run", "esc")
}
