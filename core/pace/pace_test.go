package pace_test

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/pace"
	"lumtra/testkit"
)

func TestHours(t *testing.T) {
	h, err := pace.ParseHours([]string{"80 MB/s", "200 Mbit/s 08:00-18:00 mon-fri", "free 22:30-06:00",
		"quiet 12:00-13:00 sat,sun"}, "Europe/Lisbon")
	require.NoError(t, err)
	zone, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	for at, want := range map[string]string{
		// a Monday
		"2026-11-23 07:59": "80 MB/s", "2026-11-23 08:00": "25 MB/s", "2026-11-23 17:59": "25 MB/s",
		"2026-11-23 18:00": "80 MB/s",
		"2026-11-23 22:29": "80 MB/s", "2026-11-23 22:30": "free", "2026-11-24 05:59": "free",
		"2026-11-24 06:00": "80 MB/s",
		"2026-11-28 12:59": "quiet", "2026-11-28 13:00": "80 MB/s", "2026-11-28 09:00": "80 MB/s",
	} {
		moment, err := time.ParseInLocation("2006-01-02 15:04", at, zone)
		require.NoError(t, err)
		assert.Equal(t, want, h.At(moment).String(), at)
	}
	assert.Zero(t, (*pace.Hours)(nil).At(time.Now()))
	for _, bad := range []string{"", "fast", "80", "80 MB", "0 MB/s", "80 MB/s 8-18", "80 MB/s 25:00-26:00",
		"quiet 08:60-09:00", "free someday", "free mon-", "20 MB/s mon 08:00-09:00"} {
		_, err := pace.ParseHours([]string{bad}, "")
		assert.ErrorContains(t, err, "it reads like", "%q", bad)
	}
	_, err = pace.ParseHours(nil, "Atlantis")
	assert.ErrorContains(t, err, "Europe/Lisbon")
}

func TestThrough(t *testing.T) {
	h, err := pace.ParseHours([]string{"10 MB/s", "quiet 12:00-13:00", "1 MB/s 13:00-14:00"}, "UTC")
	require.NoError(t, err)
	noon := time.Date(2026, 11, 23, 11, 59, 50, 0, time.UTC)
	assert.Equal(t, 10*time.Second, h.Through(noon, 100e6, 1e9))
	assert.Equal(t, time.Hour+time.Minute, h.Through(noon, 150e6, 1e9))
	assert.Equal(t, 20*time.Second, (*pace.Hours)(nil).Through(noon, 100e6, 5e6))
	assert.Equal(t, 365*24*time.Hour, (*pace.Hours)(nil).Through(noon, 1e15, 1), "and no longer")
}

// Until is the first minute at which another limit holds, also over the days on
// which the clocks change.
func TestUntil(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Lisbon")
	require.NoError(t, err)
	testkit.Check(t, func(t *rapid.T) {
		lines := rapid.SliceOfN(rapid.SampledFrom([]string{"10 MB/s", "1 MB/s 08:00-18:00 mon-fri",
			"quiet 23:00-02:30", "free sat,sun", "2 MB/s 00:30-01:30", "free"}), 0, 4).Draw(t, "lines")
		h, err := pace.ParseHours(lines, "Europe/Lisbon")
		require.NoError(t, err)
		at := time.Date(2026, 10, 20, 0, rapid.IntRange(0, 9*24*60).Draw(t, "minute"), 30, 0, zone)
		until, now := h.Until(at), h.At(at)
		for minute := at.Truncate(time.Minute); ; minute = minute.Add(time.Minute) {
			if until.IsZero() && minute.Sub(at) > 7*24*time.Hour {
				break
			}
			if minute.Equal(until) {
				require.NotEqual(t, now, h.At(minute))
				break
			}
			require.Equal(t, now, h.At(minute), "%s, until %s", minute, until)
		}
	})
}

// Two shares of one limit get bytes by their weights, the limit is kept, and a
// change of rate reaches those that wait.
func TestLimiter(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := pace.NewLimiter(1e6)
		ctx, stop := context.WithCancel(t.Context())
		var heavy, light atomic.Int64
		var all sync.WaitGroup
		take := func(s *pace.Share, n *atomic.Int64) {
			for {
				piece := s.Most()
				if _, err := s.Take(ctx, piece); err != nil {
					return
				}
				n.Add(int64(piece))
			}
		}
		a, b := l.Join(3), l.Join(1)
		for range 4 { // many streams of one share are no more than one
			all.Go(func() { take(a, &heavy) })
		}
		all.Go(func() { take(b, &light) })
		time.Sleep(10 * time.Second) // in a world of its own time
		synctest.Wait()
		assert.InEpsilon(t, 10e6, heavy.Load()+light.Load(), 0.12) // up to a piece under way each
		assert.InEpsilon(t, 3, float64(heavy.Load())/float64(light.Load()), 0.1)

		b.SetWeight(3)
		l.SetRate(1e5)
		time.Sleep(10 * time.Second) // pieces of the old size go first
		heavy.Store(0)
		light.Store(0)
		time.Sleep(20 * time.Second) // in a world of its own time
		synctest.Wait()
		assert.InEpsilon(t, 2e6, heavy.Load()+light.Load(), 0.12)
		assert.InEpsilon(t, 1, float64(heavy.Load())/float64(light.Load()), 0.15)

		l.SetRate(1)            // a piece would take a day, but for the next change
		time.Sleep(time.Second) // in a world of its own time
		before := heavy.Load() + light.Load()
		l.SetRate(1e6)
		time.Sleep(3 * time.Second) // in a world of its own time
		synctest.Wait()
		assert.InDelta(t, 3e6, heavy.Load()+light.Load()-before, 1e6)
		stop()
		all.Wait()
		l.SetRate(0)
		waited, err := a.Take(t.Context(), 1<<30)
		require.NoError(t, err)
		assert.Zero(t, waited)
	})
}

// The edges of what hours can say, minute by minute and day by day.
func TestEdgesOfHours(t *testing.T) {
	for line, ok := range map[string]bool{
		"80 MB/s 23:59-24:00": true, "free 00:00-00:01": true, "free 23:00-00:00": true, "1 B/s": true,
		"0.5 B/s":             false,
		"80 MB/s 24:00-01:00": false, "free 08:00-24:01": false, "free 08:60-09:00": false, "free 08:00-09:60": false,
		"free 08:00-25:00": false, "free 23:59-23:59": true,
	} {
		_, err := pace.ParseHours([]string{line}, "UTC")
		assert.Equal(t, ok, err == nil, "%s: %v", line, err)
	}
	_, err := pace.ParseRate("quiet")
	assert.Error(t, err, "quiet is no rate")
	r, err := pace.ParseRate(" free ")
	require.NoError(t, err)
	assert.Zero(t, r)
	assert.Equal(t, []string{"999 B/s", "1 kB/s", "1 MB/s"}, []string{pace.Rate(999), pace.Rate(1000), pace.Rate(1e6)})

	// the 23rd is a Monday
	day := func(n, minute int) time.Time { return time.Date(2026, 11, 23+n, 0, minute, 0, 0, time.UTC) }
	limits := func(line string, minute int) (all string) {
		h, err := pace.ParseHours([]string{line}, "UTC")
		require.NoError(t, err, line)
		for n := range 7 {
			if h.At(day(n, minute)).Quiet {
				all += "q"
			} else {
				all += "-"
			}
		}
		return all
	}
	assert.Equal(t, "qqqqqqq", limits("quiet", 0))
	assert.Equal(t, "q---qqq", limits("quiet fri-mon", 600))
	assert.Equal(t, "--q----", limits("quiet wed", 600))
	assert.Equal(t, "qqqqqqq", limits("quiet mon-sun", 600))
	assert.Equal(t, "-q-----", limits("quiet 22:00-06:00 mon", 5*60+59), "the morning after")
	assert.Equal(t, "q------", limits("quiet 22:00-06:00 mon", 22*60))
	assert.Equal(t, "-------", limits("quiet 22:00-06:00 mon", 6*60))
	assert.Equal(t, "q------", limits("quiet 08:15-08:15 mon", 1), "a whole day, whenever it is said to begin")

	h, err := pace.ParseHours([]string{"quiet 08:15-08:15 mon"}, "UTC")
	require.NoError(t, err)
	assert.Equal(t, day(1, 0), h.Until(day(0, 600)), "it ends with its day")
	assert.Equal(t, day(7, 0), h.Until(day(1, 0)))

	// The zone counts, not the clock of the machine.
	h, err = pace.ParseHours([]string{"quiet 08:00-09:00"}, "Asia/Tokyo")
	require.NoError(t, err)
	assert.True(t, h.At(time.Date(2026, 11, 22, 23, 30, 0, 0, time.UTC)).Quiet)
	assert.False(t, h.At(day(0, 8*60+30)).Quiet)
}
