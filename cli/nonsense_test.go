package cli

import (
	"bufio"
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"lumtra/testkit"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// nonsense are words that any command may be given in place of what it takes.
var nonsense = []string{"masters", "studio", "studio/wet", "studio/wet/", "copy/", "north", "north/box", "north/box/a",
	"a.wav", "", "-", "*", "[", "**/*", "a!b", "studio/x.tar.zst", "studio/x.tar.zst!", "studio/x.tar.zst!/wet",
	"studio/*.tar!", "\x1b[2J", "é", "\xff\xfe", strings.Repeat("n", 300), "0", "1", "7", "-1", "3.5",
	"99999999999999999999", "1e9", "never", "daily at 25:00", "every 0 minutes", "NaN", "50%", "50GB", "a=b", "=",
	"true", "2026-13-45", "on", "size", "sha256", "env:NONE", "file:", "kept:none", "source=",
	"when.start=every second", "x.csv", "x.pdf", "sub/x.svg", "masters.toml", "\u202e", "a\nb", "a\tb"}

// endless are commands that go on until somebody ends them, or change what is not the workspace's, or are
// the command library's own.
var endless = []string{"lumtra", "lumtra service", "lumtra service install", "lumtra stand-in", "lumtra demo",
	"lumtra completion bash", "lumtra completion fish", "lumtra completion powershell", "lumtra completion zsh"}

// drawn is a command line of nonsense for a command.
func drawn(c *cobra.Command, dice *rand.Rand) []string {
	args := strings.Fields(c.CommandPath())[1:]
	word := func() string { return nonsense[dice.IntN(len(nonsense))] }
	for range dice.IntN(4) {
		args = append(args, word())
	}
	c.Flags().VisitAll(func(f *pflag.Flag) {
		if dice.IntN(6) > 0 || slices.Contains([]string{"help", "follow", "workspace", "state"}, f.Name) {
			return
		}
		value := word()
		switch f.Value.Type() {
		case "bool":
			value = []string{"true", "true", "false", value}[dice.IntN(4)]
		case "duration":
			value = []string{"1ms", "0s", "-5s", value}[dice.IntN(4)]
		}
		args = append(args, "--"+f.Name+"="+value)
	})
	if len(args) > 3 && dice.IntN(12) == 0 {
		args = append(args, "--no-such-flag")
	}
	return args
}

// Whatever a command is given, it ends with one of its codes and without a fault, says nothing that a
// terminal would obey, and as JSON nothing but JSON. LUMTRA_NONSENSE is how often each is given some.
func TestNonsense(t *testing.T) {
	s := shore(t)
	t.Chdir(s.dir) // what is written beside the workspace lands here
	for _, variable := range []string{"HOME", "XDG_CONFIG_HOME", "XDG_STATE_HOME"} {
		t.Setenv(variable, t.TempDir())
	}
	s.put("a.wav", "here")
	require.NoError(t, os.MkdirAll(filepath.Join(s.dir, "sub"), 0o755))
	s.ends(ExitDone, "Made north/box", "bucket", "make", "north/box")
	dice := testkit.Dice(t)
	for range testkit.Number("LUMTRA_NONSENSE", 4) {
		for _, c := range everyCommand(newApp(nil, nil, nil).command()) {
			if slices.Contains(endless, c.CommandPath()) {
				continue
			}
			args := drawn(c, dice)
			code, said := s.run(args...)
			known := code >= ExitDone && code <= ExitBusy && code != ExitInterrupted
			assert.True(t, known, "%q: %d: %s", args, code, said)
			assert.NotContains(t, said, "a fault of Lumtra's own", "%q", args)
			if slices.Contains(args, "--json=true") && code != ExitBadInput {
				onlyJSON(t, args, said)
			}
		}
	}
}

// onlyJSON holds each line against being an object.
func onlyJSON(t *testing.T, args []string, said string) {
	for lines := bufio.NewScanner(strings.NewReader(said)); lines.Scan(); {
		var object map[string]any
		assert.NoError(t, json.Unmarshal(lines.Bytes(), &object), "%q: %s", args, lines.Text())
	}
}
