package object

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"lumtra/testkit"
)

func sum(kind SumKind, data []byte) Sum {
	h := kind.New()
	h.Write(data)
	return SumOf(kind, h)
}

func TestCombineCRC64(t *testing.T) {
	testkit.Check(t, func(t *rapid.T) {
		a := rapid.SliceOfN(rapid.Byte(), 0, 3000).Draw(t, "a")
		b := rapid.SliceOfN(rapid.Byte(), 0, 3000).Draw(t, "b")
		whole := sum(CRC64NVME, append(append([]byte{}, a...), b...))
		assert.Equal(t, whole, CombineCRC64(sum(CRC64NVME, a), sum(CRC64NVME, b), int64(len(b))))
	})
}

// The check values of the CRC catalogue for the digits 1 to 9.
func TestKnownSums(t *testing.T) {
	digits := []byte("123456789")
	assert.Equal(t, "ae8b14860a799888", sum(CRC64NVME, digits).Hex())
	assert.Equal(t, "e3069283", sum(CRC32C, digits).Hex())
	for k := CRC64NVME; k <= BLAKE3; k++ {
		s := sum(k, digits)
		assert.Len(t, s.Value, sumSizes[k])
		back, err := ParseSum(k, s.Base64())
		assert.NoError(t, err)
		assert.Equal(t, s, back)
		named, err := ParseSumKind(k.String())
		assert.NoError(t, err)
		assert.Equal(t, k, named)
	}
	_, err := ParseSum(SHA256, sum(MD5, digits).Base64())
	assert.Error(t, err)
}

func TestClasses(t *testing.T) {
	for class, want := range map[string][2]bool{"": {}, "STANDARD": {}, "GLACIER_IR": {}, "Cold": {},
		"GLACIER": {true, true}, "DEEP_ARCHIVE": {true, true}, "Archive": {true, true},
		"INTELLIGENT_TIERING": {false, true}, "A_STORES_OWN": {false, true}} {
		assert.Equal(t, want, [2]bool{IsCold(class), MayBeCold(class)}, class)
	}
}

func TestDisplay(t *testing.T) {
	for in, out := range map[string]string{
		"masters/01 dunlin.wav": "masters/01 dunlin.wav",
		"söl/鳥":                 "söl/鳥",
		"a\x1b[2Jb":             `a\x1b[2Jb`,
		"line\nfeed":            `line\nfeed`,
		"rtl\u202egpj":          `rtl\u202egpj`,
		"bad\xffutf8":           `bad\xffutf8`,
		`back\slash`:            `back\\slash`,
		"\u009b31m":             `\u009b31m`,
	} {
		assert.Equal(t, out, Display(in))
	}
	for in, out := range map[string]string{"a b": "a b", " a b ": `\x20a b\x20`, "a / b/c": `a\x20/\x20b/c`,
		"  /": `\x20\x20/`, "\x1b ": `\x1b\x20`, `\x20`: `\\x20`, "": ""} {
		assert.Equal(t, out, DisplayKey(in), "%q", in)
	}
	testkit.Check(t, func(t *rapid.T) {
		shown := Display(rapid.String().Draw(t, "s"))
		assert.False(t, strings.ContainsFunc(shown, hidden))
	})
}

func TestKeyParts(t *testing.T) {
	for key, want := range map[string][2]string{
		"a": {"", "a"}, "a/b": {"a/", "b"}, "a/b/": {"a/", "b/"}, "": {"", ""}, "a//b": {"a//", "b"},
	} {
		assert.Equal(t, want, [2]string{Parent(key), Base(key)}, key)
	}
}

func ExampleCount() {
	fmt.Println(Count(1, "object"), "·", Count(0, "object"), "·", Count(int64(1234), "older version"))
	// Output: 1 object · 0 objects · 1,234 older versions
}
