package runs

import (
	"slices"
	"sync"
	"time"

	"lumtra/core/job"
	"lumtra/core/pace"
)

// sharing is a run's part in the limit of an endpoint.
type sharing struct {
	end   *endpointLimit
	share *pace.Share
}

// endpointLimit is what all runs at an endpoint share.
type endpointLimit struct {
	name    string
	hours   *pace.Hours
	limiter *pace.Limiter
	streams int // 0 for no limit

	mu   sync.Mutex
	runs []*local
}

func (e *endpointLimit) apply(now time.Time) (pace.Limit, time.Time) {
	e.mu.Lock()
	hours := e.hours
	e.mu.Unlock()
	l := hours.At(now)
	e.limiter.SetRate(l.Rate)
	return l, hours.Until(now)
}

// join makes a run share the limits of its endpoints until leave is called.
func (x *Runner) join(r *local, j *job.Job) (leave func()) {
	seen := map[string]bool{}
	for _, at := range []string{j.Source, j.Target} {
		name, _ := job.SplitPlace(at)
		cfg := x.ws.Workspace().Endpoints[name]
		if cfg == nil || seen[name] || len(cfg.Bandwidth) == 0 && cfg.Streams == 0 {
			continue
		}
		seen[name] = true
		x.mu.Lock()
		e := x.limits[name]
		if e == nil {
			e = &endpointLimit{name: name, limiter: pace.NewLimiter(0)}
			x.limits[name] = e
		}
		x.mu.Unlock()
		e.mu.Lock()
		e.hours, e.streams = cfg.Hours, cfg.Streams
		e.runs = append(e.runs, r)
		e.mu.Unlock()
		r.shared = append(r.shared, &sharing{e, e.limiter.Join(r.priority.weight())})
		e.divide()
	}
	return func() {
		for _, s := range r.shared {
			s.end.mu.Lock()
			s.end.runs = slices.DeleteFunc(s.end.runs, func(o *local) bool { return o == r })
			s.end.mu.Unlock()
			s.end.divide()
		}
	}
}

// divide shares the endpoint's streams among its runs.
func (e *endpointLimit) divide() {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, r := range e.runs {
		if e.streams > 0 {
			r.control.SetCeiling(e.name, max(1, e.streams/len(e.runs)))
		}
	}
}
