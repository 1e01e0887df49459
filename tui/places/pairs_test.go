package places

import (
	"maps"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/testkit"
)

// A line that was not touched changes nothing, and one that was makes exactly
// the map that was meant; what a line cannot hold stays as it is.
func TestPairs(t *testing.T) {
	text := rapid.StringMatching(`[a-zA-Z0-9;=\\\\ ü\n\x1b"]{0,8}`)
	gen := rapid.MapOfN(text.Filter(func(s string) bool { return s != "" }), text, 0, 5)
	testkit.Check(t, func(t *rapid.T) {
		old, wanted := gen.Draw(t, "old"), gen.Draw(t, "wanted")
		same, err := parsePairs(nil, pairs(old), pairs(old))
		require.NoError(t, err)
		assert.Equal(t, old, same.Apply(old))
		change, err := parsePairs(nil, pairs(wanted), pairs(old))
		require.NoError(t, err)
		got := change.Apply(old)
		shown, _, _ := read(nil, pairs(old))
		want := maps.Clone(old)
		for name := range shown {
			delete(want, name)
		}
		asked, _, _ := read(nil, pairs(wanted))
		maps.Copy(want, asked)
		assert.Equal(t, want, got)
		for name, value := range asked {
			assert.Equal(t, wanted[name], value)
		}
	})
	change, err := parsePairs(strings.ToLower, "Site = lower weir; draft", "")
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"site": "lower weir"}, change.Set)
	assert.Equal(t, []string{"draft"}, change.Drop)
	_, err = parsePairs(nil, "= 5", "")
	assert.Error(t, err)
}
