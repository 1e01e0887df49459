package demo

import (
	"context"
	"errors"
	"hash/fnv"
	"math"
	"math/rand/v2"
	"time"

	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/starts"
	"lumtra/core/transfer"
	"lumtra/service"
)

// pastWeeks is how far back the made-up runs go.
const pastWeeks = 6

// PastNote marks runs that never were.
const PastNote = "made up for the demo"

// habit is what runs of a job were like.
type habit struct {
	minutes float64 // that a usual run took
	rate    float64 // bytes a second while it went
	objects int64
}

var habits = map[string]habit{
	"nightly-masters": {48, 38e6, 900},
	"hill-copy":       {55, 55e6, 900},
	"tiles-out":       {22, 2.4e6, 14_000},
	"field-cards-in":  {16, 90e6, 120},
}

// past writes the history of six weeks that never were: a run for each time at which a job would have
// started, the same for the same times, marked as made up. Some failed, some were missed.
func past(ctx context.Context, s *service.Service) error {
	db, err := s.History()
	if err != nil {
		return err
	}
	book, err := starts.Open(s.Dir.Path(starts.FileName))
	if err != nil {
		return err
	}
	for _, j := range s.Workspace().Jobs {
		h, ok := habits[j.Name]
		if !ok || !j.Schedule.Timed() {
			continue
		}
		if err := pastOf(ctx, db, book, j, h, s.Now()); err != nil {
			return errors.Join(err, book.Close())
		}
	}
	return book.Close()
}

func pastOf(ctx context.Context, db *history.DB, book *starts.Book, j *job.Job, h habit, now time.Time) error {
	until := now.Add(-3 * time.Hour)
	next, some := j.Schedule.Next(now.Add(-pastWeeks * 7 * 24 * time.Hour))
	for some && next.At.Before(until) {
		at := next.At
		next, some = j.Schedule.Next(at)
		last := !some || !next.At.Before(until) // it went well, so that nothing made up needs anybody
		name := fnv.New64a()
		name.Write([]byte(j.Name))
		chance := rand.New(rand.NewPCG(name.Sum64(), uint64(at.Unix())))
		if chance.IntN(40) == 0 && !last {
			if _, err := book.Look(ctx, nil, []starts.Row{{Job: j.Name, Slot: at, Cause: starts.ByTime,
				State: starts.Missed, Due: at, Moved: at.Add(9 * time.Hour), Note: PastNote}}); err != nil {
				return err
			}
			continue
		}
		if err := pastRun(ctx, db, j.Name, h, at, chance, last); err != nil {
			return err
		}
	}
	return nil
}

// pastRun writes one run, with a rate that rises, wavers and falls.
func pastRun(ctx context.Context, db *history.DB, name string, h habit, at time.Time, chance *rand.Rand,
	last bool) error {
	weekly := 1 + 0.5*math.Sin(float64(at.Weekday())*math.Pi/3.5)
	took := time.Duration(h.minutes * weekly * (0.7 + 0.6*chance.Float64()) * float64(time.Minute))
	r := history.Run{Job: name, Began: at, PlannedObjects: h.objects, Expected: took}
	const points = 24
	var bytes int64
	for i := range points + 1 {
		r.Samples = append(r.Samples, transfer.Sample{At: took * time.Duration(i) / points, Bytes: bytes})
		rate := h.rate * (0.6 + 0.5*chance.Float64()) * min(1, float64(i+1)/3)
		bytes += int64(rate * (took / points).Seconds())
	}
	r.Bytes = r.Samples[points].Bytes
	r.PlannedBytes, r.Objects = r.Bytes, h.objects/2+chance.Int64N(h.objects)
	r.PlannedObjects = r.Objects
	if err := db.Begin(ctx, &r); err != nil {
		return err
	}
	r.Ended, r.End, r.Note = at.Add(took), history.Clean, PastNote
	if chance.IntN(25) == 0 && !last {
		r.End, r.Failed = history.Failures, 1+chance.Int64N(4)
	}
	return db.Save(ctx, &r)
}
