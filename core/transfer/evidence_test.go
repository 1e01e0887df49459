package transfer_test

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/agreed"
	"lumtra/core/catalog"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/rule"
	"lumtra/core/transfer"
	"lumtra/standin"
)

// remembered plans by what is remembered in w.temp, and keeps what the run leaves there.
func (w *world) remembered(t *testing.T, from, to place.Place, rules rule.Rules, opts transfer.Options) (*plan.Plan,
	transfer.Outcome) {
	w.plans++
	base := filepath.Join(w.temp, "remembered")
	a, err := catalog.Survey(ctx, from, base+"-a", catalog.Options{})
	require.NoError(t, err)
	defer a.Close()
	b, err := catalog.Survey(ctx, to, base+"-b", catalog.Options{})
	require.NoError(t, err)
	defer b.Close()
	known, err := agreed.OpenMemory(w.temp, from.Name(), to.Name())
	require.NoError(t, err)
	defer known.Close()
	p, err := plan.Build(ctx, filepath.Join(w.temp, plan.FileName(w.plans)), a, b, plan.Options{Rules: rules,
		Number: w.plans, Source: from.Abilities(), Target: to.Abilities(), Agreed: known.States, Doubts: known.Doubts})
	require.NoError(t, err)
	t.Cleanup(func() { p.Close() })
	out, m := w.run(t, ctx, p, from, to, opts)
	t.Log(m.Problems)
	require.NoError(t, transfer.Agree(ctx, w.temp, known, p, p.Path+".ledger"))
	return p, out
}

// A source goes only if what the target holds equals it by two independent readings, or by a sum
// that the store itself vouches for: never by the sum of the very reading that made the copy.
func TestEvidence(t *testing.T) {
	content := map[string]string{"small.wav": "as it was recorded", "large.wav": strings.Repeat("tide ", 4<<20)}
	for name, c := range map[string]struct {
		evidence  rule.Evidence
		twice     bool
		afterward rule.Afterwards
		goes      bool // at the first run
		right     bool // at the target, in the end
	}{
		"deleted":            {afterward: rule.DeleteSource, right: true},
		"archived":           {afterward: rule.ArchiveSource, right: true},
		"read twice at once": {twice: true, afterward: rule.DeleteSource, goes: true, right: true},
		"given up by name":   {evidence: rule.OneReading, afterward: rule.DeleteSource, goes: true},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorldWith(t, "s3", standin.SumsIgnored) // and its ETags are no MD5s
			for key, text := range content {
				write(t, w.store, key, text)
			}
			for key := range content { // one bit, once, on the way here
				w.server.SetFaults(standin.Fault{Op: "GetObject", Do: "corrupt", Times: 1, Key: key})
				rules := rule.Default()
				rules.Afterwards, rules.Safety.Evidence = c.afterward, c.evidence
				rules.Select.Include = []string{key}
				opts := quick
				opts.ReadTwice = c.twice
				_, out := w.remembered(t, w.store, w.folder, rules, opts)
				assert.Equal(t, c.goes, out.SeenTo == 1, "%s: a damaged copy lets its source go", key)
				if !c.goes {
					assert.EqualValues(t, 1, out.Failed)
					assert.True(t, texts(t, w.store)[key] == content[key], key)
					p, again := w.remembered(t, w.store, w.folder, rules, opts)
					assert.EqualValues(t, 1, p.Info.Totals[plan.Change].Count, "the next plan offers to mend it")
					assert.Zero(t, again.Failed)
					assert.EqualValues(t, 1, again.SeenTo)
				}
				assert.Equal(t, c.right, texts(t, w.folder)[key] == content[key], key)
				_, left := texts(t, w.store)[key]
				assert.False(t, left, key)
			}
		})
	}
}

// Where the source keeps a sum of its own, one reading is enough.
func TestEvidenceOfTheStore(t *testing.T) {
	w := newWorld(t)
	write(t, w.store, "a.wav", "as it was recorded")
	rules := rule.Default()
	rules.Afterwards = rule.DeleteSource
	from := &late{Place: w.store}
	out, m := w.run(t, ctx, w.planBy(t, w.store, w.folder, rules), from, w.folder, quick)
	assert.Zero(t, out.Failed, "%v", m.Problems)
	assert.EqualValues(t, 1, out.SeenTo)
	assert.EqualValues(t, 1, from.reads.Load())
}
