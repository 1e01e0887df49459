package proof_test

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/agreed"
	"lumtra/core/catalog"
	"lumtra/core/compare"
	"lumtra/core/proof"
)

// Of each key of a job that goes both ways: what either side had when the plan was made, how its run left them, what
// is there now, and what a proof of the run says. "" is for nothing there; a "!" behind what was left tells that
// the run has not noted it, as it failed there, and a "?" that what is at the target is in doubt.
func TestHeldToAPlanOfBothWays(t *testing.T) {
	const same, missing, different, extra, since = proof.Same, proof.Missing, proof.Different, proof.Extra, proof.Since
	type sides [2]string
	cases := map[string]struct {
		had, left, now sides
		want           proof.Verdict
	}{
		"copied there":                   {sides{"a", ""}, sides{"a", "a"}, sides{"a", "a"}, same},
		"copied back":                    {sides{"", "a"}, sides{"a", "a"}, sides{"a", "a"}, same},
		"copied there wrong":             {sides{"a", ""}, sides{"a", "b"}, sides{"a", "b"}, different},
		"copied back wrong":              {sides{"", "a"}, sides{"b", "a"}, sides{"b", "a"}, different},
		"changed there wrong":            {sides{"aa", "a"}, sides{"aa", "bb"}, sides{"aa", "bb"}, different},
		"changed back wrong":             {sides{"a", "aa"}, sides{"bb", "aa"}, sides{"bb", "aa"}, different},
		"never changed there":            {sides{"aa", "a"}, sides{"aa", "aa"}, sides{"aa", "a"}, different},
		"not copied":                     {sides{"a", ""}, sides{"a", "!"}, sides{"a", ""}, missing},
		"not copied back":                {sides{"", "a"}, sides{"", "a!"}, sides{"", "a"}, extra},
		"a conflict":                     {sides{"a", "bb"}, sides{"a", "bb!"}, sides{"a", "bb"}, different},
		"a conflict, changed since":      {sides{"a", "bb"}, sides{"a", "bb!"}, sides{"a", "bbb"}, since},
		"in doubt":                       {sides{"a", ""}, sides{"a", "bb?"}, sides{"a", "bb"}, different},
		"changed there since":            {sides{"a", ""}, sides{"a", "a"}, sides{"a", "aa"}, since},
		"changed here since":             {sides{"", "a"}, sides{"a", "a"}, sides{"aa", "a"}, since},
		"as ever, changed there since":   {sides{"a", "a"}, sides{"a", "a"}, sides{"a", "aa"}, since},
		"changed at both since, same":    {sides{"a", "a"}, sides{"a", "a"}, sides{"aa", "aa"}, same},
		"came there since":               {sides{"", ""}, sides{"", "!"}, sides{"", "a"}, since},
		"came here since":                {sides{"", ""}, sides{"", "!"}, sides{"a", ""}, since},
		"as ever, went there since":      {sides{"a", "a"}, sides{"a", "a"}, sides{"a", ""}, since},
		"as ever, went here since":       {sides{"a", "a"}, sides{"a", "a"}, sides{"", "a"}, since},
		"copied there, and lost":         {sides{"a", ""}, sides{"a", "a"}, sides{"a", ""}, missing},
		"copied back, and lost":          {sides{"", "a"}, sides{"a", "a"}, sides{"", "a"}, extra},
		"changed there, and lost":        {sides{"aa", "a"}, sides{"aa", "aa"}, sides{"aa", ""}, missing},
		"deleted there, and still there": {sides{"", "a"}, sides{"", "!"}, sides{"", "a"}, extra},
		"deleted there, and again there": {sides{"", "a"}, sides{"", "!"}, sides{"", "aa"}, since},
	}
	from, source := newFolder(t, "source")
	to, target := newFolder(t, "target")
	put := func(s sides, key string) {
		putAged(t, from, key, s[0])
		putAged(t, to, key, strings.TrimRight(s[1], "!?"))
	}
	survey := func() (a, b *catalog.Catalog) { return surveyOf(t, source), surveyOf(t, target) }
	for key, c := range cases {
		put(c.had, key)
	}
	planned := &proof.Planned{}
	planned.Source, planned.Target = survey()
	for key, c := range cases {
		put(c.left, key)
	}
	a, b := survey()
	memory := t.TempDir()
	w, err := agreed.Create(filepath.Join(memory, agreed.StatesFile), agreed.Info{Job: "both", Plan: 7,
		Source: source.Name(), Target: target.Name()})
	require.NoError(t, err)
	q, err := agreed.CreateDoubts(filepath.Join(memory, agreed.DoubtsFile), agreed.DoubtsInfo{Source: source.Name(),
		Target: target.Name()})
	require.NoError(t, err)
	for m := catalog.NewMerge(a.Cursor(""), b.Cursor("")); m.Next(); {
		if m.A == nil || m.B == nil {
			continue
		}
		key := m.A.Key
		switch left := cases[key].left[1]; {
		case strings.HasSuffix(left, "!"):
		case strings.HasSuffix(left, "?"):
			require.NoError(t, q.Add(key, &agreed.Doubt{Kind: agreed.Unlooked, Source: *m.A, Plan: 7}))
		default:
			require.NoError(t, w.Add(key, &agreed.State{Source: *m.A, Target: *m.B}), key)
		}
	}
	require.NoError(t, w.Finish())
	require.NoError(t, q.Finish())
	require.NoError(t, a.Close())
	require.NoError(t, b.Close())
	planned.Left, err = agreed.OpenMemory(memory, source.Name(), target.Name())
	require.NoError(t, err)
	defer func() { require.NoError(t, planned.Close()) }()
	for key, c := range cases {
		put(c.now, key)
	}
	a, b = survey()
	defer a.Close()
	defer b.Close()
	dir := t.TempDir()
	_, err = proof.Run(ctx, dir, source, target, a, b, nil, proof.Options{Job: "both", Number: 1,
		Method: compare.ByReadBack, Both: true, Plan: 7, Planned: planned})
	require.NoError(t, err)
	lines, err := proof.ReadDifferences(dir, 100)
	require.NoError(t, err)
	found := map[string]proof.Verdict{}
	for _, l := range lines {
		found[l.Key] = l.Verdict
		side := "source"
		if strings.Contains(l.Key, "there") || strings.Contains(l.Key, "conflict") {
			side = "target"
		}
		assert.Equal(t, l.Verdict == since, strings.Contains(l.Why, "the "+side+" after the plan was made"), "%s: %s",
			l.Key, l.Why)
	}
	for key, c := range cases {
		if c.want == same {
			c.want = ""
		}
		assert.Equal(t, c.want, found[key], key)
	}
}
