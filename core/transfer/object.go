package transfer

import (
	"time"

	"lumtra/core/compare"
	"lumtra/core/object"
	"lumtra/core/place"
)

// whole sends an object in one request.
func (t *transfer) whole() {
	size := t.effect.Source.Size
	f := t.meter.takeOff(t.effect.Key, size, 0)
	defer f.land()
	var sum object.Sum
	err := t.opts.Retry.Do(t.ctx, func(attempt int) (err error) {
		if f.tries.Store(int32(attempt)); attempt > 1 {
			t.meter.retries.Add(1)
		}
		if t.copier != nil {
			sum, err = t.copyWithin(f)
		} else {
			sum, err = t.send(f)
		}
		return err
	})
	if err != nil {
		if s, ok := t.arrived(err); ok {
			sum, err = s, nil
			if f.tries.Load() > 1 { // sent by an attempt whose answer was lost
				f.sent.Store(size)
				t.meter.bytes.Add(size)
			}
		}
	}
	if err != nil {
		t.failedFor(err)
		return
	}
	t.succeeded(size, sum)
}

// send is one attempt to stream the content from source to target.
func (t *transfer) send(f *flight) (object.Sum, error) {
	src := t.effect.Source
	began := time.Now()
	r, facts, err := t.source.Read(t.ctx, src.Key, place.ReadOptions{IfMark: src.Mark()})
	t.meter.reading.Add(int64(time.Since(began)))
	if err != nil {
		return object.Sum{}, err
	}
	defer r.Close()
	opts := t.options(facts)
	t.condition(&opts)
	b := &body{f: f, r: r}
	began = time.Now()
	e, err := t.target.Write(t.ctx, t.effect.Key, b, src.Size, opts)
	t.meter.writing.Add(int64(time.Since(began)))
	if err != nil {
		b.takeBack()
		return object.Sum{}, err
	}
	return firstSum(e), nil
}

// copyWithin has the store copy the object itself.
func (t *transfer) copyWithin(f *flight) (object.Sum, error) {
	src := t.effect.Source
	opts := place.WriteOptions{}
	t.condition(&opts)
	e, err := t.copier.CopyFrom(t.ctx, t.source, object.Ref{Key: src.Key, Version: src.Version, IfMark: src.Mark()}, t.effect.Key, opts)
	if err != nil {
		return object.Sum{}, err
	}
	f.sent.Store(src.Size)
	t.meter.bytes.Add(src.Size)
	return firstSum(e), nil
}

func firstSum(e object.Entry) object.Sum {
	if len(e.Sums) > 0 {
		return e.Sums[0]
	}
	return object.Sum{}
}

// sameContent holds what is at the target against the source.
func (t *transfer) sameContent(there *object.Entry) (object.Sum, bool) {
	var res compare.Result
	err := t.opts.Retry.Do(t.ctx, func(int) (err error) {
		res, err = compare.Contents(t.ctx, compare.ByStoredSum, t.source, t.effect.Source, t.target, there)
		return err
	})
	return res.Sum, err == nil && res.Same
}
