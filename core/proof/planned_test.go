package proof_test

import (
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
	"lumtra/core/proof"
)

// newFolder is an empty folder, and the place that it is.
func newFolder(t *testing.T, name string) (dir string, at place.Place) {
	dir = filepath.Join(t.TempDir(), name)
	require.NoError(t, os.Mkdir(dir, 0o755))
	end, err := folder.OpenEndpoint(filepath.Base(dir), dir, folder.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { end.Close() })
	at, err = end.Open("")
	require.NoError(t, err)
	return dir, at
}

func surveyOf(t *testing.T, p place.Place) *catalog.Catalog {
	c, err := catalog.Survey(ctx, p, filepath.Join(t.TempDir(), "survey"), catalog.Options{})
	require.NoError(t, err)
	return c
}

// putAged puts a text under a key, or nothing for "". Another length is another time; "b" is as old as "a".
func putAged(t *testing.T, dir, key, text string) {
	path := filepath.Join(dir, key)
	require.NoError(t, os.RemoveAll(path))
	if text == "" {
		return
	}
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	at := time.Unix(1e9+int64(len(text)), 0)
	require.NoError(t, os.Chtimes(path, at, at))
}

// Of each key: what was there when the plan was made, what is there now, and what a proof of the plan's
// run says of it, held to the source alone and both ways. "" is for nothing there.
func TestHeldToAPlan(t *testing.T) {
	const same, missing, different, extra, since = proof.Same, proof.Missing, proof.Different, proof.Extra, proof.Since
	cases := map[string]struct {
		hadSource, hadTarget, source, target string
		want, both                           proof.Verdict
	}{
		"copied":                         {"a", "", "a", "a", same, same},
		"never copied":                   {"a", "", "a", "", missing, missing},
		"copied wrong":                   {"a", "", "a", "b", different, different},
		"old copy was left":              {"a2", "a", "a2", "a", different, different},
		"lost at the target":             {"a", "a", "a", "", missing, missing},
		"came since":                     {"", "", "a", "", since, since},
		"came since, at both":            {"", "", "a", "a", same, same},
		"came since, another was there":  {"", "b", "a", "b", since, since},
		"changed since":                  {"a", "a", "aa", "a", since, since},
		"changed since, not copied":      {"a", "", "aa", "", since, since},
		"changed since, copied so":       {"a", "", "aa", "aa", same, same},
		"gone since":                     {"a", "", "", "a", extra, since},
		"there alone":                    {"", "b", "", "b", extra, extra},
		"came to the target since":       {"", "", "", "b", extra, since},
		"changed at the target since":    {"", "b", "", "bb", extra, since},
		"gone from both":                 {"a", "a", "", "", "", ""},
		"the same, and as it always was": {"a", "a", "a", "a", same, same},
	}
	from, source := newFolder(t, "source")
	to, target := newFolder(t, "target")
	survey := func() (a, b *catalog.Catalog) { return surveyOf(t, source), surveyOf(t, target) }
	for key, c := range cases {
		putAged(t, from, key, c.hadSource)
		putAged(t, to, key, c.hadTarget)
	}
	hadSource, hadTarget := survey()
	planned := &proof.Planned{Source: hadSource, Target: hadTarget}
	defer func() { require.NoError(t, planned.Close()) }()
	for key, c := range cases {
		putAged(t, from, key, c.source)
		putAged(t, to, key, c.target)
	}
	a, b := survey()
	defer a.Close()
	defer b.Close()
	for _, both := range []bool{false, true} {
		dir := t.TempDir()
		s, err := proof.Run(ctx, dir, source, target, a, b, nil,
			proof.Options{Job: "live", Number: 1, Method: compare.ByReadBack, Both: both, Plan: 7, Planned: planned})
		require.NoError(t, err)
		lines, err := proof.ReadDifferences(dir, 100)
		require.NoError(t, err)
		found := map[string]proof.Verdict{}
		for _, l := range lines {
			found[l.Key] = l.Verdict
			assert.Equal(t, l.Verdict == since, strings.Contains(l.Why, "after the plan was made"), "%s: %s", l.Key,
				l.Why)
			if why := map[string]string{"gone since": "went from the source",
				"changed since":            "was changed at the source",
				"came since":               "came to the source",
				"came to the target since": "came to the target"}[l.Key]; l.Verdict == since {
				assert.Contains(t, l.Why, why, l.Key)
			}
		}
		for key, c := range cases {
			want := c.want
			if both {
				want = c.both
			}
			if want == same {
				want = ""
			}
			assert.Equal(t, want, found[key], "%s, both ways: %t", key, both)
		}
		assert.Equal(t, 7, s.Plan)
		assert.Equal(t, both, s.Objects[since] == 7, "%v", s.Objects)
		assert.False(t, s.Holds())
		text, err := os.ReadFile(filepath.Join(dir, proof.DocumentFile))
		require.NoError(t, err)
		assert.Contains(t, string(text),
			"Held to   plan 7: what came or was changed after it was made is no difference")
		assert.Regexp(t, `(?m)^changed since +\d objects`, string(text))
	}
}
