package transfer

import (
	"fmt"
	"hash"
	"runtime"
	"sync"
	"time"

	"lumtra/core/compare"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/room"
)

// A digest is of the whole content in its order, and must be known before an
// object is begun if it is to go along with it. So what is digested is read into
// memory before it is sent, a small object whole and a big one part by part: the
// parts are read and sent side by side as ever, and only for the digest does
// each wait for its turn.

// digests tells that the transfer computes a digest.
func (t *transfer) digests() bool {
	return t.run.opts.Digest != object.NoSum && t.side.copier == nil && t.side.ranges == nil
}

// sendDigested sends a whole object from memory, with its digest.
func (t *transfer) sendDigested(f *flight, b *body, opts place.WriteOptions, first object.Sum) (object.Entry, error) {
	held := room.New(t.effect.Sent().Size)
	defer held.Release()
	if err := b.fill(held.Data); err != nil {
		return object.Entry{}, err
	}
	if err := t.secondRead(b, first); err != nil {
		return object.Entry{}, err
	}
	opts.Sum, opts.Digest = b.Sum(), b.digested()
	f.digest = opts.Digest
	defer b.sentFrom(time.Now())
	return t.side.to.Write(t.run.ctx, t.effect.Key, held.Reader(), int64(len(held.Data)), opts)
}

// sendHeld reads a part, digests it when its turn comes, and sends it from
// memory: what is sent again is what was digested.
func (b *big) sendHeld(number int) (part place.Part, err error) {
	held := room.New(b.size(number))
	defer held.Release()
	var sum object.Sum
	digested := false
	err = b.tryPart(number, func() (err error) {
		if !digested {
			if sum, err = b.readPart(number, held.Data, false); err != nil {
				return err
			}
			b.turns.take(number, held.Data)
			digested = true
		}
		began := time.Now()
		part, err = b.t.side.writer.WritePart(b.t.run.ctx, b.up, number, int64(number-1)*b.partSize, held.Reader(),
			b.size(number), sum)
		b.t.run.meter.spent(Sending, time.Since(began))
		return err
	})
	if err != nil && digested {
		b.f.sent.Add(-b.size(number))
		b.t.run.meter.bytes.Add(-b.size(number))
	}
	return part, err
}

// reread digests a part that an earlier run has sent, and sees whether it is
// still that.
func (b *big) reread(number int) {
	defer b.turns.leave(number)
	held := room.New(b.size(number))
	defer held.Release()
	part := b.parts[number-1]
	err := b.t.fetch(func() error {
		sum, err := b.readPart(number, held.Data, true)
		if err == nil && sum != part.Sum {
			err = place.NewError(b.t.side.from.Name(), "read", b.t.effect.Sent().Key, place.Corrupt,
				fmt.Errorf("part %d is not the one that was sent", number))
		}
		return err
	})
	if err == nil {
		b.turns.take(number, held.Data)
	}
	b.ended(number, part, err)
}

// readPart fills data with a part of the source and sums it up.
func (b *big) readPart(number int, data []byte, silent bool) (object.Sum, error) {
	src := b.t.effect.Sent()
	content, _, err := b.t.open(b.f, place.ReadOptions{Version: src.Version, Offset: int64(number-1) * b.partSize,
		Length: int64(len(data)), IfMark: src.Mark()})
	if err != nil {
		return object.Sum{}, err
	}
	content.silent = silent
	err = content.fill(data)
	content.last = time.Now()
	return content.Sum(), content.close(err)
}

// digest is that of the whole object, once all parts are there. Where parts were
// found damaged later than they were digested, the source is read once more.
func (b *big) digest() (object.Sum, error) {
	if b.turns == nil || b.turns.kind == object.NoSum {
		return object.Sum{}, nil
	}
	if sum := b.turns.sum(); sum.Kind != object.NoSum {
		return sum, nil
	}
	src := b.t.effect.Sent()
	var sum object.Sum
	err := b.t.fetch(func() (err error) {
		sum, err = compare.Sum(b.t.run.ctx, b.t.side.from, src.Key, src.Mark(), b.t.run.opts.Digest)
		return err
	})
	return sum, err
}

// keepDigest has the digest kept beside the object, where it did not go along
// with it. Where that cannot be, the ledger alone has it.
func (t *transfer) keepDigest(there *object.Entry, digest object.Sum) error {
	if digest.Kind == object.NoSum {
		return nil
	}
	if _, kept := there.Sum(digest.Kind); kept {
		return nil
	}
	keeper := t.side.takes.Can().Digests
	of, summed := there.Sum(object.CRC64NVME)
	if keeper != nil && summed {
		err := t.try(func(int) error {
			now, err := keeper.KeepDigest(t.run.ctx, object.Ref{Key: t.effect.Key, IfMark: there.Mark()}, digest, of)
			if err == nil && now.ETag != there.ETag {
				there.ETag, there.Modified = now.ETag, now.Modified
			}
			return err
		})
		if err != nil && place.KindOf(err) != place.Unsupported && place.KindOf(err) != place.Denied {
			return err
		}
	}
	there.Sums = append(there.Sums, digest)
	return nil
}

// lateDigest is the digest of an object that an earlier run had finished and not noted: the
// one that is kept with it, or else that of the source, whose content is the same.
func (t *transfer) lateDigest(there *object.Entry) (digest object.Sum, err error) {
	if !t.digests() {
		return digest, nil
	}
	kind := t.run.opts.Digest
	if kept, ok := there.Sum(kind); ok {
		return kept, nil
	}
	if keeper := t.side.takes.Can().Digests; keeper != nil {
		if crc, ok := there.Sum(object.CRC64NVME); ok {
			kept, err := keeper.KeptDigest(t.run.ctx, object.Ref{Key: t.effect.Key}, kind, crc)
			if err == nil && kept.Kind == kind {
				there.Sums = append(there.Sums, kept)
				return kept, nil
			}
		}
	}
	src := t.effect.Sent()
	err = t.ask(func() (err error) {
		digest, err = compare.Sum(t.run.ctx, t.side.from, src.Key, src.Mark(), kind)
		return err
	})
	return digest, err
}

// turns digests the parts of an object in their order, and holds them against a
// check.
type turns struct {
	mu    sync.Mutex
	next  *sync.Cond
	hash  hash.Hash // nil for no digest
	kind  object.SumKind
	check place.ContentCheck // nil for none
	due   int                // the part whose turn it is, from 1
	lost  bool
}

func newTurns(kind object.SumKind, check place.ContentCheck) *turns {
	d := &turns{kind: kind, check: check, due: 1}
	if kind != object.NoSum {
		d.hash = kind.New()
	}
	d.next = sync.NewCond(&d.mu)
	return d
}

// take waits for the part's turn and digests it. Parts are begun in order, so
// those before it are with their streams and come to an end.
func (d *turns) take(number int, data []byte) {
	d.mu.Lock()
	for d.due != number && !d.lost {
		d.next.Wait()
	}
	lost := d.lost
	d.mu.Unlock()
	if lost {
		return
	}
	if d.hash != nil { // nobody else's turn
		d.hash.Write(data)
	}
	if d.check != nil {
		d.check.Write(data)
	}
	d.mu.Lock()
	d.due++
	d.mu.Unlock()
	d.next.Broadcast()
}

// leave is called when a part is over: if it did not take its turn, those that
// come after it wait in vain.
func (d *turns) leave(number int) {
	d.mu.Lock()
	missed := number >= d.due
	d.mu.Unlock()
	if missed {
		d.lose()
	}
}

// lose gives the digest up.
func (d *turns) lose() {
	d.mu.Lock()
	d.lost = true
	d.mu.Unlock()
	d.next.Broadcast()
}

// sum is the digest of all parts; zero if it was given up, or there is none.
func (d *turns) sum() object.Sum {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.lost || d.hash == nil {
		return object.Sum{}
	}
	return object.SumOf(d.kind, d.hash)
}

// checked tells whether all parts were held against the check, and passed.
func (d *turns) checked() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return !d.lost && d.check.Verify() == nil
}

// lanes feed several objects side by side: one alone is digested by one
// processor.
type lanes struct {
	once sync.Once
	free chan struct{}
	all  sync.WaitGroup
}

// feed has an object's parts handed out in a lane, when one is free.
func (l *lanes) feed(r *run, parts func()) {
	l.once.Do(func() { l.free = make(chan struct{}, runtime.GOMAXPROCS(0)) })
	select {
	case l.free <- struct{}{}:
	case <-r.ctx.Done():
		return
	}
	l.all.Go(func() {
		defer func() { <-l.free }()
		r.streams.guarded(parts)
	})
}
