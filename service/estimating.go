package service

import (
	"cmp"
	"context"
	"time"

	"lumtra/core/history"
	"lumtra/core/job"
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
	w.From, w.Hours = time.Now(), []*pace.Hours{j.Limits.Hours}
	for _, at := range []string{j.Source, j.Target} {
		name, _ := job.SplitPlace(at)
		if e := s.Workspace().Endpoints[name]; e != nil && len(e.Bandwidth) > 0 {
			w.Hours = append(w.Hours, e.Hours)
		}
	}
	if x, err := s.folders(j); err == nil {
		c, ok := x.target.(place.ServerCopier)
		w.Inside = ok && c.CanCopyFrom(x.source)
	}
	return info.Estimate(s.side(j.Source, info.Source.Objects), s.side(j.Target, info.Target.Objects), w)
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
