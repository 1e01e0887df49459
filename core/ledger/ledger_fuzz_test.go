package ledger

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lumtra/core/object"
)

// seedLedger is a ledger with one record of each kind.
func seedLedger(f *testing.F) []byte {
	path := filepath.Join(f.TempDir(), "l")
	l, err := Open(path, "print", false)
	require.NoError(f, err)
	there := object.Entry{Size: 3, ETag: "e", Modified: time.Unix(5, 6),
		Sums: []object.Sum{{Kind: object.CRC64NVME, Value: "12345678"}}}
	require.NoError(f, l.Arrived(1, 3, there))
	require.NoError(f, l.Intend(2, Stray{Before: []string{"u1", "u2"}, Noted: true}))
	require.NoError(f, l.Begin(2, "upload", 8<<20))
	require.NoError(f, l.Doubt(1))
	require.NoError(f, l.SawTo(1))
	require.NoError(f, l.Close())
	raw, err := os.ReadFile(path)
	require.NoError(f, err)
	return raw
}

// Whatever a ledger holds, reading it ends in an error or in counts that make sense, and
// nothing that was done is forgotten by reading: what is opened twice tells the same.
func FuzzLedger(f *testing.F) {
	seed := seedLedger(f)
	f.Add(seed, []byte{})
	f.Add(seed[:len(seed)-3], []byte{recordDone, 0xff, 0xff, 0xff, 0xff, 0x0f, 1})
	f.Add([]byte(ledgerMagic), []byte{recordPart, 1})
	f.Add([]byte{}, []byte{recordSeenTo})
	f.Add([]byte(ledgerMagic), []byte{recordDone, 2, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 1, 0, 0, 0,
		0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 1, 0, 0})
	f.Fuzz(func(t *testing.T, file, body []byte) {
		path := filepath.Join(t.TempDir(), "l")
		if len(body) > 0 { // with its checksum right, as a forger can have it
			file = frame(file, body)
		}
		require.NoError(t, os.WriteFile(path, file, 0o600))
		objects, bytes, err := Tally(path)
		if err == nil {
			require.GreaterOrEqual(t, objects, int64(0))
			require.GreaterOrEqual(t, bytes, int64(0))
		}
		if a, err := OpenArrivals(path); err == nil {
			for n := range int64(4) {
				if e, ok, err := a.Entry(n); ok && err == nil {
					require.GreaterOrEqual(t, e.Size, int64(0))
				}
			}
			require.NoError(t, a.Close())
		}
		for range 2 {
			l, err := Open(path, "print", false)
			if err != nil {
				continue
			}
			n, size := l.Finished()
			require.GreaterOrEqual(t, n, int64(0))
			require.GreaterOrEqual(t, size, int64(0))
			if objects, bytes, err := Tally(path); err == nil {
				require.Equal(t, [2]int64{n, size}, [2]int64{objects, bytes})
			}
			require.NoError(t, l.Close())
		}
	})
}
