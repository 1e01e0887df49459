package report_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/catalog"
	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/core/proof"
	"lumtra/core/report"
	"lumtra/core/rule"
)

// What begins like a formula is none in a spreadsheet, in whatever column a name stands;
// and what would steer a terminal is escaped.
func TestCells(t *testing.T) {
	dir := t.TempDir()
	names := []string{"=cmd", "+1", "-1", "@sum", "plain", "\x1b[2J", "\t=x", "ü"}
	open := func(name string, keys ...string) *catalog.Catalog {
		w, err := catalog.Create(filepath.Join(dir, name), catalog.Info{Place: name})
		require.NoError(t, err)
		for _, k := range keys {
			require.NoError(t, w.Add(&object.Entry{Key: k, Size: 1, Modified: time.Unix(1e9, 0)}))
		}
		_, err = w.Finish()
		require.NoError(t, err)
		c, err := catalog.Open(filepath.Join(dir, name))
		require.NoError(t, err)
		t.Cleanup(func() { c.Close() })
		return c
	}
	p, err := plan.Build(context.Background(), filepath.Join(dir, "p"),
		open("a", "\t=x", "\x1b[2J", "+1", "-1", "=cmd", "@sum", "plain", "ü"), open("b"),
		plan.Options{Rules: rule.Default()})
	require.NoError(t, err)
	defer p.Close()
	var out bytes.Buffer
	require.NoError(t, report.Plan(&out, p, report.CSV))
	rows, err := csv.NewReader(&out).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 1+len(names))
	keys := map[string]bool{}
	for _, row := range rows[1:] {
		keys[row[2]] = true
		for _, cell := range row {
			assert.False(t, strings.ContainsAny(cell[:min(len(cell), 1)], "=+-@\t\r\x1b"), "%q", cell)
		}
	}
	assert.True(t, keys["'=cmd"] && keys["'+1"] && keys["'-1"] && keys["'@sum"] && keys["plain"] && keys["ü"], "%v",
		keys)
}

// A proof that does not hold is not drawn as one that does, whatever it is that it lacks.
func TestProofColours(t *testing.T) {
	drawn := func(change func(*proof.Summary)) string {
		s := &proof.Summary{Job: "masters", Number: 3, Objects: map[proof.Verdict]int64{}}
		s.Objects[proof.Same] = 5
		change(s)
		var out bytes.Buffer
		require.NoError(t, report.Proof(&out, s, nil, report.SVG))
		text := strings.ToLower(out.String())
		good, bad := strings.Contains(text, "2f8f83"), strings.Contains(text, "c2350f")
		require.NotEqual(t, good, bad)
		return map[bool]string{true: "holds", false: "does not hold"}[good]
	}
	assert.Equal(t, "holds", drawn(func(*proof.Summary) {}))
	assert.Equal(t, "holds", drawn(func(s *proof.Summary) { s.Objects[proof.Extra] = 1 }))
	for name, change := range map[string]func(*proof.Summary){
		"different":                     func(s *proof.Summary) { s.Objects[proof.Different] = 1 },
		"missing":                       func(s *proof.Summary) { s.Objects[proof.Missing] = 1 },
		"unproven":                      func(s *proof.Summary) { s.Objects[proof.Unproven] = 1 },
		"gaps":                          func(s *proof.Summary) { s.Gaps = 1 },
		"extra, where both sides count": func(s *proof.Summary) { s.Both, s.Objects[proof.Extra] = true, 1 },
	} {
		assert.Equal(t, "does not hold", drawn(change), name)
	}
}
