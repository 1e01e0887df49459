package sample

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"iter"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/price"
)

// Options say what is tried. Zero values are the usual ones.
type Options struct {
	// Bytes is how much is read, PerTrial how long each compressor is tried on one processor, and as long
	// again on all.
	Bytes    int64
	PerTrial time.Duration
	// Line is how fast what was packed can be sent, in bytes a second; 0 where that is not known.
	Line float64
	// Told, when not nil, is told what was found out so far, after each trial.
	Told func(*Sampling)
}

// Trial is what one compressor made of the sample.
type Trial struct {
	Method
	// Ratio is the packed size by the raw one, for the whole by the shares of its kinds; Size what all of
	// it would take, in bytes.
	Ratio float64
	Size  int64
	// In and InAll are how fast content is packed on one processor and on all, Out and OutAll how fast it
	// is read again, in raw bytes a second.
	In, InAll, Out, OutAll float64
	// Time is how long all of it takes, packed on all processors and sent over the line at the same time.
	Time time.Duration
	// OfKind is the ratio by the kind's ending.
	OfKind map[string]float64
	// Bill is what it asks of the target, once [Sampling.Price] was asked.
	Bill Bill
}

// Sampling is what was found out.
type Sampling struct {
	Files, Bytes int64
	// Read is how many bytes were read for it.
	Read       int64
	Kinds      []*Kind
	Trials     []Trial
	Processors int
	Line       float64
	// Best is the number of the trial that is recommended, Why says so.
	Best int
	Why  string
	// Single is what all of it asks of the target without packs, Rates what both were worked out by; see
	// [Sampling.Price].
	Single Bill
	Rates  *price.Rates `json:",omitempty"`
}

// Recommended is the best trial; nil before there is one.
func (s *Sampling) Recommended() *Trial {
	if s.Best >= len(s.Trials) || s.Best < 0 {
		return nil
	}
	return &s.Trials[s.Best]
}

// Run tries compressors on a part of what a place has. entries are what there is.
func Run(ctx context.Context, from place.Place, entries iter.Seq2[object.Entry, error],
	opts Options) (*Sampling, error) {
	opts.Bytes = cmp.Or(opts.Bytes, DefaultBytes)
	opts.PerTrial = cmp.Or(opts.PerTrial, 1500*time.Millisecond)
	s := &Sampling{Processors: runtime.GOMAXPROCS(0), Line: opts.Line}
	var pieces []piece
	var err error
	if s.Kinds, pieces, s.Files, s.Bytes, err = pick(ctx, from, entries, opts.Bytes); err != nil {
		return nil, err
	}
	if len(pieces) == 0 {
		return s, fmt.Errorf("%s: there is nothing to try it on", from.Name())
	}
	for _, p := range pieces {
		s.Read += int64(len(p.data))
	}
	for _, m := range Methods() {
		t, err := s.try(ctx, m, pieces, opts.PerTrial)
		if err != nil {
			return nil, err
		}
		s.Trials = append(s.Trials, t)
		if opts.Told != nil {
			so := *s
			so.Best, so.Trials = -1, slices.Clone(s.Trials)
			opts.Told(&so)
		}
	}
	s.recommend()
	return s, nil
}

// worked is what one method did with pieces in some time.
type worked struct {
	raw  int64
	took time.Duration
}

// rate is raw bytes a second.
func (w *worked) rate() float64 { return float64(w.raw) / max(w.took.Seconds(), 1e-9) }

// pass has workers do something with each piece until all are done or the time is over; each does one at
// least.
func pass(ctx context.Context, n, workers int, span time.Duration, do func(i int) (raw int64, err error)) (w worked,
	err error) {
	began := time.Now()
	var next, raw atomic.Int64
	var all sync.WaitGroup
	errs := make([]error, workers)
	for k := range workers {
		all.Go(func() {
			for errs[k] == nil && ctx.Err() == nil {
				i := next.Add(1) - 1
				if i >= int64(n) || i >= int64(workers) && time.Since(began) > span {
					return
				}
				var size int64
				size, errs[k] = do(int(i))
				raw.Add(size)
			}
		})
	}
	all.Wait()
	w = worked{raw: raw.Load(), took: time.Since(began)}
	return w, cmp.Or(append(errs, ctx.Err())...)
}

// try tries one method.
func (s *Sampling) try(ctx context.Context, m Method, pieces []piece, span time.Duration) (Trial, error) {
	t := Trial{Method: m, OfKind: map[string]float64{}}
	packed := make([][]byte, len(pieces))
	in := func(i int) (int64, error) {
		var out bytes.Buffer
		object.CRC64NVME.New().Write(pieces[i].data) // as everything that is packed is summed
		err := m.pack(&out, pieces[i].data)
		packed[i] = out.Bytes()
		return int64(len(pieces[i].data)), err
	}
	one, err := pass(ctx, len(pieces), 1, span, in)
	if err != nil {
		return t, err
	}
	many, err := pass(ctx, len(pieces), s.Processors, span, in)
	if err != nil {
		return t, err
	}
	t.In, t.InAll = one.rate(), many.rate()
	var there []int
	raw, small := map[*Kind]int64{}, map[*Kind]int64{}
	var allRaw, allSmall int64
	for i, p := range packed {
		if p == nil {
			continue
		}
		there = append(there, i)
		k, n, size := pieces[i].kind, int64(len(pieces[i].data)), int64(len(p))
		size = min(size, n+64) // what does not compress is kept as it is
		raw[k], small[k] = raw[k]+n, small[k]+size
		allRaw, allSmall = allRaw+n, allSmall+size
	}
	out := func(i int) (int64, error) {
		r, err := m.unpack(bytes.NewReader(packed[there[i]]))
		if err != nil {
			return 0, err
		}
		n, err := io.Copy(object.CRC64NVME.New(), r)
		if closing := r.Close(); err == nil {
			err = closing
		}
		return n, err
	}
	if one, err = pass(ctx, len(there), 1, span/2, out); err != nil {
		return t, err
	}
	if many, err = pass(ctx, len(there), s.Processors, span/2, out); err != nil {
		return t, err
	}
	t.Out, t.OutAll = one.rate(), many.rate()
	var size float64
	for _, k := range s.Kinds {
		ratio := float64(allSmall) / float64(max(allRaw, 1)) // of a kind that was not reached in time
		if raw[k] > 0 {
			ratio = float64(small[k]) / float64(raw[k])
			t.OfKind[k.Ending] = ratio
		}
		size += ratio * float64(k.Bytes)
	}
	t.Size = int64(size)
	t.Ratio = size / float64(max(s.Bytes, 1))
	seconds := float64(s.Bytes) / t.InAll
	if s.Line > 0 {
		seconds = max(seconds, size/s.Line)
	}
	t.Time = time.Duration(seconds * float64(time.Second))
	return t, nil
}

// near is how much longer a smaller pack may take and still be the better one.
const near = 1.10

// worth is how much smaller it has to be for that.
const worth = 0.97

// recommend picks the fastest way that packs are made in; of those that are nearly as fast the smallest, where
// it is smaller by what matters.
func (s *Sampling) recommend() {
	fastest := -1
	for i, t := range s.Trials {
		if t.Form != "" && (fastest < 0 || t.Time < s.Trials[fastest].Time) {
			fastest = i
		}
	}
	s.Best = fastest
	if float64(s.Trials[0].Time) <= near*float64(s.Trials[fastest].Time) {
		s.Best = 0 // nothing is done to it, unless that saves something
	}
	for i, t := range s.Trials {
		if t.Form != "" && float64(t.Time) <= near*float64(s.Trials[fastest].Time) &&
			float64(t.Size) < worth*float64(s.Trials[s.Best].Size) {
			s.Best = i
		}
	}
	best, none := s.Trials[s.Best], s.Trials[0]
	saved := 100 * (1 - float64(best.Size)/float64(max(none.Size, 1)))
	switch {
	case best.Form == pack.Plain:
		s.Why = "it does not compress: anything else takes longer and saves next to nothing"
	case s.Line > 0 && float64(none.Time) > near*float64(best.Time):
		s.Why = fmt.Sprintf("less goes over the line, and packing keeps up with it: %.0f %% smaller, %.1f times "+
			"as fast as "+
			"uncompressed", saved, float64(none.Time)/float64(best.Time))
	default:
		s.Why = fmt.Sprintf("%.0f %% smaller, in the same time", saved)
	}
}
