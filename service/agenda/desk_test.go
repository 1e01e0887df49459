package agenda

import (
	"context"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/job"
	"lumtra/core/schedule"
	"lumtra/core/starts"
	"lumtra/testkit"
)

var monday = time.Date(2026, 3, 23, 10, 7, 0, 0, time.UTC)

// timed is a job that starts as settings say.
func timed(t require.TestingT, name string, s schedule.Settings) *job.Job {
	j := job.New(name)
	j.Source, j.Target = "a/"+name, "b/"+name
	j.When.Settings = s
	var err error
	j.Schedule, err = schedule.New(&s, nil)
	require.NoError(t, err)
	return j
}

// keeper is a desk with its book, which can be killed.
type keeper struct {
	t    require.TestingT
	path string
	book *starts.Book
	desk *Desk
	jobs []*job.Job
}

// open is what a new service does first.
func (k *keeper) open(now time.Time) {
	var err error
	k.book, err = starts.Open(k.path)
	require.NoError(k.t, err)
	k.desk, err = NewDesk(context.Background(), k.book, now)
	require.NoError(k.t, err)
	require.NoError(k.t, k.desk.Sync(context.Background(), k.jobs, Limits{}, now))
}

// kill leaves nothing but the file.
func (k *keeper) kill() { require.NoError(k.t, k.book.Close()) }

func (k *keeper) due(now time.Time) []starts.Row {
	begin, _, err := k.desk.Due(context.Background(), now)
	require.NoError(k.t, err)
	return begin
}

func (k *keeper) ended(r starts.Row, state starts.State, now time.Time) {
	r.State = state
	require.NoError(k.t, k.desk.Ended(context.Background(), r, now))
}

// A year of three jobs with drawn rules in three zones whose clocks change, with the service killed
// and away at drawn moments, at starts too: each start is begun as often as its job says, once, and
// each that is not is in the book with the reason. What should be is worked out here from the times
// alone, without a desk.
func TestYearWithKills(t *testing.T) {
	testkit.Heavy(t)
	rules := []string{"daily at 01:30", "every 7 hours", "weekdays at 02:15, 23:59", "last sunday at 01:00",
		"cron 30 */6 * * *", "rrule FREQ=WEEKLY;BYDAY=SU,WE;BYHOUR=2;BYMINUTE=30", "day 29, 30, 31 at 00:00",
		"every 90 minutes"}
	zones := []string{"Europe/Lisbon", "America/New_York", "Australia/Lord_Howe"}
	testkit.Checks(t, testkit.Draws(1), func(t *rapid.T) {
		dir, err := filepath.Abs(testDir)
		require.NoError(t, err)
		k := &keeper{t: t, path: filepath.Join(dir, fmt.Sprint(time.Now().UnixNano())+".db")}
		policies := map[string]string{}
		for i, zone := range zones {
			name := fmt.Sprintf("job-%d", i)
			policies[name] = rapid.SampledFrom([]string{"run", "skip", "5h"}).Draw(t, "missed")
			k.jobs = append(k.jobs, timed(t, name, schedule.Settings{Start: rapid.SampledFrom(rules).Draw(t, "rule"),
				Zone: zone, Missed: policies[name], Spread: rapid.SampledFrom([]string{"", "4m"}).Draw(t, "spread")}))
		}
		want := map[string]map[int64]starts.State{}
		for _, j := range k.jobs {
			want[j.Name] = map[int64]starts.State{}
		}
		begun := map[starts.Key]int{}
		now := monday
		k.open(now)
		end := monday.AddDate(1, 0, 0)
		chance := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "chance"), 1))
		for now.Before(end) {
			for _, r := range k.due(now) {
				if chance.IntN(10) == 0 {
					k.kill()
					k.open(now)
					again := k.due(now)
					i := slices.IndexFunc(again, func(x starts.Row) bool { return x.Key() == r.Key() })
					require.GreaterOrEqual(t, i, 0, "what was at work is gone on with")
					for _, x := range again { // all that were begun and not ended are begun again
						if begun[x.Key()] == 0 {
							begun[x.Key()]++
							k.ended(x, starts.Done, now)
						}
					}
					break
				}
				if begun[r.Key()] > 0 {
					continue
				}
				begun[r.Key()]++
				k.ended(r, starts.Done, now)
			}
			if chance.IntN(25) == 0 { // dies, and comes back later
				k.kill()
				back := now.Add(time.Duration(chance.Int64N(int64(9 * 24 * time.Hour))))
				expectMissed(k.jobs, want, now, back)
				now = back
				k.open(now)
				continue
			}
			next := k.desk.Next()
			require.True(t, next.After(now) || next.Equal(now), "%s %s", now, next)
			if next.Equal(now) {
				continue
			}
			expectOnTime(k.jobs, want, now, next)
			now = next
		}
		rows, err := k.book.Since(context.Background(), "", time.Time{}, 100_000)
		require.NoError(t, err)
		for _, r := range rows {
			if !r.Slot.Before(end.AddDate(0, 0, -10)) { // the last are not seen to yet
				continue
			}
			should, ok := want[r.Job][r.Slot.UnixMicro()]
			require.True(t, ok, "%s %s was not to be", r.Job, r.Slot)
			require.Equal(t, should, r.State, "%s %s: %s", r.Job, r.Slot, r.Note)
			delete(want[r.Job], r.Slot.UnixMicro())
			wantBegun := 0
			if r.State == starts.Done {
				wantBegun = 1
			}
			require.Equal(t, wantBegun, begun[r.Key()], "%s %s", r.Job, r.Slot)
		}
		for name, left := range want {
			for slot, state := range left {
				at := time.UnixMicro(slot)
				require.False(t, at.Before(end.AddDate(0, 0, -10)) && state == starts.Done, "%s %s is missing", name,
					at)
			}
		}
		k.kill()
	})
}

// slots are a job's starts with due times after one moment, up to another.
func slots(j *job.Job, after, upto time.Time) (all []schedule.Start) {
	at := after.Add(-time.Hour)
	for {
		s, some := j.Schedule.Next(at)
		if !some || s.At.After(upto) {
			return all
		}
		if due := s.At.Add(j.Schedule.Delay(j.Name, s.At)); due.After(after) && !due.After(upto) {
			all = append(all, s)
		}
		at = s.At
	}
}

func expectOnTime(jobs []*job.Job, want map[string]map[int64]starts.State, from, to time.Time) {
	for _, j := range jobs {
		for _, s := range slots(j, from, to) {
			want[j.Name][s.At.UnixMicro()] = starts.Done
		}
	}
}

// expectMissed is what becomes of starts between a kill and a return.
func expectMissed(jobs []*job.Job, want map[string]map[int64]starts.State, from, back time.Time) {
	for _, j := range jobs {
		var late []schedule.Start
		onTime := 0
		for _, s := range slots(j, from, back) {
			if due := s.At.Add(j.Schedule.Delay(j.Name, s.At)); back.Sub(due) <= time.Minute {
				want[j.Name][s.At.UnixMicro()] = starts.Done
				onTime++
				continue
			}
			want[j.Name][s.At.UnixMicro()] = starts.Missed
			late = append(late, s)
		}
		if len(late) == 0 || onTime > 0 || j.When.Missed == "skip" {
			continue
		}
		last := late[len(late)-1]
		if j.When.Missed == "5h" && back.Sub(last.At) >= 5*time.Hour {
			continue
		}
		want[j.Name][last.At.UnixMicro()] = starts.Done
	}
}

// testDir is where books of drawn worlds lie.
var testDir string

func TestMain(m *testing.M) { runWithDir(m) }

// open begins a keeper of some jobs for a test.
func open(t *testing.T, limits Limits, jobs ...*job.Job) *keeper {
	k := &keeper{t: t, path: filepath.Join(t.TempDir(), starts.FileName), jobs: jobs}
	k.open(monday)
	require.NoError(t, k.desk.Sync(t.Context(), jobs, limits, monday))
	t.Cleanup(k.kill)
	return k
}

func names(rows []starts.Row) (all []string) {
	for _, r := range rows {
		all = append(all, r.Job)
	}
	return all
}

// A start that comes while the job is at work is skipped, or queued, as the job says.
func TestOverlap(t *testing.T) {
	for overlap, want := range map[schedule.Overlap][3]int{ // begun after the first ended; then; skipped
		schedule.SkipIt: {0, 0, 2}, schedule.QueueOne: {1, 0, 1}, schedule.QueueAll: {1, 1, 0},
	} {
		k := open(t, Limits{}, timed(t, "field", schedule.Settings{Start: "every 10 minutes", Zone: "UTC",
			Overlap: overlap}))
		at := monday.Add(3 * time.Minute) // 10:10
		first := k.due(at)
		require.Len(t, first, 1)
		assert.Empty(t, k.due(at.Add(10*time.Minute)))
		assert.Empty(t, k.due(at.Add(20*time.Minute)))
		k.ended(first[0], starts.Done, at.Add(21*time.Minute))
		second := k.due(at.Add(21 * time.Minute))
		assert.Len(t, second, want[0], overlap)
		if len(second) > 0 {
			k.ended(second[0], starts.Done, at.Add(22*time.Minute))
		}
		assert.Len(t, k.due(at.Add(22*time.Minute)), want[1], overlap)
		rows, err := k.book.Since(t.Context(), "", time.Time{}, 100)
		require.NoError(t, err)
		skipped := 0
		for _, r := range rows {
			if r.State == starts.Skipped {
				skipped++
			}
		}
		assert.Equal(t, want[2], skipped, overlap)
	}
}

// Not more are at work than may be, in all and at an endpoint; those of high priority go first.
func TestLimits(t *testing.T) {
	s := schedule.Settings{Start: "daily at 11:00", Zone: "UTC"}
	low, usual, high := timed(t, "a-low", s), timed(t, "b-usual", s), timed(t, "c-high", s)
	low.When.Priority, high.When.Priority = "low", "high"
	other := timed(t, "d-other", s)
	other.Source, other.Target = "x/1", "y/1"
	at := monday.Add(53 * time.Minute)
	k := open(t, Limits{All: 3, Endpoints: map[string]int{"b": 2}}, low, usual, high, other)
	begun := k.due(at)
	assert.Equal(t, []string{"c-high", "b-usual", "d-other"}, names(begun))
	k.ended(begun[2], starts.Done, at)
	assert.Empty(t, k.due(at), "the endpoint has two already")
	k.ended(begun[0], starts.Failed, at)
	assert.Equal(t, []string{"a-low"}, names(k.due(at)))
}

// What starts after a job does so when that ended well, by itself or by a person, and only then.
func TestAfter(t *testing.T) {
	first := timed(t, "first", schedule.Settings{Start: "daily at 11:00", Zone: "UTC"})
	second, third := timed(t, "second", schedule.Settings{Start: "after first"}), timed(t, "third",
		schedule.Settings{Start: "after second"})
	at := monday.Add(53 * time.Minute)
	k := open(t, Limits{}, first, second, third)
	begun := k.due(at)
	require.Equal(t, []string{"first"}, names(begun))
	k.ended(begun[0], starts.Failed, at)
	assert.Empty(t, k.due(at), "it failed")
	require.NoError(t, k.desk.RanByHand(t.Context(), "first", 1, starts.Failed, at))
	assert.Empty(t, k.due(at))
	require.NoError(t, k.desk.RanByHand(t.Context(), "first", 1, starts.Done, at.Add(time.Second)))
	k.kill()
	k.open(at.Add(2 * time.Second)) // the follower is in the book
	require.NoError(t, k.desk.Sync(t.Context(), k.jobs, Limits{}, at))
	begun = k.due(at.Add(2 * time.Second))
	require.Equal(t, []string{"second"}, names(begun))
	k.ended(begun[0], starts.Done, at.Add(3*time.Second))
	assert.Equal(t, []string{"third"}, names(k.due(at.Add(3*time.Second))))
}

// A plan that waits for a person does so as long as its job says; a person's run ends the wait, and
// so does the next start.
func TestWaiting(t *testing.T) {
	j := timed(t, "masters", schedule.Settings{Start: "daily at 11:00", Zone: "UTC"})
	at := monday.Add(53 * time.Minute)
	wait := func(k *keeper, at time.Time, until time.Time) {
		begun := k.due(at)
		require.Len(t, begun, 1)
		r := begun[0]
		r.Plan, r.Until, r.Note = 4, until, "held back"
		k.ended(r, starts.Waiting, at)
	}
	state := func(k *keeper, at time.Time) starts.Row {
		rows, err := k.book.Since(t.Context(), "masters", time.Time{}, 10)
		require.NoError(t, err)
		i := slices.IndexFunc(rows, func(r starts.Row) bool { return r.Slot.Equal(monday.Add(53 * time.Minute)) })
		require.GreaterOrEqual(t, i, 0)
		return rows[i]
	}
	k := open(t, Limits{}, j)
	wait(k, at, at.Add(12*time.Hour))
	assert.Equal(t, at.Add(12*time.Hour), k.desk.Next().UTC(), "then its wait is over")
	_, ended, err := k.desk.Due(t.Context(), at.Add(12*time.Hour))
	require.NoError(t, err)
	require.Len(t, ended, 1)
	assert.Equal(t, starts.Skipped, state(k, at).State)
	assert.Contains(t, state(k, at).Note, "nobody approved it in time")

	k = open(t, Limits{}, j)
	wait(k, at, at.Add(12*time.Hour))
	k.kill()
	k.open(at.Add(time.Hour)) // in the morning, after a restart
	require.NoError(t, k.desk.RanByHand(t.Context(), "masters", 4, starts.Done, at.Add(time.Hour)))
	assert.Equal(t, starts.Done, state(k, at).State)
	assert.Equal(t, at.Add(24*time.Hour), k.desk.Next().UTC(), "nothing waits any more")
	_, ended, err = k.desk.Due(t.Context(), at.Add(24*time.Hour))
	require.NoError(t, err)
	assert.Empty(t, ended, "what was done is not told to be skipped")

	k = open(t, Limits{}, j)
	wait(k, at, time.Time{})
	assert.Len(t, k.due(at.Add(24*time.Hour)), 1, "the next start takes its place")
	assert.Equal(t, starts.Skipped, state(k, at).State)
	assert.Contains(t, state(k, at).Note, "a newer start took its place")
}

// Two keepers of one book, which should not be: each start goes to one of them.
func TestTwoKeepers(t *testing.T) {
	j := timed(t, "masters", schedule.Settings{Start: "every 10 minutes", Zone: "UTC"})
	a := open(t, Limits{}, j)
	b := &keeper{t: t, path: a.path, jobs: []*job.Job{j}}
	b.open(monday)
	defer b.kill()
	for i := range 20 {
		at := monday.Add(time.Duration(3+10*i) * time.Minute)
		first := a.due(at)
		second := b.due(at)
		assert.Len(t, append(first, second...), 1, "%s", at)
		for _, r := range first {
			a.ended(r, starts.Done, at)
		}
		for _, r := range second {
			b.ended(r, starts.Done, at)
		}
	}
}

// Clocks that jump: back, and nothing is started twice; ahead, as after a sleep, and what was passed
// over is missed.
func TestClockJumps(t *testing.T) {
	j := timed(t, "masters", schedule.Settings{Start: "every 10 minutes", Zone: "UTC", Missed: "skip"})
	k := open(t, Limits{}, j)
	at := monday.Add(3 * time.Minute)
	first := k.due(at)
	require.Len(t, first, 1)
	k.ended(first[0], starts.Done, at)
	assert.Empty(t, k.due(at.Add(-3*time.Hour)))
	assert.Empty(t, k.due(at))
	_, ended, err := k.desk.Due(t.Context(), at.Add(65*time.Minute))
	require.NoError(t, err)
	assert.Len(t, ended, 6)
	for _, r := range ended {
		assert.Equal(t, starts.Missed, r.State)
	}
}

// A job whose times change is looked through from then on: nothing of the new times has been missed.
func TestChangedTimes(t *testing.T) {
	for _, jobs := range []int{1, 2 * fewJobs} { // many are looked for at once
		changedTimes(t, jobs)
	}
}

func changedTimes(t *testing.T, jobs int) {
	all := func(start string) (all []*job.Job) {
		for i := range jobs {
			all = append(all, timed(t, fmt.Sprint("masters-", i), schedule.Settings{Start: start, Zone: "UTC"}))
		}
		return all
	}
	k := open(t, Limits{}, all("daily at 11:00")...)
	k.kill()
	k.jobs = all("every 5 minutes")
	k.open(monday.Add(3 * 24 * time.Hour))
	begin, ended, err := k.desk.Due(t.Context(), monday.Add(3*24*time.Hour))
	require.NoError(t, err)
	assert.Empty(t, append(begin, ended...))
	require.NoError(t, k.desk.Sync(t.Context(), nil, Limits{}, monday.Add(3*24*time.Hour)))
	assert.True(t, k.desk.Next().IsZero(), "a job that is gone has no times")
}

// A schedule that has come to its last time has no next one, and keeps none of the others from theirs.
func TestLastTime(t *testing.T) {
	k := open(t, Limits{}, timed(t, "once",
		schedule.Settings{Start: "rrule DTSTART:20260323T110000 RRULE:FREQ=DAILY;COUNT=1",
			Zone: "UTC"}), timed(t, "daily", schedule.Settings{Start: "daily at 12:00", Zone: "UTC"}))
	var begun []string
	for range 4 {
		now := k.desk.Next()
		for _, r := range k.due(now) {
			begun = append(begun, r.Job+r.Slot.Format(" 02 15"))
			k.ended(r, starts.Done, now)
		}
	}
	assert.Equal(t, []string{"once 23 11", "daily 23 12", "daily 24 12", "daily 25 12"}, begun)
}

// Of many jobs, too, each goes on where it was looked through to.
func TestManyJobs(t *testing.T) {
	var jobs []*job.Job
	for i := range 3 * fewJobs {
		jobs = append(jobs, timed(t, fmt.Sprintf("job-%d", i), schedule.Settings{Start: "every 10 minutes",
			Zone: "UTC"}))
	}
	k := open(t, Limits{}, jobs...)
	at := monday.Add(3 * time.Minute)
	for _, r := range k.due(at) {
		k.ended(r, starts.Done, at)
	}
	k.kill()
	k.open(at.Add(25 * time.Minute))
	assert.Len(t, k.due(at.Add(25*time.Minute)), len(jobs), "one for each, of the two that were missed")
}

// A start that was queued when the service died is held to what its job says of late ones.
func TestKeptQueue(t *testing.T) {
	for missed, want := range map[string]int{"run": 1, "skip": 0, "3h": 1, "1h": 0} {
		j := timed(t, "masters", schedule.Settings{Start: "daily at 11:00", Zone: "UTC", Missed: missed})
		k := open(t, Limits{All: 1}, timed(t, "before", schedule.Settings{Start: "daily at 10:59", Zone: "UTC"}), j)
		at := monday.Add(53 * time.Minute)
		require.Len(t, k.due(at.Add(-time.Minute)), 1)
		require.Empty(t, k.due(at), "only one may be at work")
		k.kill()
		k.jobs = []*job.Job{j}
		k.open(at.Add(2 * time.Hour))
		assert.Len(t, k.due(at.Add(2*time.Hour)), want, missed)
	}
}
