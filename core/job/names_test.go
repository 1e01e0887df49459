package job

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every setting can be set by its name and what people type, and is read back.
func TestSetText(t *testing.T) {
	for name, c := range map[string]struct{ typed, written string }{
		"target-only":           {"trash", "target-only = 'trash'"},
		"limits.streams":        {"12", "[limits]\nstreams = 12"},
		"limits.durable":        {"true", "[limits]\ndurable = true"},
		"select.include":        {"**/*.wav,**/*.flac", "[select]\ninclude = ['**/*.wav', '**/*.flac']"},
		"as.metadata":           {"a=b,c=d", "[as]\nmetadata = "},
		"safety.deletion-share": {"20", "[safety]\ndeletion-share = 20"},
	} {
		text, err := SetText("source = \"studio\"\n", name, c.typed)
		require.NoError(t, err, name)
		assert.Contains(t, text, c.written, name)
		assert.Contains(t, SettingNames(), name)
		text, err = SetText(text, name, "")
		require.NoError(t, err, name)
		assert.NotContains(t, text, c.typed, name)
	}
	for name, c := range map[string]struct{ typed, says string }{
		"target-onl":       {"trash", `did you mean "target-only"?`},
		"target-only.what": {"x", "no setting"},
		"limits.streams":   {"many", "a whole number"},
		"limits.durable":   {"perhaps", "true or false"},
		"as.metadata":      {"a", "name=value"},
		"limits":           {"x", "a table"},
	} {
		_, err := SetText("", name, c.typed)
		assert.ErrorContains(t, err, c.says, name)
	}
}
