package place

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/testkit"
)

// The short look at a name takes none for plain that the long one says is odd.
func TestPlainNames(t *testing.T) {
	plain := 0
	testkit.Checks(t, 5000, func(t *rapid.T) {
		letters := []rune("abc019-_./ A\\%+?é\u0301\n\x01\ufffd\U0001f30a")
		key := rapid.StringOfN(rapid.SampledFrom(letters), 0, 9, -1).Draw(t, "key")
		if plainName(key) {
			plain++
			require.Empty(t, classesOf(key), "%q", key)
		}
	})
	assert.Greater(t, plain, 500)
	for _, key := range []string{"000/000001.wav", "field/take 12.wav", "a.b/c.d", ""} {
		assert.True(t, plainName(key), key)
	}
}
