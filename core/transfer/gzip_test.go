package transfer_test

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/agreed"
	"lumtra/core/catalog"
	"lumtra/core/compare"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/proof"
	"lumtra/core/rule"
	"lumtra/core/transfer"
	"lumtra/standin"
)

// What is compressed on the way is stored so, small and large, through faults
// too; unpacked it is what went; the next plan finds nothing to do, a change is
// found, and a proof reads both.
func TestGzip(t *testing.T) {
	for _, kind := range kinds {
		w := newWorldOf(t, kind)
		noise := make([]byte, 17<<20) // which does not get smaller: several parts
		rand.NewChaCha8([32]byte{9}).Read(noise)
		texts := map[string]string{"a.json": strings.Repeat("reed bed ", 20000), "empty.json": "",
			"noise.json": string(noise), "b.wav": strings.Repeat("w", 9000)}
		for key, text := range texts {
			w.put(t, key, text)
		}
		op := map[string]string{"s3": "UploadPart", "blob": "PutBlock"}[kind]
		w.server.SetFaults(standin.Fault{Op: op, Do: "500", Chance: 0.2})
		var p *plan.Plan
		round := func() transfer.Outcome {
			w.plans++
			base := filepath.Join(w.temp, fmt.Sprint(w.plans))
			a, err := catalog.Survey(ctx, w.folder, base+"-a", catalog.Options{})
			require.NoError(t, err)
			defer a.Close()
			b, err := catalog.Survey(ctx, w.store, base+"-b", catalog.Options{})
			require.NoError(t, err)
			defer b.Close()
			known, err := agreed.OpenMemory(w.temp, w.folder.Name(), w.store.Name())
			require.NoError(t, err)
			defer known.Close()
			rules := rule.Default()
			rules.As.Gzip = []string{"**/*.json"}
			p, err = plan.Build(ctx, base+".plan", a, b, plan.Options{Rules: rules, Source: w.folder.Abilities(),
				Target: w.store.Abilities(), Agreed: known.States, Doubts: known.Doubts, Number: w.plans})
			require.NoError(t, err)
			defer p.Close()
			out, snap := w.run(t, ctx, p, w.folder, w.store, quick)
			require.Zero(t, out.Failed, "%+v", snap.Problems)
			require.NoError(t, transfer.Agree(ctx, w.temp, known, p, p.Path+".ledger"))
			sum, err := proof.Run(ctx, base+"-proof", w.folder, w.store, a, mustSurvey(t, w.store, base+"-c"), nil,
				proof.Options{Method: compare.ByStoredSum, Gzips: rules.As.Gzips()})
			require.NoError(t, err)
			require.True(t, sum.Holds(), "%+v", sum)
			return out
		}
		assert.EqualValues(t, 4, round().Objects)
		for key, text := range texts {
			r, e, err := w.store.Read(ctx, key, place.ReadOptions{})
			require.NoError(t, err)
			raw, err := io.ReadAll(r)
			require.NoError(t, err)
			r.Close()
			if key == "b.wav" {
				assert.Equal(t, text, string(raw))
				assert.Empty(t, e.ContentEncoding)
				continue
			}
			assert.Equal(t, "gzip", e.ContentEncoding, key)
			zip, err := gzip.NewReader(bytes.NewReader(raw))
			require.NoError(t, err)
			plain, err := io.ReadAll(zip)
			require.NoError(t, err)
			assert.True(t, text == string(plain), key)
			if key == "a.json" {
				assert.Less(t, len(raw), len(text)/50)
			}
		}
		assert.Zero(t, round().Objects, "nothing to do")
		now := time.Now().Add(-time.Minute)
		w.put(t, "a.json", strings.Repeat("salt pan ", 20000)) // as long as it was
		require.NoError(t, os.Chtimes(filepath.Join(w.dir, "a.json"), now, now))
		assert.EqualValues(t, 1, round().Objects)
		if parts, ok := w.store.(place.PartWriter); ok {
			left, err := parts.Uploads(ctx)
			require.NoError(t, err)
			assert.Empty(t, left)
		}
	}
}

func mustSurvey(t *testing.T, p place.Place, path string) *catalog.Catalog {
	c, err := catalog.Survey(ctx, p, path, catalog.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}
