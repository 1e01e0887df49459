package job

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Preferences are read, changed one at a time with all else left as it is, and what is wrong is
// told with its place; a change that would be wrong is refused.
func TestPreferences(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep", PreferencesFile)
	none, err := LoadPreferences(path)
	require.NoError(t, err)
	assert.Equal(t, &Preferences{}, none)
	assert.True(t, May(none.Terminal.Notify))

	require.NoError(t, SetPreference(path, "safe", "theme"))
	require.NoError(t, SetPreference(path, false, "terminal", "notify"))
	require.NoError(t, SetPreference(path, "Europe/Lisbon", "zone"))
	raw, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, append([]byte("# mine\n"), append(raw,
		[]byte("[keys.plan]\nA = \"a\"\n")...)...),
		0o600))
	require.NoError(t, SetPreference(path, "decimal", "units"))
	p, err := LoadPreferences(path)
	require.NoError(t, err)
	assert.Equal(t, [4]string{"safe", "decimal", "Europe/Lisbon", "a"}, [4]string{p.Theme, p.Units, p.Zone,
		p.Keys["plan"]["A"]})
	assert.False(t, May(p.Terminal.Notify))
	raw, err = os.ReadFile(path)
	require.NoError(t, err)
	assert.Contains(t, string(raw), "# mine\n")

	before := string(raw)
	for says, set := range map[string][]any{
		"theme is \"dusk\"; it is terminal, dark": {"dusk", "theme"},
		"which is no time zone":                   {"Mars/Olympus", "zone"},
		"units is \"metric\"":                     {"metric", "units"},
	} {
		assert.ErrorContains(t, SetPreference(path, set[0], set[1].(string)), says)
	}
	raw, err = os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, before, string(raw), "what is refused leaves the file alone")
	require.NoError(t, SetPreference(path, nil, "theme"))
	link := filepath.Join(t.TempDir(), PreferencesFile)
	require.NoError(t, os.Symlink(path, link))
	require.NoError(t, SetPreference(link, "bits", "rates"))
	p, err = LoadPreferences(path)
	require.NoError(t, err)
	assert.Equal(t, "bits", p.Rates, "a link to the file stays one")

	for text, says := range map[string]string{
		"theme = \"drak\"": ":1:1: theme is \"drak\"; it is terminal, dark, light, contrast, " +
			"safe; did you mean",
		"themes = \"dark\"":                  `there is no setting "themes" here; did you mean "theme"?`,
		"theme = 1":                          ":1:9: this is of the kind integer; it has to be a text in quotes",
		"keys = 3":                           ":1:8: this is of the kind integer; it has to be a table",
		"[terminal]\ntitle = \"on\"":         ":2:9: this is of the kind string; it has to be true or false",
		"[keys.plan]\nA = \"a\"\nB = \"a\"":  `"A" and "B" are both given to what "a" does`,
		"[terminal]\nnotify = \"sometimes\"": ":2:",
	} {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		p, err := LoadPreferences(path)
		assert.ErrorContains(t, err, says)
		assert.NotNil(t, p)
	}
}
