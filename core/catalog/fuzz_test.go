package catalog

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lumtra/core/object"
)

// An entry that can be read is sane, and is the same when written again.
func FuzzEntry(f *testing.F) {
	for _, e := range []object.Entry{{Size: 3, Modified: time.Unix(5, 6), ETag: "e", Class: "GLACIER",
		Mode: object.ModeOf(0o640), Sums: []object.Sum{{Kind: object.CRC64NVME, Value: "12345678"}}},
		{Kind: object.Special}, {Kind: object.Marker, Version: "v", Latest: true}} {
		f.Add(AppendEntry(nil, &e))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		var e, again object.Entry
		rest, err := DecodeEntry(raw, &e)
		if err != nil {
			return
		}
		require.NoError(t, e.Sane())
		require.LessOrEqual(t, len(rest), len(raw))
		_, err = DecodeEntry(AppendEntry(nil, &e), &again)
		require.NoError(t, err)
		require.Equal(t, e, again)
	})
}
