package transfer

import (
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"path"

	"lumtra/core/compare"
	"lumtra/core/object"
	"lumtra/core/place"
)

// whole is the task that sends an object in one request, or has the store copy it.
type whole struct{ t *transfer }

func (w whole) feed() {
	t := w.t
	t.run.hand(func() {
		t.deliver(func(f *flight) (object.Entry, error) {
			if t.side.copier != nil && t.side.copier.CanCopyFrom(t.side.from) {
				return t.copyWithin(f)
			}
			return t.send(f)
		})
	})
}

// deliver has the object sent, as often as it takes, with what belongs before
// and after that, and closes the transfer.
func (t *transfer) deliver(once func(*flight) (object.Entry, error)) {
	size := t.effect.Sent().Size
	f := t.run.meter.takeOff(t.effect.Key, size, 0)
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
				t.run.meter.bytes.Add(size)
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
	f.arrived()
}

// send is one attempt to stream the content from source to target.
func (t *transfer) send(f *flight) (object.Entry, error) {
	src := t.effect.Sent()
	over := t.side.takes.Can().SumFirst
	twice, err := t.firstRead(over > 0 && src.Size > over)
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
		if src.Size <= t.side.cut.Whole {
			e, err := t.sendDigested(f, b, opts, twice)
			return e, b.close(err)
		}
	}
	e, err := t.side.to.Write(t.run.ctx, t.effect.Key, b, src.Size, opts)
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
	return place.NewError(t.side.from.Name(), "read", t.effect.Sent().Key, place.Corrupt,
		fmt.Errorf("%s, the first reading gave %s", b.Sum(), first))
}

// firstRead reads an object once before it is sent, where its checksum has to be known ahead, since the target keeps
// nothing else that it could be verified by there, or the job has those read twice that the source keeps nothing to
// hold against. It gives the sum; zero where there is no need.
func (t *transfer) firstRead(ahead bool) (object.Sum, error) {
	if !t.run.opts.ReadTwice && !ahead {
		return object.Sum{}, nil
	}
	src := t.effect.Sent()
	b, facts, err := t.open(nil, place.ReadOptions{Version: src.Version, IfMark: src.Mark()})
	if err != nil {
		return object.Sum{}, err
	}
	defer b.r.Close()
	b.silent = true // it is sent only afterwards
	if _, ok := facts.Sum(object.CRC64NVME); ok || !facts.Unverified && !ahead {
		return object.Sum{}, nil
	}
	if _, err := io.Copy(io.Discard, until{t.run.ctx, b}); err != nil {
		return object.Sum{}, place.Wrap(t.side.from.Name(), "read", src.Key, err)
	}
	return b.Sum(), nil
}

// until is a reader that ends when its context does.
type until struct {
	ctx context.Context
	r   io.Reader
}

func (u until) Read(p []byte) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	return u.r.Read(p)
}

// copyWithin has the store copy the object itself.
func (t *transfer) copyWithin(f *flight) (object.Entry, error) {
	src := t.effect.Sent()
	opts := place.WriteOptions{}
	if !t.effect.Back {
		opts.Class = t.run.rules.As.Class
	}
	if set := t.run.rules.As.Metadata; len(set) > 0 && !t.effect.Back {
		facts, err := t.side.from.Stat(t.run.ctx, object.Ref{Key: src.Key, Version: src.Version})
		if err != nil {
			return object.Entry{}, err
		}
		opts = t.options(facts)
	}
	t.condition(&opts)
	e, err := t.side.copier.CopyFrom(t.run.ctx, t.side.from, object.Ref{Key: src.Key, Version: src.Version,
		IfMark: src.Mark()}, t.effect.Key, opts)
	if err != nil {
		return object.Entry{}, err
	}
	if e.Size == 0 { // the answer to a copy tells none
		e.Size = src.Size
	}
	f.sent.Store(src.Size)
	t.run.meter.bytes.Add(src.Size)
	e.Sums = nil // the target's own: nothing was read that could vouch for it
	return e, nil
}

// sameContent holds what is at the target against the source.
func (t *transfer) sameContent(there *object.Entry) (object.Sum, bool) {
	var res compare.Result
	err := t.ask(func() (err error) {
		res, err = compare.Contents(t.run.ctx, compare.ByStoredSum, t.side.from, t.effect.Sent(), t.side.to, there)
		return err
	})
	return res.Sum, err == nil && res.Same
}

// condition guards the write by what the plan saw at the receiving side.
func (t *transfer) condition(opts *place.WriteOptions) {
	if over := t.effect.Over(); t.left != "" {
		opts.Condition, opts.Mark = place.IfStill, t.left
	} else if over == nil || t.effect.Aside != "" {
		opts.Condition = place.IfAbsent
	} else {
		opts.Condition, opts.Mark = place.IfStill, over.Mark()
	}
}

// options are what lands beside the content; facts is the source's entry as
// read, with its metadata.
func (t *transfer) options(facts object.Entry) place.WriteOptions {
	opts := place.WriteOptions{Mode: uint32(facts.Mode), Masked: !t.side.gives.Can().KeepsModes,
		ContentType: facts.ContentType, Metadata: facts.Metadata}
	opts.Original = t.effect.Sent().Modified
	if opts.ContentType == "" { // what a folder has instead of one
		opts.ContentType = mime.TypeByExtension(path.Ext(t.effect.Key))
	}
	if !t.side.takes.Can().KeepsTimes && !facts.Original.IsZero() {
		// A folder gets the time the source's listing tells, or the next plan
		// would find another one; a store keeps the first of all.
		opts.Original = facts.Original
	}
	if !t.effect.Back {
		opts.Class = t.run.rules.As.Class
		if set := t.run.rules.As.Metadata; len(set) > 0 {
			opts.Metadata = place.MetadataChange{Set: set}.Apply(facts.Metadata)
		}
	}
	return opts
}

// arrived tells, after a write was refused because of what is at the target,
// whether that is the very content: then an answer was lost on the way, or an
// earlier run was killed between writing and noting it.
func (t *transfer) arrived(err error) (object.Entry, bool) {
	if k := place.KindOf(err); k != place.Exists && k != place.Changed && k != place.NotFound {
		return object.Entry{}, false
	}
	var refused *place.Error
	if errors.As(err, &refused) && refused.Place == t.side.from.Name() && t.side.from.Name() != t.side.to.Name() {
		return object.Entry{}, false // the source said so
	}
	var there object.Entry
	err = t.ask(func() (err error) {
		there, err = t.side.to.Stat(t.run.ctx, object.Ref{Key: t.effect.Key})
		return err
	})
	if err != nil || there.Size != t.effect.Sent().Size {
		return object.Entry{}, false
	}
	sum, same := t.sameContent(&there)
	if same && sum.Kind != object.CRC64NVME { // which all that is noted is by
		src := t.effect.Sent()
		err = t.ask(func() (err error) {
			sum, err = compare.Sum(t.run.ctx, t.side.from, src.Key, src.Mark(), object.CRC64NVME)
			return err
		})
		if same = err == nil; !same {
			return object.Entry{}, false
		}
	}
	sums := []object.Sum{sum}
	t.unverified.Store(false) // two sides that agree vouch for each other
	if digest, ok := there.Sum(t.run.opts.Digest); ok && t.digests() {
		sums = append(sums, digest)
	}
	there.Sums = sums
	return there, same
}
