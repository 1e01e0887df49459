package ledger

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
)

// Wherever a ledger is cut, and whichever of its bytes is another: what it says is done was done, in the order in
// which it was noted and with nothing left out before it; what it has lost is only its end. Bytes that are another
// before its end make it damaged, and it is left as it is. A ledger that has lost its end takes what is noted from
// then on, and keeps it.
func TestEndsOfALedger(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "whole")
	const noted = 6
	l, err := Open(path, "print", false)
	require.NoError(t, err)
	ends := []int64{l.size}
	for n := range int64(noted) {
		require.NoError(t, l.Arrived(n, 10+n, object.Entry{Size: 10 + n, ETag: "made at the weir"}))
		ends = append(ends, l.size)
	}
	require.NoError(t, l.Close())
	whole, err := os.ReadFile(path)
	require.NoError(t, err)

	holds := func(l *File, at string) (done int64) {
		for l.Done(done) {
			done++
		}
		for n := done; n < noted; n++ {
			assert.False(t, l.Done(n), "%s: %d without one before it", at, n)
		}
		return done
	}
	goesOn := func(raw []byte, least int64, at string) {
		path := filepath.Join(dir, "l")
		require.NoError(t, os.WriteFile(path, raw, 0o600))
		l, err := Open(path, "print", false)
		require.NoError(t, err, at)
		done := holds(l, at)
		assert.Equal(t, least, done, at)
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.Equal(t, l.size, info.Size(), "%s: what cannot be read is gone from its end", at)
		require.NoError(t, l.Arrived(noted+3, 1, object.Entry{Size: 1}))
		require.NoError(t, l.Close())
		l, err = Open(path, "print", false)
		require.NoError(t, err, at)
		assert.Equal(t, done, holds(l, at))
		assert.True(t, l.Done(noted+3), at)
		require.NoError(t, l.Close())
	}
	for cut := int(ends[0]); cut <= len(whole); cut++ {
		var least int64
		for least < noted && ends[least+1] <= int64(cut) {
			least++
		}
		goesOn(whole[:cut], least, "cut")
	}
	for at := int(ends[0]); at < len(whole); at++ {
		raw := append([]byte(nil), whole...)
		raw[at] ^= 0x10
		if int64(at) >= ends[noted-1] { // its last record
			goesOn(raw, noted-1, "another end")
			continue
		}
		require.NoError(t, os.WriteFile(path, raw, 0o600))
		_, err := Open(path, "print", false)
		require.ErrorIs(t, err, ErrDamaged, "byte %d", at)
		now, err := os.ReadFile(path)
		require.NoError(t, err)
		require.Equal(t, raw, now)
	}
}
