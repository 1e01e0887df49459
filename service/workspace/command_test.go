package workspace

import (
	"fmt"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/testkit"
)

func ExampleCommandLine() {
	fmt.Println(CommandLine([]string{"--workspace", "/srv/salt marsh"}, "delete", "north/box/it's.wav", "--approve",
		"1"))
	// Output: lumtra delete 'north/box/it'\''s.wav' --approve 1 --workspace '/srv/salt marsh'
}

// Whatever a word is made of, a shell reads it back.
func TestQuote(t *testing.T) {
	bash, err := exec.LookPath("bash")
	require.NoError(t, err)
	testkit.Check(t, func(t *rapid.T) {
		word := rapid.OneOf(rapid.String(), rapid.StringMatching(`[\\'"$ !*?\n\x1b-z]*`),
			rapid.Map(rapid.SliceOf(rapid.Byte()), func(b []byte) string { return string(b) })).Draw(t, "word")
		for i := range len(word) {
			if word[i] == 0 {
				t.Skip("no argument has a zero byte")
			}
		}
		out, err := exec.Command(bash, "-c", "printf %s "+quote(word)).Output()
		if err != nil || string(out) != word {
			t.Fatalf("%q came back as %q: %v", word, out, err)
		}
	})
	assert.Equal(t, "plain-1.2/x", quote("plain-1.2/x"))
	assert.Equal(t, "''", quote(""))
}
