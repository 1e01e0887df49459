package proof_test

import (
	"context"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/catalog"
	"lumtra/core/compare"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/folder"
	"lumtra/core/proof"
	"lumtra/core/rule"
)

// sides are two folders with these files, name to text, and their surveys.
func sides(t *testing.T, source, target map[string]string) (a, b place.Place, ca, cb *catalog.Catalog) {
	survey := func(texts map[string]string) (place.Place, *catalog.Catalog) {
		end, err := folder.OpenEndpoint("side", t.TempDir(), folder.Options{})
		require.NoError(t, err)
		t.Cleanup(func() { end.Close() })
		p, err := end.Open("")
		require.NoError(t, err)
		for key, text := range texts {
			_, err := p.Write(ctx, key, strings.NewReader(text), int64(len(text)),
				place.WriteOptions{Original: time.Unix(1e9, 0)})
			require.NoError(t, err)
		}
		c, err := catalog.Survey(ctx, p, filepath.Join(t.TempDir(), "c"), catalog.Options{})
		require.NoError(t, err)
		t.Cleanup(func() { c.Close() })
		return p, c
	}
	a, ca = survey(source)
	b, cb = survey(target)
	return a, b, ca, cb
}

// A proof is of what the job takes: what it leaves out, what it took away and what it put
// away is nobody's difference.
func TestProofIsOfTheJob(t *testing.T) {
	a, b, ca, cb := sides(t, map[string]string{"a.wav": "a", "b.wav": "b", "draft.txt": "d", "_sent/old.wav": "o"},
		map[string]string{"a.wav": "a", "c.wav": "c", "notes.txt": "n", "_trash/1/x.wav": "x"})
	match, err := (&rule.Selection{Include: []string{"**/*.wav"}}).Compile(time.Now())
	require.NoError(t, err)
	for name, c := range map[string]struct {
		opts proof.Options
		want map[proof.Verdict]int64
	}{
		"all": {proof.Options{}, map[proof.Verdict]int64{proof.Same: 1, proof.Missing: 3, proof.Extra: 3}},
		"selected": {proof.Options{Select: match}, map[proof.Verdict]int64{proof.Same: 1, proof.Missing: 2,
			proof.Extra: 2}},
		"trash": {proof.Options{Trash: "_trash"}, map[proof.Verdict]int64{proof.Same: 1, proof.Missing: 3,
			proof.Extra: 2}},
		"archive": {proof.Options{Archive: "_sent"}, map[proof.Verdict]int64{proof.Same: 1, proof.Missing: 2,
			proof.Extra: 3}},
		"together": {proof.Options{Select: match, Trash: "_trash", Archive: "_sent"},
			map[proof.Verdict]int64{proof.Same: 1, proof.Missing: 1, proof.Extra: 1}},
		"no prefix": {proof.Options{Trash: "_tras", Archive: "_sen"},
			map[proof.Verdict]int64{proof.Same: 1, proof.Missing: 3, proof.Extra: 3}},
	} {
		c.opts.Method = compare.ByReadBack
		sum, err := proof.Run(ctx, filepath.Join(t.TempDir(), "p"), a, b, ca, cb, nil, c.opts)
		require.NoError(t, err)
		assert.Equal(t, c.want, sum.Objects, name)
	}
}

// The manifest of digests has a line for each object that is the same, as `sha256sum -c`
// reads it, and none for others; how far it has come is told on the way.
func TestDigestManifest(t *testing.T) {
	a, b, ca, cb := sides(t, map[string]string{"a.wav": "a", "b\nb.wav": "bb", "c.wav": "c", "d.wav": "d"},
		map[string]string{"a.wav": "a", "b\nb.wav": "bb", "c.wav": "x"})
	dir := filepath.Join(t.TempDir(), "p")
	var progress proof.Progress
	sum, err := proof.Run(ctx, dir, a, b, ca, cb, &progress,
		proof.Options{Method: compare.ByReadBack, Digest: object.SHA256})
	require.NoError(t, err)
	assert.Equal(t, map[proof.Verdict]int64{proof.Same: 2, proof.Different: 1, proof.Missing: 1}, sum.Objects)
	assert.Equal(t, "sha256", sum.Digest)
	raw, err := os.ReadFile(filepath.Join(dir, proof.DigestFile(object.SHA256)))
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("%x  a.wav\n\\%x  b\\nb.wav\n", sha256.Sum256([]byte("a")),
		sha256.Sum256([]byte("bb"))), string(raw))
	assert.Equal(t, []int64{4, 5}, []int64{progress.Objects.Load(), progress.Bytes.Load()})
	manifest, err := os.ReadFile(filepath.Join(dir, proof.ManifestFile))
	require.NoError(t, err)
	assert.Equal(t, 2, strings.Count(string(manifest), `"digest":"sha256:`), "digests of what is the same alone")
}

// A proof whose files cannot be written, or whose surveys are damaged, is none.
func TestNoProof(t *testing.T) {
	texts := map[string]string{}
	for i := range 40 {
		texts[fmt.Sprintf("%05d", i)] = "t"
	}
	a, b, ca, cb := sides(t, texts, texts)
	for _, name := range []string{proof.ManifestFile, proof.DifferencesFile, proof.FoldersFile,
		proof.DigestFile(object.SHA256), proof.SummaryFile, proof.DocumentFile} {
		dir := filepath.Join(t.TempDir(), "p")
		require.NoError(t, os.MkdirAll(filepath.Join(dir, name), 0o700))
		_, err := proof.Run(ctx, dir, a, b, ca, cb, nil, proof.Options{Method: compare.BySize, Digest: object.SHA256})
		assert.Error(t, err, name)
	}
	gone, cancel := cancelled()
	defer cancel()
	_, err := proof.Run(gone, filepath.Join(t.TempDir(), "p"), a, b, ca, cb, nil, proof.Options{Method: compare.BySize})
	assert.Error(t, err)
	require.NoError(t, cb.Close())
	dir := filepath.Join(t.TempDir(), "p")
	_, err = proof.Run(ctx, dir, a, b, ca, cb, nil, proof.Options{Method: compare.BySize})
	assert.Error(t, err, "a survey that cannot be read is not one without objects")
	_, err = proof.Read(dir)
	assert.Error(t, err)
}

func cancelled() (context.Context, context.CancelFunc) {
	gone, cancel := context.WithCancel(ctx)
	cancel()
	return gone, cancel
}
