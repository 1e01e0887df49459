package blob

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// What people paste is taken apart or refused, and what is refused is not repeated.
func FuzzAccess(f *testing.F) {
	f.Add("https://marsh.blob.example.net/loans/a/b?sv=2020-12-06&se=2031-01-01T00:00:00Z&sp=rl&sig=c2VhbGVk")
	f.Add("http://127.0.0.1:10000/marsh/loans?sig=%zz")
	f.Add("https://[::1]/?sig=")
	f.Add("https://u:p@h/?sig=x&se=never&sp=\x00")
	f.Fuzz(func(t *testing.T, address string) {
		base, query, access, err := ParseAccess(address)
		if err != nil {
			require.Less(t, len(err.Error()), 120, "the address is not in it")
			return
		}
		require.NotEmpty(t, base)
		require.Equal(t, access.Until, accessOf(query).Until)
	})
}

// Block IDs come back from the service as anybody may have written them.
func FuzzBlock(f *testing.F) {
	f.Add("YWJjZGVmZ2hpamtsbW5vcC0wMDAwMDEtMDEwMjAzMDQwNTA2MDcwOC0wMDAwMDAwMDAwMDAwMDAx")
	f.Add("bm8=")
	f.Fuzz(func(t *testing.T, id string) {
		upload, _, part := parseBlock(id)
		if upload != "" {
			require.Len(t, upload, 16)
			require.Len(t, part.Sum.Value, 8)
			require.Equal(t, id, part.ETag)
		}
	})
}
