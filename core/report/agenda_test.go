package report

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/forecast"
	"lumtra/core/schedule"
	"lumtra/core/starts"
)

// Jobs over time are drawn in both forms, with their names, whatever stands in them; other forms are
// refused.
func TestAgenda(t *testing.T) {
	now := time.Date(2026, 3, 23, 12, 0, 0, 0, time.UTC)
	x, err := schedule.New(&schedule.Settings{Start: "daily at 01:30", Zone: "UTC"}, nil)
	require.NoError(t, err)
	jobs := []forecast.Job{{Name: "masters <b>", Schedule: x, Endpoints: []string{"north"},
		Past: []forecast.Past{{Began: now.Add(-11 * time.Hour), Ended: now.Add(-10 * time.Hour), Bytes: 1e9}}}}
	a := &AgendaOf{Title: "Saltmarsh", From: now.Add(-24 * time.Hour), Now: now, To: now.Add(48 * time.Hour),
		Jobs:   jobs,
		Coming: forecast.Starts(jobs, now, now.Add(48*time.Hour), 10),
		Kept:   []starts.Row{{Job: "masters <b>", Slot: now.Add(-5 * time.Hour), State: starts.Missed}}}
	var svg, pdf bytes.Buffer
	require.NoError(t, Agenda(&svg, a, SVG))
	assert.Contains(t, svg.String(), "masters &lt;b&gt;")
	assert.Contains(t, svg.String(), "2 coming starts in the drawing, 0 collisions")
	require.NoError(t, Agenda(&pdf, a, PDF))
	assert.True(t, bytes.HasPrefix(pdf.Bytes(), []byte("%PDF-")))
	assert.Error(t, Agenda(&pdf, a, CSV))
	for span, most := range map[time.Duration]int{time.Hour: 1, 24 * time.Hour: 12, 90 * 24 * time.Hour: 12} {
		assert.LessOrEqual(t, len(ticks(now, now.Add(span))), most)
	}
}
