package forecast

import (
	"cmp"
	"slices"
	"time"

	"lumtra/core/schedule"
)

// Past is a run that is over.
type Past struct {
	Began, Ended time.Time
	Bytes        int64
}

// Job is what is known of a job.
type Job struct {
	Name      string
	Schedule  *schedule.Schedule
	Endpoints []string // that it reads from or writes to, each once
	Past      []Past   // newest first
}

// Coming is a start that will be, and how long its run will take: as the shortest, the middle and the
// longest of the newest runs did; zero where none is known.
type Coming struct {
	Job                   string
	Start                 schedule.Start
	At                    time.Time // the start, put off by the spread
	Short, Usual, Longest time.Duration
}

// End is when the run is over, as far as is known.
func (c *Coming) End() time.Time { return c.At.Add(c.Usual) }

// newest is how many past runs a length is guessed from.
const newest = 15

// Length is how long runs of a job take: the shortest, the middle and the longest of the newest ones
// that moved anything; all zero where there is none.
func (j *Job) Length() (short, usual, long time.Duration) {
	var took []time.Duration
	for _, p := range j.Past[:min(len(j.Past), newest)] {
		if d := p.Ended.Sub(p.Began); d > 0 {
			took = append(took, d)
		}
	}
	if len(took) == 0 {
		return 0, 0, 0
	}
	slices.Sort(took)
	return took[0], took[len(took)/2], took[len(took)-1]
}

// Starts are the starts of jobs from a moment to another, in order, at most so many of each job.
func Starts(jobs []Job, from, to time.Time, most int) []Coming {
	var all []Coming
	for i := range jobs {
		j := &jobs[i]
		if !j.Schedule.Timed() {
			continue
		}
		short, usual, long := j.Length()
		at := from.Add(-1)
		for range most {
			s, some := j.Schedule.Next(at)
			if !some || !s.At.Before(to) {
				break
			}
			at = s.At
			all = append(all, Coming{Job: j.Name, Start: s, At: s.At.Add(j.Schedule.Delay(j.Name, s.At)), Short: short,
				Usual: usual, Longest: long})
		}
	}
	Sort(all)
	return all
}

// Sort puts starts in order.
func Sort(all []Coming) {
	slices.SortStableFunc(all, func(a, b Coming) int { return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Job, b.Job)) })
}

// Collision is two runs that will want one endpoint at the same time.
type Collision struct {
	First, Second int // in the list of starts
	Endpoint      string
	From, To      time.Time
}

// Longer is by how much both take longer, if the endpoint is what bounds them and they share it
// evenly: as long as both are at it, each has half.
func (c *Collision) Longer() time.Duration { return c.To.Sub(c.From) }

// Collisions are those among starts, in order of when they begin, at most so many. A job does not
// collide with itself.
func Collisions(jobs []Job, all []Coming, most int) []Collision {
	at := map[string][]string{}
	for i := range jobs {
		at[jobs[i].Name] = jobs[i].Endpoints
	}
	var found []Collision
	for i := range all {
		for k := i + 1; k < len(all) && all[k].At.Before(all[i].End()); k++ {
			if all[i].Job == all[k].Job || all[k].Usual == 0 {
				continue
			}
			for _, e := range at[all[i].Job] {
				if !slices.Contains(at[all[k].Job], e) {
					continue
				}
				to := all[i].End()
				if end := all[k].End(); end.Before(to) {
					to = end
				}
				if found = append(found, Collision{i, k, e, all[k].At, to}); len(found) == most {
					return found
				}
				break // once a pair
			}
		}
	}
	return found
}

// Week is how many bytes a second an endpoint moves at each hour of the week, by weekday (0 is
// Sunday) and hour.
type Week [7][24]float64

// Load is what past runs moved at an endpoint, as a mean over weeks: the weeks from a moment to
// another, in a zone.
func Load(jobs []Job, endpoint string, from, to time.Time, zone *time.Location) *Week {
	w := &Week{}
	weeks := to.Sub(from).Hours() / (7 * 24)
	if weeks <= 0 {
		return w
	}
	for i := range jobs {
		if !slices.Contains(jobs[i].Endpoints, endpoint) {
			continue
		}
		for _, p := range jobs[i].Past {
			w.add(later(p.Began, from), earlier(p.Ended, to), rate(p), zone)
		}
	}
	for day := range w {
		for hour := range w[day] {
			w[day][hour] /= weeks * 3600
		}
	}
	return w
}

// Expected is what coming starts will move at an endpoint, hour by hour of a week, by the middle of
// what past runs moved.
func Expected(jobs []Job, all []Coming, endpoint string, weeks float64, zone *time.Location) *Week {
	w := &Week{}
	by := map[string]*Job{}
	for i := range jobs {
		by[jobs[i].Name] = &jobs[i]
	}
	for i := range all {
		j := by[all[i].Job]
		if j == nil || !slices.Contains(j.Endpoints, endpoint) || all[i].Usual == 0 {
			continue
		}
		w.add(all[i].At, all[i].End(), j.usualBytes()/all[i].Usual.Seconds(), zone)
	}
	for day := range w {
		for hour := range w[day] {
			w[day][hour] /= max(weeks, 1) * 3600
		}
	}
	return w
}

func (j *Job) usualBytes() float64 {
	var all []int64
	for _, p := range j.Past[:min(len(j.Past), newest)] {
		all = append(all, p.Bytes)
	}
	if len(all) == 0 {
		return 0
	}
	slices.Sort(all)
	return float64(all[len(all)/2])
}

func rate(p Past) float64 {
	if d := p.Ended.Sub(p.Began).Seconds(); d > 0 {
		return float64(p.Bytes) / d
	}
	return 0
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

func earlier(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

// add spreads what goes at a rate from a moment to another over the hours it falls in, as bytes.
func (w *Week) add(from, to time.Time, rate float64, zone *time.Location) {
	for from.Before(to) {
		t := from.In(zone)
		next := t.Add(time.Hour - time.Duration(t.Minute())*time.Minute - time.Duration(t.Second())*time.Second -
			time.Duration(t.Nanosecond()))
		until := earlier(next, to)
		w[t.Weekday()][t.Hour()] += rate * until.Sub(from).Seconds()
		from = until
	}
}

// Most is the highest value of the week.
func (w *Week) Most() (most float64) {
	for day := range w {
		most = max(most, slices.Max(w[day][:]))
	}
	return most
}
