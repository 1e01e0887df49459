package plan_test

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/core/segment"
	"lumtra/testkit"
)

// A plan may have been forged by who sent its workspace: whatever stands in its
// effects, reading them ends in an error or in effects that can be told in words.
func TestForgedEffects(t *testing.T) {
	dir := t.TempDir()
	whole := plan.Effect{Kind: plan.Change, Reason: plan.OtherSize, Note: "n", Aside: "a", Moved: plan.AtBoth,
		Source: &object.Entry{Size: 3, Modified: time.Unix(5, 0), ETag: "e", Mode: object.ModeOf(0o640),
			Sums: []object.Sum{{Kind: object.CRC64NVME, Value: "12345678"}}}, Target: &object.Entry{Size: 4}}
	n, read := 0, 0
	testkit.Check(t, func(t *rapid.T) {
		n++
		raw := plan.AppendEffect(nil, &whole)
		for range rapid.IntRange(0, 6).Draw(t, "changes") {
			raw[rapid.IntRange(0, len(raw)-1).Draw(t, "at")] = rapid.Byte().Draw(t, "byte")
		}
		raw = raw[:rapid.IntRange(len(raw)-4, len(raw)).Draw(t, "length")]
		path := filepath.Join(dir, "forged.plan")
		w, err := segment.Create(path, plan.Magic)
		require.NoError(t, err)
		require.NoError(t, w.Add("masters/reed.wav", raw))
		require.NoError(t, w.Finish(plan.Info{}))
		p, err := plan.Open(path)
		require.NoError(t, err)
		defer p.Close()
		for c := p.Effects(""); c.Next(); {
			e := c.Effect()
			_ = e.Why() + e.Kind.String()
			require.GreaterOrEqual(t, e.Bytes(), int64(0))
			read++
		}
		p.Folder(t.Context(), "")
	})
	require.Positive(t, read, "not all are refused")
}
