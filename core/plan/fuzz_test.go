package plan

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/segment"
)

// An effect that can be read says what it is, and is the same when written again.
func FuzzEffect(f *testing.F) {
	for _, e := range []Effect{
		{Kind: Change, Reason: OtherSize, Note: "n", Aside: "a", Moved: AtBoth,
			Source: &object.Entry{Size: 3, Modified: time.Unix(5, 0), ETag: "e"}, Target: &object.Entry{Size: 4}},
		{Kind: Remove, Reason: Extraneous, Target: &object.Entry{Size: 1}},
		{Kind: Conflict, Reason: Undecided, Source: &object.Entry{}, Target: &object.Entry{}},
		{Kind: Add, Back: true, Reason: NotThere, Target: &object.Entry{Class: "GLACIER"}},
	} {
		f.Add(e.append(nil))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		var e Effect
		if e.decode("masters/a.wav", raw) != nil {
			return
		}
		require.True(t, e.Why() != "" || e.Note == "")
		require.GreaterOrEqual(t, e.Bytes(), int64(0))
		var again Effect
		require.NoError(t, again.decode("masters/a.wav", e.append(nil)))
		require.Equal(t, e, again)
	})
}

// What lies beside a plan as a person's choices is refused, or about another plan, or
// leaves a plan whose parts add up.
func FuzzChoices(f *testing.F) {
	dir := f.TempDir()
	path := filepath.Join(dir, FileName(1))
	w, err := segment.Create(path, magic)
	require.NoError(f, err)
	for _, key := range []string{"a", "ab", "b/1", "b/2"} {
		e := Effect{Kind: Remove, Reason: Extraneous, Target: &object.Entry{Size: 5}}
		require.NoError(f, w.Add(key, e.append(nil)))
	}
	require.NoError(f, w.Finish(Info{Job: "masters"}))
	p, err := Open(path)
	require.NoError(f, err)
	sum := p.fileSum
	require.NoError(f, p.Close())
	f.Add([]byte(`{"of":"` + sum + `","struck":["a","b/"],"decided":{"b/1":"source"}}`))
	f.Add([]byte(`{"of":"` + sum + `","summary":{"Totals":[{"Count":-1}]},"approved":{"deletions":4}}`))
	f.Add([]byte(`{"of":"x","struck":[""]}`))
	f.Add([]byte(`{`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		require.NoError(t, os.WriteFile(choicesPath(path), raw, 0o600))
		p, err := Open(path)
		if err != nil {
			return
		}
		defer p.Close()
		_ = p.Approved()
		require.NoError(t, p.Recount(t.Context()))
		if !p.Choices.any() {
			return
		}
		var sum Totals
		for c := p.Effects(""); c.Next(); {
			sum.Add(c.Effect())
		}
		require.Equal(t, sum, p.Info.Totals)
	})
}
