package agenda

import (
	"context"
	"errors"
	"maps"
	"os"
	"slices"
	"time"

	"lumtra/core/forecast"
	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/schedule"
	"lumtra/core/starts"
	"lumtra/service/workspace"
)

// Outlook is what was and what comes, of all jobs.
type Outlook struct {
	At         time.Time
	Jobs       []forecast.Job
	Coming     []forecast.Coming
	Collisions []forecast.Collision
	// Kept are the starts in the book since Since, newest first.
	Kept  []starts.Row
	Since time.Time
}

// Bounds of an outlook.
const (
	mostOfAJob     = 300
	mostCollisions = 200
	mostKept       = 5000
)

// Look gathers the outlook of a workspace, from the book back to since and ahead to until. It keeps
// no book, and may be asked whether or not somebody does.
func Look(ctx context.Context, ws *workspace.Keeper, since, until time.Time) (*Outlook, error) {
	now := ws.Now()
	o := &Outlook{At: now, Since: since}
	db, err := ws.History()
	if err != nil {
		return nil, err
	}
	past, err := db.Brief(ctx, now.Add(-90*24*time.Hour), mostKept)
	if err != nil {
		return nil, err
	}
	by := map[string][]history.Run{}
	for _, r := range past {
		by[r.Job] = append(by[r.Job], r)
	}
	for _, j := range ws.Workspace().Jobs {
		o.Jobs = append(o.Jobs, Known(j, by[j.Name]))
	}
	o.Coming = forecast.Starts(o.Jobs, now, until, mostOfAJob)
	o.Collisions = forecast.Collisions(o.Jobs, o.Coming, mostCollisions)
	o.Kept, err = Kept(ctx, ws, since)
	return o, err
}

// Kept are the starts in the book of a workspace with slots from a moment on, newest first; none
// where no book was ever kept.
func Kept(ctx context.Context, ws *workspace.Keeper, since time.Time) (rows []starts.Row, err error) {
	path := ws.Dir.Path(starts.FileName)
	if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	book, err := starts.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, book.Close()) }()
	return book.Since(ctx, "", since, mostKept)
}

// Known is what is known of a job for a forecast, by its past runs, newest first. Runs that were cut
// short say nothing of how long one takes.
func Known(j *job.Job, past []history.Run) forecast.Job {
	f := forecast.Job{Name: j.Name, Schedule: j.Schedule, Endpoints: slices.Sorted(maps.Keys(endpoints(j)))}
	for i := range past {
		r := &past[i]
		if r.End != history.Clean && r.End != history.Failures {
			continue
		}
		f.Past = append(f.Past, forecast.Past{Began: r.Began, Ended: r.Ended, Bytes: r.Bytes})
	}
	return f
}

// With is the outlook as it would be with a job's times changed to those of a schedule.
func (o *Outlook) With(name string, x *schedule.Schedule, until time.Time) *Outlook {
	with := *o
	with.Jobs = slices.Clone(o.Jobs)
	with.Coming = slices.DeleteFunc(slices.Clone(o.Coming), func(c forecast.Coming) bool { return c.Job == name })
	for i := range with.Jobs {
		if with.Jobs[i].Name == name {
			with.Jobs[i].Schedule = x
			with.Coming = append(with.Coming, forecast.Starts(with.Jobs[i:i+1], o.At, until, mostOfAJob)...)
		}
	}
	forecast.Sort(with.Coming)
	with.Collisions = forecast.Collisions(with.Jobs, with.Coming, mostCollisions)
	return &with
}

// Next is a job's next start; nil for none.
func (o *Outlook) Next(name string) *forecast.Coming {
	if o == nil {
		return nil
	}
	for i := range o.Coming {
		if o.Coming[i].Job == name {
			return &o.Coming[i]
		}
	}
	return nil
}

// CollisionsOf are those of a job, with the job it collides with.
func (o *Outlook) CollisionsOf(name string) (all []forecast.Collision, others []string) {
	if o == nil {
		return nil, nil
	}
	for _, x := range o.Collisions {
		a, b := o.Coming[x.First].Job, o.Coming[x.Second].Job
		switch name {
		case a:
			all, others = append(all, x), append(others, b)
		case b:
			all, others = append(all, x), append(others, a)
		}
	}
	return all, others
}

// Last is a job's newest start in the book; nil for none.
func (o *Outlook) Last(name string) *starts.Row {
	if o == nil {
		return nil
	}
	for i := range o.Kept {
		if o.Kept[i].Job == name {
			return &o.Kept[i]
		}
	}
	return nil
}
