package frame

import (
	"time"

	"lumtra/core/forecast"
	"lumtra/core/history"
	"lumtra/core/schedule"
	"lumtra/core/starts"
	"lumtra/service/agenda"
	"lumtra/tui/kit"
)

// timedState has jobs of the fixed state start at times: two that collide at one endpoint, one with
// hours of its own, one that was missed, and one whose plan waits.
func timedState(st *kit.State) {
	o := &agenda.Outlook{At: noon, Since: noon.Add(-31 * 24 * time.Hour)}
	set := func(i int, s schedule.Settings, took time.Duration, endpoints ...string) {
		j := st.Jobs[i].Job
		s.Zone = "UTC"
		var err error
		if j.Schedule, err = schedule.New(&s, nil); err != nil {
			panic(err)
		}
		j.When.Settings = s
		known := forecast.Job{Name: j.Name, Schedule: j.Schedule, Endpoints: endpoints}
		for d := range 20 {
			began := noon.Add(-time.Duration(d+1) * 24 * time.Hour).Add(9 * time.Hour)
			long := took * time.Duration(10+d%5) / 10
			known.Past = append(known.Past, forecast.Past{Began: began, Ended: began.Add(long),
				Bytes: int64(long.Seconds() * 20e6)})
		}
		o.Jobs = append(o.Jobs, known)
	}
	set(0, schedule.Settings{Start: "daily at 21:00"}, 90*time.Minute, "north", "studio")
	set(1, schedule.Settings{Start: "daily at 22:00"}, time.Hour, "north")
	set(2, schedule.Settings{Start: "weekdays at 13:00, 18:00", Window: []string{"12:00-19:00 mon-fri"}},
		70*time.Minute, "hill")
	set(3, schedule.Settings{Start: "on arrival"}, time.Minute, "map")
	o.Coming = forecast.Starts(o.Jobs, noon, noon.Add(45*24*time.Hour), 300)
	o.Collisions = forecast.Collisions(o.Jobs, o.Coming, 200)
	o.Kept = []starts.Row{
		{Job: "mirror", Slot: noon.Add(-time.Hour), Cause: starts.ByTime, State: starts.Waiting, Note: "held back"},
		{Job: "field", Slot: noon.Add(-14 * time.Hour), Cause: starts.ByTime, State: starts.Missed,
			Note: "found 9 hours late"}}
	st.Jobs[1].Runs = append(st.Jobs[1].Runs, history.Run{Job: "field", Plan: 2, Began: noon.Add(-5 * time.Hour),
		Ended: noon.Add(-4 * time.Hour), End: history.Clean})
	st.Agenda = o
}
