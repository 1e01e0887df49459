package transfer

import (
	"fmt"
	"io"

	"lumtra/core/compare"
	"lumtra/core/object"
	"lumtra/core/place"
)

// whole sends an object in one request.
func (t *transfer) whole() {
	t.deliver(func(f *flight) (object.Entry, error) {
		if t.copier != nil && t.copier.CanCopyFrom(t.from) {
			return t.copyWithin(f)
		}
		return t.send(f)
	})
}

// deliver has the object sent, as often as it takes, with what belongs before
// and after that, and closes the transfer.
func (t *transfer) deliver(once func(*flight) (object.Entry, error)) {
	size := t.effect.Sent().Size
	f := t.meter.takeOff(t.effect.Key, size, 0)
	defer f.land()
	var there object.Entry
	err := t.putAside()
	if err == nil {
		err = t.doubts()
	}
	if err == nil {
		err = t.try(func(attempt int) (err error) {
			f.tries.Store(int32(attempt))
			there, err = once(f)
			return err
		})
	}
	if err != nil {
		if e, ok := t.arrived(err); ok {
			there, err = e, nil
			if f.tries.Load() > 1 { // sent by an attempt whose answer was lost
				f.sent.Store(size)
				t.meter.bytes.Add(size)
			}
		}
	}
	if err == nil {
		err = t.arrives(&there)
	}
	if err == nil {
		err = t.beside(&there, f.digest)
	}
	if err != nil {
		t.failedFor(err)
		return
	}
	t.succeeded(size, there)
}

// send is one attempt to stream the content from source to target.
func (t *transfer) send(f *flight) (object.Entry, error) {
	src := t.effect.Sent()
	twice, err := t.firstRead()
	if err != nil {
		return object.Entry{}, err
	}
	b, facts, err := t.open(f, place.ReadOptions{IfMark: src.Mark()})
	if err != nil {
		return object.Entry{}, err
	}
	t.unverified.Store(facts.Unverified && twice.Kind == object.NoSum)
	opts := t.options(facts)
	// What the source keeps goes ahead of the content, for the target to verify.
	if opts.Sum, _ = facts.Sum(object.CRC64NVME); opts.Sum.Kind == object.NoSum {
		opts.Sum = twice
	}
	t.condition(&opts)
	if t.digests() {
		b.digest = t.run.opts.Digest.New()
		if src.Size <= t.wholeAtMost() {
			e, err := t.sendDigested(f, b, opts, twice)
			return e, b.close(err)
		}
	}
	e, err := t.to.Write(t.ctx, t.effect.Key, b, src.Size, opts)
	f.digest = b.digested()
	if other := t.secondRead(b, twice); err == nil && other != nil {
		t.left, err = e.Mark(), other
	}
	return e, b.close(err)
}

// secondRead holds what was read against the first reading, if there was one.
func (t *transfer) secondRead(b *body, first object.Sum) error {
	if first.Kind == object.NoSum || b.Sum() == first {
		return nil
	}
	return place.NewError(t.from.Name(), "read", t.effect.Sent().Key, place.Corrupt, fmt.Errorf("%s, the first reading gave %s", b.Sum(), first))
}

// firstRead reads an object once before it is sent, where the job has those read
// twice that the source keeps nothing to hold against. It gives the sum; zero where
// there is no need.
func (t *transfer) firstRead() (object.Sum, error) {
	if !t.run.opts.ReadTwice {
		return object.Sum{}, nil
	}
	src := t.effect.Sent()
	r, facts, err := t.from.Read(t.ctx, src.Key, place.ReadOptions{Version: src.Version, IfMark: src.Mark()})
	if err != nil {
		return object.Sum{}, err
	}
	defer r.Close()
	if !facts.Unverified {
		return object.Sum{}, nil
	}
	h := object.CRC64NVME.New()
	if _, err := io.Copy(h, r); err != nil {
		return object.Sum{}, place.Wrap(t.from.Name(), "read", src.Key, err)
	}
	return object.SumOf(object.CRC64NVME, h), nil
}

// copyWithin has the store copy the object itself.
func (t *transfer) copyWithin(f *flight) (object.Entry, error) {
	src := t.effect.Sent()
	opts := place.WriteOptions{}
	if !t.effect.Back {
		opts.Class = t.rules.As.Class
	}
	if set := t.rules.As.Metadata; len(set) > 0 && !t.effect.Back {
		facts, err := t.from.Stat(t.ctx, object.Ref{Key: src.Key, Version: src.Version})
		if err != nil {
			return object.Entry{}, err
		}
		opts = t.options(facts)
	}
	t.condition(&opts)
	e, err := t.copier.CopyFrom(t.ctx, t.from, object.Ref{Key: src.Key, Version: src.Version, IfMark: src.Mark()}, t.effect.Key, opts)
	if err != nil {
		return object.Entry{}, err
	}
	f.sent.Store(src.Size)
	t.meter.bytes.Add(src.Size)
	e.Sums = nil // the target's own: nothing was read that could vouch for it
	return e, nil
}

// sameContent holds what is at the target against the source.
func (t *transfer) sameContent(there *object.Entry) (object.Sum, bool) {
	var res compare.Result
	err := t.ask(func() (err error) {
		res, err = compare.Contents(t.ctx, compare.ByStoredSum, t.from, t.effect.Sent(), t.to, there)
		return err
	})
	return res.Sum, err == nil && res.Same
}
