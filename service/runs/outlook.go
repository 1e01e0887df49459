package runs

import (
	"time"

	"lumtra/core/transfer"
)

// Expect tells when the run should end: at the better and at the worse of its rate over all
// and its rate of late. It is false while nothing can be told.
func (s *State) Expect(now time.Time) (soon, late time.Time, ok bool) {
	left := float64(s.Planned.Bytes - s.BeforeBytes - s.Bytes)
	n := len(s.Samples)
	if n < 5 || s.Bytes == 0 || left < 0 {
		return soon, late, false
	}
	last := s.Samples[n-1]
	recent := s.Samples[max(0, n-40)]
	overall := float64(last.Bytes) / last.At.Seconds()
	lately := float64(last.Bytes-recent.Bytes) / max((last.At-recent.At).Seconds(), 0.001)
	fast, slow := max(overall, lately), min(overall, lately)
	if slow <= 0 {
		return soon, late, false
	}
	in := func(rate float64) time.Time { return now.Add(time.Duration(left / rate * float64(time.Second))) }
	return in(fast), in(slow), true
}

// Lately is the rate over the last second or so, in bytes a second.
func (s *State) Lately() float64 {
	return s.over(func(x *transfer.Sample) int64 { return x.Bytes })
}

// ReadLately is the same of what the source gives.
func (s *State) ReadLately() float64 {
	return s.over(func(x *transfer.Sample) int64 { return x.Read })
}

func (s *State) over(of func(*transfer.Sample) int64) float64 {
	n := len(s.Samples)
	if n < 2 {
		return 0
	}
	a, b := &s.Samples[max(0, n-6)], &s.Samples[n-1]
	return float64(of(b)-of(a)) / max((b.At-a.At).Seconds(), 0.001)
}

// Shares is where the streams' time went since an earlier state of the run, nil for its
// beginning: of each stage between 0 and 1. It is false where no time was spent.
func (s *State) Shares(since *State) (shares [len(transfer.Stages)]float64, known bool) {
	spent := s.Stages
	if since != nil {
		for i := range spent {
			spent[i] -= since.Stages[i]
		}
	}
	total := 0.0
	for _, d := range spent {
		total += max(d.Seconds(), 0)
	}
	if total <= 0 {
		return shares, false
	}
	for i, d := range spent {
		shares[i] = max(d.Seconds(), 0) / total
	}
	return shares, true
}

// HeldBack is the stage that took most of the time since an earlier state; see Shares.
func (s *State) HeldBack(since *State) (transfer.Stage, bool) {
	shares, known := s.Shares(since)
	most := transfer.Reading
	for _, stage := range transfer.Stages {
		if shares[stage] > shares[most] {
			most = stage
		}
	}
	return most, known
}
