package pack_test

import (
	"archive/tar"
	"bytes"
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/pack"
	"lumtra/testkit"
)

// A damaged archive is read again before that is believed: it may have been damaged on its way. Found so
// twice, it is not read a third time; and whole, it is read once.
func TestDamageIsLookedAtAgain(t *testing.T) {
	testkit.Heavy(t)
	var raw bytes.Buffer
	w := tar.NewWriter(&raw)
	for i := range 5 {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: fmt.Sprint("take ", i), Size: 5, Mode: 0o644}))
		_, err := w.Write([]byte("tides"))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	whole := raw.Bytes()
	bad := append([]byte(nil), whole...)
	bad[2*1024+100] ^= 1 // in the third header, whose checksum is wrong then
	for name, comes := range map[string][][]byte{"on its way": {bad, whole, whole}, "there": {bad, bad, bad},
		"never": {whole, whole, whole}} {
		t.Run(name, func(t *testing.T) {
			kept := filepath.Join(t.TempDir(), "kept")
			var found []int64
			var asked []int
			for _, data := range comes {
				m := &memory{data: data}
				x, err := pack.Scan(t.Context(), m, "x.tar", kept, pack.Options{})
				require.NoError(t, err)
				found, asked = append(found, x.Totals().Members), append(asked, m.asked)
				assert.Equal(t, x.Totals().Members < 5, x.Damage() != "")
				require.NoError(t, x.Close())
			}
			switch name {
			case "on its way":
				assert.Equal(t, []int64{2, 5, 5}, found)
			case "there":
				assert.Equal(t, []int64{2, 2, 2}, found)
				assert.Greater(t, asked[1], asked[2])
			case "never":
				assert.Equal(t, []int64{5, 5, 5}, found)
				assert.Greater(t, asked[0], asked[1])
			}
			assert.Equal(t, 1, asked[2], "its state alone")
		})
	}
}
