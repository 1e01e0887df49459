package ledger

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"lumtra/core/object"
)

// What a durable ledger says is noted is on the disk before it says so; another leaves
// that to the system.
func TestDurable(t *testing.T) {
	synced := 0
	fdatasync = func(int) error { synced++; return nil }
	defer func() { fdatasync = unix.Fdatasync }()
	for _, durable := range []bool{true, false} {
		l, err := Open(filepath.Join(t.TempDir(), "l"), "p", durable)
		require.NoError(t, err)
		synced = 0
		require.NoError(t, l.Arrived(1, 3, object.Entry{Size: 3}))
		require.NoError(t, l.SawTo(1))
		assert.Equal(t, map[bool]int{true: 2, false: 0}[durable], synced)
		fdatasync = func(int) error { synced++; return unix.EIO }
		if durable {
			assert.ErrorIs(t, l.Arrived(2, 3, object.Entry{}), unix.EIO, "and what could not be brought there is told")
			assert.ErrorIs(t, l.Arrived(3, 3, object.Entry{}), unix.EIO, "and nothing is noted any more")
		}
		fdatasync = func(int) error { synced++; return nil }
		assert.Equal(t, durable, l.Close() != nil)
	}
}
