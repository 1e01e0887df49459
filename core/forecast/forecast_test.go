package forecast

import (
	"bytes"
	"strings"
	"testing"
	"time"

	goical "github.com/emersion/go-ical"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/schedule"
)

var monday = time.Date(2026, 3, 23, 0, 0, 0, 0, time.UTC)

func job(t *testing.T, name, start string, took []time.Duration, endpoints ...string) Job {
	x, err := schedule.New(&schedule.Settings{Start: start, Zone: "UTC"}, nil)
	require.NoError(t, err)
	j := Job{Name: name, Schedule: x, Endpoints: endpoints}
	for i, d := range took {
		began := monday.Add(-time.Duration(i+1) * 24 * time.Hour)
		j.Past = append(j.Past, Past{began, began.Add(d), int64(d.Seconds()) * 1000})
	}
	return j
}

// What comes is as long as past runs took; two that want one endpoint at once collide for as long as
// both are at it, and not when one is moved away.
func TestCollisions(t *testing.T) {
	hour := []time.Duration{time.Hour, 50 * time.Minute, 80 * time.Minute}
	jobs := []Job{job(t, "a", "daily at 01:30", hour, "north", "studio"), job(t, "b", "daily at 02:00", hour[:1],
		"north"),
		job(t, "c", "daily at 02:00", hour[:1], "hill"), job(t, "new", "daily at 01:30", nil, "north"),
		job(t, "by hand", "", hour, "north")}
	all := Starts(jobs, monday, monday.Add(24*time.Hour), 10)
	require.Len(t, all, 4)
	assert.Equal(t, []string{"a", "new", "b", "c"}, []string{all[0].Job, all[1].Job, all[2].Job, all[3].Job})
	assert.Equal(t, [3]time.Duration{50 * time.Minute, time.Hour, 80 * time.Minute},
		[3]time.Duration{all[0].Short, all[0].Usual, all[0].Longest})
	found := Collisions(jobs, all, 10)
	require.Len(t, found, 1, "one without a past collides with nothing that is known")
	assert.Equal(t, "north", found[0].Endpoint)
	assert.Equal(t, 30*time.Minute, found[0].Longer())
	jobs[0] = job(t, "a", "daily at 00:45", hour, "north", "studio")
	assert.Empty(t, Collisions(jobs, Starts(jobs, monday, monday.Add(24*time.Hour), 10), 10))
	assert.Len(t, Starts(jobs[:1], monday, monday.Add(240*time.Hour), 3), 3, "so many of each")
}

// The load by the hours of the week is what runs moved, spread over the hours they took.
func TestLoad(t *testing.T) {
	j := Job{Name: "a", Endpoints: []string{"north"}, Past: []Past{
		{monday.Add(90 * time.Minute), monday.Add(150 * time.Minute), 3600 * 100}}}
	w := Load([]Job{j}, "north", monday, monday.Add(7*24*time.Hour), time.UTC)
	assert.InDelta(t, 50, w[time.Monday][1], 0.01, "half of the hour at 100 bytes a second")
	assert.InDelta(t, 50, w[time.Monday][2], 0.01)
	assert.Zero(t, w[time.Monday][3])
	assert.InDelta(t, 50, w.Most(), 0.01)
	assert.InDelta(t, 25, Load([]Job{j}, "north", monday, monday.Add(14*24*time.Hour), time.UTC).Most(), 0.01,
		"a mean of weeks")
	assert.Zero(t, Load([]Job{j}, "north", monday, monday, time.UTC).Most(), "of no time at all")
	assert.Zero(t, Load([]Job{j}, "hill", monday, monday.Add(7*24*time.Hour), time.UTC).Most())
	jobs := []Job{job(t, "b", "mon at 01:30", []time.Duration{time.Hour}, "north")}
	e := Expected(jobs, Starts(jobs, monday, monday.Add(7*24*time.Hour), 10), "north", 1, time.UTC)
	assert.InDelta(t, 500, e[time.Monday][1], 1)
	assert.InDelta(t, 500, e[time.Monday][2], 1)
	some := append(Starts(jobs, monday, monday.Add(7*24*time.Hour), 10), Coming{Job: "gone", At: monday,
		Usual: time.Hour}, Coming{Job: "b", At: monday}) // of a job that is gone, and of one without a past
	assert.Equal(t, e, Expected(jobs, some, "north", 1, time.UTC))
	assert.Zero(t, Expected(jobs, some, "hill", 1, time.UTC).Most())
}

// The calendar names each start once, by job and time, so that it can be taken in again.
func TestCalendar(t *testing.T) {
	jobs := []Job{job(t, "masters", "daily at 01:30", []time.Duration{time.Hour}, "north")}
	all := Starts(jobs, monday, monday.Add(48*time.Hour), 10)
	var b bytes.Buffer
	require.NoError(t, WriteCalendar(&b, "Saltmarsh", all, func(string) string { return "a, b; and\nc" }, monday))
	text := b.String()
	assert.Equal(t, 2, strings.Count(text, "BEGIN:VEVENT"))
	assert.Contains(t, text, "UID:masters-1774229400@lumtra")
	assert.Contains(t, text, "DTSTART:20260323T013000Z")
	assert.Contains(t, text, "DTEND:20260323T023000Z")
	// Another reader of such files understands it.
	cal, err := goical.NewDecoder(strings.NewReader(text)).Decode()
	require.NoError(t, err)
	require.Len(t, cal.Events(), 2)
	at, err := cal.Events()[0].DateTimeStart(nil)
	require.NoError(t, err)
	assert.True(t, at.Equal(monday.Add(90*time.Minute)))
	words, err := cal.Events()[0].Props.Text(goical.PropDescription)
	require.NoError(t, err)
	assert.Contains(t, words, "a, b; and\nc")
	for line := range strings.Lines(text) {
		assert.LessOrEqual(t, len(line), 77, "lines are folded")
		assert.True(t, strings.HasSuffix(line, "\r\n"))
	}
}
