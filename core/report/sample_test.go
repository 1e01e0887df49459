package report_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/pack"
	"lumtra/core/price"
	"lumtra/core/report"
	"lumtra/core/sample"
)

// What compressors made of files is written in each form, with the figures and what is recommended; names of
// kinds, which come from strangers, are escaped.
func TestSample(t *testing.T) {
	s := &sample.Sampling{Files: 1200, Bytes: 5 << 30, Read: 48 << 20, Processors: 4, Line: 10e6, Best: 1,
		Why:    "less goes over the line",
		Kinds:  []*sample.Kind{{Ending: ".json", Bytes: 4 << 30}, {Ending: ".\x1b[2J", Bytes: 1 << 30}, {Bytes: 9}},
		Single: sample.Bill{Requests: 1200, Once: 0.006, Monthly: 0.1}, Rates: &price.Rates{Currency: "EUR",
			Example: true},
		Trials: []sample.Trial{
			{Method: sample.Method{Name: "none", Form: pack.Plain}, Ratio: 1, Size: 5 << 30, In: 2e9, InAll: 4e9,
				Out: 2e9, OutAll: 4e9, Time: 540 * time.Second, OfKind: map[string]float64{".json": 1}},
			{Method: sample.Method{Name: "zstd 3", Form: pack.Zstd, Level: 3}, Ratio: 0.25, Size: 5 << 28, In: 3e8,
				InAll: 1e9, Out: 9e8, OutAll: 3e9, Time: 135 * time.Second,
				OfKind: map[string]float64{".json": 0.1, ".\x1b[2J": 0.98},
				Bill:   sample.Bill{Requests: 162, Once: 0.0008, Monthly: 0.026}}}}
	said := map[report.Format]string{}
	for _, f := range report.Formats {
		var out bytes.Buffer
		require.NoError(t, report.Sample(&out, "studio/tiles \x1b]0;", s, f))
		said[f] = out.String()
		assert.False(t, f != report.PDF && strings.Contains(said[f], "\x1b"), "%s", f)
	}
	for _, words := range []string{"zstd 3: less goes over the line.", "25.0 %  1.3 GiB", "2m15s",
		"162, 0.0008 EUR once",
		"by rates that are only examples", ".json", "without ending", "98 %"} {
		assert.Contains(t, said[report.SVG], words)
	}
	rows, err := csv.NewReader(bytes.NewReader([]byte(said[report.CSV]))).ReadAll()
	require.NoError(t, err)
	assert.Equal(t, []string{"zstd 3", "tar.zst", "0.2500", "1342177280", "300000000", "1000000000", "900000000",
		"3000000000", "135.000", "162", "0.000800", "0.026000", "true"}, rows[2])
	var back sample.Sampling
	require.NoError(t, json.Unmarshal([]byte(said[report.JSONLines]), &back))
	assert.Equal(t, s.Trials[1].Bill, back.Trials[1].Bill)
	assert.Contains(t, said[report.PDF], "%PDF-")
	assert.Error(t, report.Sample(&bytes.Buffer{}, "", s, "doc"))
}
