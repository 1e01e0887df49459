package service

import (
	"cmp"
	"context"
	"runtime"
	"sync"
	"time"

	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/pace"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/transfer"
)

// pastRuns is how many earlier runs an estimate learns from.
const pastRuns = 10

// Estimate works out what carrying out a plan takes, by what endpoint tests
// measured, the workspace's rates, and how earlier estimates of the job turned
// out.
func (s *Service) Estimate(ctx context.Context, j *job.Job, info *plan.Info) plan.Estimate {
	w := plan.Work{Streams: cmp.Or(j.Limits.Streams, transfer.DefaultStreams), PartSize: cmp.Or(j.Limits.PartBytes, transfer.DefaultPartSize), Past: s.past(ctx, j.Name)}
	if j.Limits.Streams == 0 {
		w.MostStreams = transfer.MostTuned
	}
	w.From, w.Hours = time.Now(), []*pace.Hours{j.Limits.Hours}
	for _, at := range []string{j.Source, j.Target} {
		name, _ := job.SplitPlace(at)
		if e := s.Workspace().Endpoints[name]; e != nil && len(e.Bandwidth) > 0 {
			w.Hours = append(w.Hours, e.Hours)
		}
	}
	if kind, _ := j.DigestKind(); kind != object.NoSum {
		name, _ := job.SplitPlace(j.Target)
		e := s.Workspace().Endpoints[name]
		w.DigestRate, w.Processors, w.DigestsAfter = digestRate(kind), runtime.GOMAXPROCS(0), e != nil && e.Kind == job.KindS3
	}
	if x, err := s.folders(j); err == nil {
		c, ok := x.target.(place.ServerCopier)
		w.Inside = ok && c.CanCopyFrom(x.source)
	}
	return info.Estimate(s.side(j.Source, info.Source.Objects), s.side(j.Target, info.Target.Objects), w)
}

var digestRates sync.Map // of kinds that were measured

// digestRate measures how many bytes a second one processor here digests; the
// first time takes some milliseconds.
func digestRate(kind object.SumKind) float64 {
	if rate, ok := digestRates.Load(kind); ok {
		return rate.(float64)
	}
	data, h := make([]byte, 256<<10), kind.New()
	var best float64
	for range 8 {
		began := time.Now()
		h.Write(data)
		best = max(best, float64(len(data))/max(time.Since(began), time.Microsecond).Seconds())
	}
	digestRates.Store(kind, best)
	return best
}

// side is what is known of one side.
func (s *Service) side(at string, objects int64) plan.Side {
	name, _ := job.SplitPlace(at)
	side := plan.Side{Name: name, Objects: objects, Rates: s.Workspace().Rates[name]}
	if e := s.Workspace().Endpoints[name]; e != nil {
		side.Store = e.Kind != job.KindFolder
	}
	if r := s.Report(name); r != nil && r.Latency > 0 {
		side.Latency, side.Up, side.Down, side.Measured = r.Latency, r.Up, r.Down, true
	}
	return side
}

// past are earlier runs that had an estimate and came to their end.
func (s *Service) past(ctx context.Context, name string) []plan.Past {
	runs, err := s.Runs(ctx, name, time.Time{}, 3*pastRuns)
	if err != nil {
		return nil
	}
	var all []plan.Past
	for _, r := range runs {
		if r.End == history.Clean && r.Expected > 0 && r.Before == 0 && len(all) < pastRuns {
			all = append(all, plan.Past{Began: r.Began, Estimated: r.Expected, Actual: r.Ended.Sub(r.Began)})
		}
	}
	return all
}
