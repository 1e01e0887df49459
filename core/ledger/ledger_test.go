package ledger

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
)

// A ledger that many streams write to stays small, whatever has become of parts
// and attempts, and says the same when it is opened again: also when its last
// compaction was cut short.
func TestLedgerStaysSmall(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ledger")
	l, err := Open(path, "plan", false)
	require.NoError(t, err)
	sum := object.Sum{Kind: object.CRC64NVME, Value: "12345678"}
	digest := object.Sum{Kind: object.SHA256, Value: strings.Repeat("d", 32)}
	const effects, parts = 400, 300
	var all sync.WaitGroup
	for stream := range 8 {
		all.Go(func() {
			for n := int64(stream); n < effects; n += 8 {
				require.NoError(t, l.Intend(n, Stray{}))
				if n%50 == 7 { // no answer came
					require.NoError(t, l.Intend(n, Stray{}))
				}
				require.NoError(t, l.Begin(n, fmt.Sprint("upload ", n), 5<<20))
				for p := range parts {
					require.NoError(t,
						l.Part(n, place.Part{Number: p + 1, Size: 5 << 20, ETag: strings.Repeat("e", 40), Sum: sum}))
				}
				require.NoError(t, l.Try(n, 1, "cut off"))
				switch {
				case n%100 == 3: // stays unfinished
				case n%100 == 4:
					require.NoError(t, l.Fail(n, "cause", "why"))
				default:
					require.NoError(t,
						l.Arrived(n, 100, object.Entry{Size: n, ETag: fmt.Sprint("tag ", n),
							Modified: time.Unix(n, 0), Sums: []object.Sum{sum, digest}}))
				}
			}
		})
	}
	all.Wait()
	require.NoError(t, l.Close())
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Less(t, info.Size(), int64(2*compactFrom), "120,000 parts were noted")
	require.NoError(t, os.WriteFile(path+".new", []byte("half a compaction"), 0o600))

	l, err = Open(path, "plan", true)
	require.NoError(t, err)
	defer l.Close()
	arrived, err := OpenArrivals(path)
	require.NoError(t, err)
	defer arrived.Close()
	for n := range int64(effects) {
		there, ok, err := arrived.Entry(n)
		require.NoError(t, err)
		open := n%100 == 3 || n%100 == 4
		require.Equal(t, !open, ok)
		require.Equal(t, !open, l.Done(n))
		if up := l.Upload(n); open {
			require.Equal(t, fmt.Sprint("upload ", n), up.ID)
			require.Len(t, up.Parts, parts)
		} else {
			require.Nil(t, up)
			require.Equal(t, []object.Sum{sum, digest}, there.Sums)
			require.Equal(t, fmt.Sprint("tag ", n), there.ETag)
		}
		_, stray := l.Stray(n)
		require.Equal(t, n%50 == 7, stray)
	}
	failures, err := Failures(path, "", 0)
	require.NoError(t, err)
	require.Len(t, failures, 4)
	assert.Len(t, failures[0].Attempts, 1)
}

// BenchmarkLedger is what noting a finished object costs from many streams.
func BenchmarkLedger(b *testing.B) {
	for _, durable := range []bool{false, true} {
		for _, streams := range []int{1, 64} {
			b.Run(fmt.Sprintf("durable=%v/streams=%d", durable, streams), func(b *testing.B) {
				l, err := Open(filepath.Join(b.TempDir(), "ledger"), "plan", durable)
				require.NoError(b, err)
				defer l.Close()
				var next atomic.Int64
				b.SetParallelism(max(streams/2, 1))
				b.ResetTimer()
				b.RunParallel(func(pb *testing.PB) {
					for pb.Next() {
						l.Arrived(next.Add(1), 4096, object.Entry{Size: 4096, ETag: "0123456789abcdef0123456789abcdef"})
					}
				})
			})
		}
	}
}

// What is too long for a record is cut, never written so that it cannot be read back;
// and damage in the middle is told, where an end that was cut short is dropped.
func TestLedgerIsReadBack(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ledger")
	l, err := Open(path, "plan", false)
	require.NoError(t, err)
	long := strings.Repeat("e", 3<<20)
	require.NoError(t, l.Arrived(0, 7, object.Entry{Size: 7, ETag: long}))
	require.NoError(t, l.Fail(1, long, long))
	far := time.Date(3000, 1, 2, 3, 4, 5, 6, time.UTC)
	require.NoError(t, l.Arrived(2, 8, object.Entry{Size: 8, ETag: "tag", Modified: far}))
	require.NoError(t, l.Close())

	l, err = Open(path, "plan", false)
	require.NoError(t, err)
	assert.True(t, l.Done(0) && !l.Done(1) && l.Done(2))
	require.NoError(t, l.Close())
	arrived, err := OpenArrivals(path)
	require.NoError(t, err)
	e, ok, err := arrived.Entry(0)
	require.NoError(t, err)
	assert.True(t, ok && e.Size == 7 && e.ETag == long[:len(e.ETag)])
	e, _, err = arrived.Entry(2)
	require.NoError(t, err)
	assert.True(t, e.Modified.Equal(far))
	require.NoError(t, arrived.Close())

	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, whole[:len(whole)-3], 0o600))
	l, err = Open(path, "plan", false)
	require.NoError(t, err)
	assert.True(t, l.Done(0) && !l.Done(2), "the end was cut short")
	require.NoError(t, l.Close())

	bad := append([]byte(nil), whole...)
	bad[100] ^= 1
	require.NoError(t, os.WriteFile(path, bad, 0o600))
	_, err = Open(path, "plan", false)
	require.ErrorIs(t, err, ErrDamaged)
	now, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, bad, now, "nothing is cut away")
}
