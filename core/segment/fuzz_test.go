package segment_test

import (
	"encoding/binary"
	"fmt"
	"hash/fnv"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"lumtra/core/segment"
)

const magic = "LUMTRAT1"

// sample is a whole file of several frames.
func sample(f testing.TB, records int) []byte {
	path := filepath.Join(f.TempDir(), "s")
	w, err := segment.Create(path, magic)
	require.NoError(f, err)
	for i := range records {
		require.NoError(f, w.Add(fmt.Sprintf("masters/%06d.wav", i), fmt.Appendf(nil, "payload of %d", i*7919)))
	}
	require.NoError(f, w.Finish(map[string]int{"records": records}))
	raw, err := os.ReadFile(path)
	require.NoError(f, err)
	return raw
}

// walk reads all there is, in rising order, up to the end or an error: how many records,
// and a sum of them.
func walk(t require.TestingT, path string) (n int64, sum uint64, err error) {
	var meta map[string]int
	r, err := segment.Open(path, magic, &meta)
	if err != nil {
		return 0, 0, err
	}
	defer r.Close()
	last, all := "", fnv.New64()
	c := r.Cursor("")
	for c.Next() {
		key := string(c.Key())
		require.True(t, n == 0 || key > last, "%q behind %q", key, last)
		last = key
		n++
		fmt.Fprintf(all, "%q%q", key, c.Payload())
	}
	for _, from := range append(r.Splits(4), last) {
		c := r.Cursor(from)
		if c.Next() {
			require.GreaterOrEqual(t, string(c.Key()), from)
		}
	}
	if c.Err() == nil {
		require.Equal(t, r.Count(), n)
	}
	return n, all.Sum64(), c.Err()
}

// Flipped or cut anywhere, a file is an error or, where the change does not matter, the
// same records: never others, and never fewer without an error.
func FuzzFile(f *testing.F) {
	whole := sample(f, 9000)
	f.Add(whole, uint32(0), byte(0), uint32(len(whole)))
	f.Add(whole, uint32(len(whole)-9), byte(1), uint32(len(whole)))
	f.Add(sample(f, 0), uint32(3), byte(0xff), uint32(50))
	f.Fuzz(func(t *testing.T, file []byte, at uint32, flip byte, length uint32) {
		if len(file) > 1<<20 {
			return
		}
		file = append([]byte(nil), file[:min(int(length), len(file))]...)
		if len(file) > 0 {
			file[int(at)%len(file)] ^= flip
		}
		path := filepath.Join(t.TempDir(), "s")
		require.NoError(t, os.WriteFile(path, file, 0o600))
		walk(t, path)
	})
}

// Every byte of a file matters or does not: with any one flipped, or with the end gone,
// what is read is the same, or an error.
func TestFlippedAndCut(t *testing.T) {
	const records = 400
	whole := sample(t, records)
	path := filepath.Join(t.TempDir(), "s")
	require.NoError(t, os.WriteFile(path, whole, 0o600))
	_, want, err := walk(t, path)
	require.NoError(t, err)
	try := func(file []byte, what string, at int) {
		require.NoError(t, os.WriteFile(path, file, 0o600))
		if n, sum, err := walk(t, path); err == nil {
			require.EqualValues(t, records, n, "%s at %d of %d went unnoticed", what, at, len(whole))
			require.Equal(t, want, sum, "%s at %d of %d", what, at, len(whole))
		}
	}
	for at := range whole {
		flipped := append([]byte(nil), whole...)
		flipped[at] ^= 0x10
		try(flipped, "a flip", at)
	}
	for at := range whole {
		require.NoError(t, os.WriteFile(path, whole[:at], 0o600))
		_, _, err := walk(t, path)
		require.Error(t, err, "cut at %d of %d", at, len(whole))
	}
}

// A small file that unpacks into an enormous one is refused before it is in memory.
func TestPackedBomb(t *testing.T) {
	bomb, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest))
	require.NoError(t, err)
	packed := bomb.EncodeAll(make([]byte, 300<<20), nil)
	require.Less(t, len(packed), 1<<20)
	file := append([]byte(magic), packed...)
	file = binary.LittleEndian.AppendUint64(file, uint64(len(magic)))
	file = binary.LittleEndian.AppendUint64(file, uint64(len(packed)))
	path := filepath.Join(t.TempDir(), "s")
	require.NoError(t, os.WriteFile(path, append(file, magic...), 0o600))
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	var meta any
	_, err = segment.Open(path, magic, &meta)
	runtime.ReadMemStats(&after)
	require.ErrorIs(t, err, segment.ErrDamaged)
	require.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(64<<20))
}
