package proof_test

import (
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/catalog"
	"lumtra/core/compare"
	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/core/place/s3"
	"lumtra/core/proof"
	"lumtra/standin"
)

var ctx = context.Background()

// Every way to compare finds what it can find: sizes what is longer, checksums
// and reading back also what was damaged in place, nothing what is the same.
func TestFindsWhatDiffers(t *testing.T) {
	dir := t.TempDir()
	end, err := folder.OpenEndpoint("studio", dir, folder.Options{})
	require.NoError(t, err)
	defer end.Close()
	here, _ := end.Open("")
	server, err := standin.New(standin.Config{Dir: t.TempDir(), Public: true})
	require.NoError(t, err)
	defer server.Close()
	addr, err := server.Start("127.0.0.1:0")
	require.NoError(t, err)
	store, err := s3.NewStore(s3.Config{Name: "north", Address: addr})
	require.NoError(t, err)
	defer store.Close()
	require.NoError(t, store.MakeBucket(ctx, "archive"))
	there, _ := store.Open("archive")
	other, err := folder.OpenEndpoint("copy", t.TempDir(), folder.Options{})
	require.NoError(t, err)
	defer other.Close()
	copied, _ := other.Open("")

	for _, target := range []place.Place{there, copied} {
		write := func(p place.Place, key, text string) {
			_, err := p.Write(ctx, key, strings.NewReader(text), int64(len(text)),
				place.WriteOptions{Original: time.Unix(1e9, 0)})
			require.NoError(t, err)
		}
		for key, text := range map[string]string{"same.wav": "curlew", "damaged.wav": "avocet",
			"longer.wav": "dunlin", "missing.wav": "bittern", "odd\xff.wav": "x"} {
			write(here, key, text)
		}
		for key, text := range map[string]string{"same.wav": "curlew", "damaged.wav": "avoket",
			"longer.wav": "dunlins", "extra.wav": "gull"} {
			write(target, key, text)
		}
		for method, want := range map[compare.Method]map[proof.Verdict]int64{
			compare.BySize:      {proof.Same: 2, proof.Different: 1, proof.Missing: 2, proof.Extra: 1},
			compare.ByStoredSum: {proof.Same: 1, proof.Different: 2, proof.Missing: 2, proof.Extra: 1},
			compare.ByReadBack:  {proof.Same: 1, proof.Different: 2, proof.Missing: 2, proof.Extra: 1},
		} {
			a, err := catalog.Survey(ctx, here, filepath.Join(t.TempDir(), "a"), catalog.Options{})
			require.NoError(t, err)
			b, err := catalog.Survey(ctx, target, filepath.Join(t.TempDir(), "b"), catalog.Options{})
			require.NoError(t, err)
			out := filepath.Join(t.TempDir(), "proof")
			sum, err := proof.Run(ctx, out, here, target, a, b, nil, proof.Options{Method: method})
			require.NoError(t, err)
			assert.Equal(t, want, sum.Objects, "%s at %s", method, target.Name())
			assert.False(t, sum.Holds())
			var bytes map[proof.Verdict]int64
			if method == compare.BySize {
				bytes = map[proof.Verdict]int64{proof.Same: 12, proof.Different: 6, proof.Missing: 8, proof.Extra: 4}
			} else {
				bytes = map[proof.Verdict]int64{proof.Same: 6, proof.Different: 12, proof.Missing: 8, proof.Extra: 4}
			}
			assert.Equal(t, bytes, sum.Bytes, "the source's bytes, of extras the target's")
			few, err := proof.ReadDifferences(out, 2)
			require.NoError(t, err)
			assert.Len(t, few, 2, "as many as were asked for")
			assert.Empty(t, sum.Digest)
			for _, l := range few {
				assert.Empty(t, l.Digest, "none was asked for")
			}
			lines, err := proof.ReadDifferences(out, 100)
			require.NoError(t, err)
			var keys []string
			for _, l := range lines {
				keys = append(keys, l.Key)
				assert.NotEmpty(t, l.Why)
				assert.Equal(t, l.Verdict == proof.Different, l.There != nil, "what is there instead: %s", l.Key)
				if l.There != nil {
					assert.Equal(t, map[string]int64{"damaged.wav": 6, "longer.wav": 7}[l.Key], l.There.Size)
				}
			}
			for all, want := range map[bool]int{true: 6, false: len(lines)} {
				n := 0
				require.NoError(t, proof.Each(out, all, func(l *proof.Line) error {
					if n++; all == (l.Verdict == proof.Same) {
						return nil
					}
					assert.Contains(t, append(keys, ""), l.Key)
					return nil
				}))
				assert.Equal(t, want, n)
			}
			err = proof.Each(out, true, func(*proof.Line) error { return io.ErrNoProgress })
			assert.ErrorIs(t, err, io.ErrNoProgress)
			assert.Contains(t, keys, "odd\xff.wav", "a key that is no text comes through")
			back, err := proof.Read(out)
			require.NoError(t, err)
			assert.Equal(t, sum.Objects, back.Objects)
			raw, err := os.ReadFile(filepath.Join(out, proof.ManifestFile))
			require.NoError(t, err)
			assert.Equal(t, 6, strings.Count(string(raw), "\n"), "a line for every key")
			assert.Equal(t, method != compare.BySize, strings.Contains(string(raw), `"sum":"crc64nvme:`))
			a.Close()
			b.Close()
		}
	}
}
