package workroom

import (
	"cmp"
	"context"
	"runtime"
	"sync"
	"time"

	"lumtra/core/cut"
	"lumtra/core/estimate"
	"lumtra/core/history"
	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/pace"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/place/kinds"
	"lumtra/core/plan"
	"lumtra/core/transfer"
)

// pastRuns is how many earlier runs an estimate learns from.
const pastRuns = 10

// Estimate works out what carrying out a plan takes, by what endpoint tests
// measured, the workspace's rates, and how earlier estimates of the job turned
// out.
func (s *Room) Estimate(ctx context.Context, j *job.Job, info *plan.Info) estimate.Estimate {
	w := estimate.Work{Streams: cmp.Or(j.Limits.Streams, transfer.DefaultStreams), Past: s.past(ctx, j.Name)}
	if j.Limits.Streams == 0 {
		w.MostStreams = transfer.MostTuned
	}
	w.From, w.Hours = s.ws.Now(), []*pace.Hours{j.Limits.Hours}
	for _, at := range []string{j.Source, j.Target} {
		name, _ := job.SplitPlace(at)
		if e := s.ws.Workspace().Endpoints[name]; e != nil && len(e.Bandwidth) > 0 {
			w.Hours = append(w.Hours, e.Hours)
		}
	}
	if kind, _ := j.DigestKind(); kind != object.NoSum {
		w.DigestRate, w.Processors = digestRate(kind), runtime.GOMAXPROCS(0)
	}
	if x, err := s.folders(j); err == nil {
		to := place.Can(x.target)
		w.Inside, w.DigestsAfter = to.CopierFrom(x.source) != nil, to.DigestsAfter
		w.Cut = s.cut(j, x)
		w.Rereads, w.FirstOver = rereads(j, x), s.firstOver(j, x)
		if in := pack.Of(x.target); in != nil {
			outer, _, _ := in.Outer()
			w.Packed, w.Cut = true, cut.For(j.Limits.PartBytes, place.Can(outer).Abilities, false)
		}
		if set := pack.SetOf(x.target); set != nil && j.Packs.Under == "" {
			w.Packed, w.Cut = true, cut.For(j.Limits.PartBytes, place.Can(set.Packs()).Abilities, false)
		}
	}
	source, target := s.side(j.Source, info.Source.Objects), s.side(j.Target, info.Target.Objects)
	est := estimate.Of(info, source, target, w)
	if !w.Packed && !w.Inside && target.Store && estimate.WorthPacking(info) {
		w.Packed, w.Past = true, nil
		packed := estimate.Of(info, source, target, w)
		est.AsPack = &packed
	}
	return est
}

// cut is how a job's objects are cut for its target.
func (s *Room) cut(j *job.Job, x *sides) cut.Sizes {
	kind, _ := j.DigestKind()
	return cut.For(j.Limits.PartBytes, place.Can(x.target).Abilities, kind != object.NoSum)
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
func (s *Room) side(at string, objects int64) estimate.Side {
	name, _ := job.SplitPlace(at)
	side := estimate.Side{Name: name, Objects: objects, Rates: s.ws.Workspace().Rates[name]}
	side.Store = kinds.Of(s.ws.Workspace().Endpoints[name]).Remote
	if r := s.ws.Report(name); r != nil && r.Latency > 0 {
		side.Latency, side.Up, side.Down, side.Measured = r.Latency, r.Up, r.Down, true
	}
	return side
}

// past are earlier runs that had an estimate and came to their end.
func (s *Room) past(ctx context.Context, name string) []estimate.Past {
	runs, err := s.Runs(ctx, name, time.Time{}, 3*pastRuns)
	if err != nil {
		return nil
	}
	var all []estimate.Past
	for _, r := range runs {
		if r.End == history.Clean && r.Expected > 0 && r.Before == 0 && len(all) < pastRuns {
			all = append(all, estimate.Past{Began: r.Began, Estimated: r.Expected, Actual: r.Ended.Sub(r.Began)})
		}
	}
	return all
}
