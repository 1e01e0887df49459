package transfer

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"sync/atomic"

	"lumtra/core/compare"
	"lumtra/core/object"
	"lumtra/core/place"
)

// big is an object being sent in parts.
type big struct {
	*transfer
	f        *flight
	up       place.Upload
	opts     place.WriteOptions
	partSize int64
	// want is the checksum the source keeps for the whole, if it does: a part
	// read as a range comes without one that could vouch for it.
	want object.Sum
	// check holds the parts, in their order, against what else the source keeps for
	// the whole; nil where it keeps nothing.
	check place.ContentCheck
	// turns digests and checks the parts, nil where there is no need.
	turns *turns

	mu     sync.Mutex
	parts  []place.Part // by number, zero where not there yet
	open   int          // how many are to come
	failed error
	// joined is the error for what joining the parts has made, where that turned out
	// damaged.
	joined error
	// here counts the bytes that this run has sent.
	here atomic.Int64
}

// PartSize is the size of the parts of an object of the given size: the wanted
// one, or as much more as it takes to stay within the target's limits.
func PartSize(wanted, size int64, a place.Abilities) int64 {
	part := max(wanted, a.MinPart)
	if a.MaxParts > 0 {
		if least := (size + int64(a.MaxParts) - 1) / int64(a.MaxParts); part < least {
			const mib = 1 << 20
			part = (least + mib - 1) / mib * mib
		}
	}
	if a.MaxPart > 0 {
		part = min(part, a.MaxPart)
	}
	return part
}

// feedParts opens the upload, or finds the one an earlier run left, and hands
// its missing parts to the streams. The stream that ends the last one finishes
// the object.
func (t *transfer) feedParts() {
	src := t.effect.Sent()
	b := &big{transfer: t, partSize: PartSize(t.run.opts.PartSize, src.Size, t.to.Abilities())}
	ready := make(chan bool, 1)
	// Opening takes requests of its own: a stream does them.
	if !t.hand(func() {
		ok := false
		defer func() { ready <- ok }() // also when it panics
		ok = b.prepare()
	}) || !<-ready {
		return
	}
	for n := range b.parts {
		task := func() { b.send(n + 1) }
		if b.parts[n].Number != 0 {
			if task = func() { b.reread(n + 1) }; b.turns == nil {
				continue
			}
		}
		if !t.hand(task) {
			b.f.land()
			return
		}
	}
}

// prepare readies the upload. It returns false when there is nothing to send:
// because it failed, or because all is there already.
func (b *big) prepare() bool {
	src := b.effect.Sent()
	facts := *src
	err := b.retry(func() (err error) {
		if b.from.Abilities().KeepsMetadata { // a listing lacks metadata
			facts, err = b.from.Stat(b.ctx, object.Ref{Key: src.Key, Version: src.Version, IfMark: src.Mark()})
		}
		return err
	})
	if err != nil {
		b.failedFor(err)
		return false
	}
	b.opts = b.options(facts)
	if err := b.vouch(facts); err != nil {
		b.failedFor(err)
		return false
	}
	if b.ledger.upload(b.number) != nil {
		if there, ok := b.arrived(errLost); ok { // killed between finishing and noting it
			if err := b.arrives(&there); err != nil {
				b.failedFor(err)
			} else {
				b.succeeded(src.Size, there)
			}
			return false
		}
	}
	if err := b.putAside(); err != nil {
		b.failedFor(err)
		return false
	}
	if b.doubts() != nil {
		return false
	}
	found, err := b.takeUp()
	if err == nil && b.up.ID == "" {
		err = b.begin(func() (err error) {
			b.up, err = b.writer.Begin(b.ctx, b.effect.Key, b.opts)
			return err
		})
		if err == nil {
			if err := b.ledger.begun(b.number, b.up.ID, b.partSize); err != nil {
				b.cancel(err)
				return false
			}
		}
	}
	if err != nil {
		b.failedFor(err)
		return false
	}
	count := int((src.Size + b.partSize - 1) / b.partSize)
	b.parts, b.open = make([]place.Part, count), count
	b.f = b.meter.takeOff(b.effect.Key, src.Size, count)
	b.f.tries.Store(1)
	for _, p := range found {
		if p.Number >= 1 && p.Number <= count && p.Size == b.size(p.Number) && p.Sum.Kind == object.CRC64NVME && b.parts[p.Number-1].Number == 0 {
			b.parts[p.Number-1] = p
			b.open--
			b.f.setPart(p.Number, Done)
			b.f.sent.Add(p.Size)
		}
	}
	if b.digests() || b.check != nil { // every part takes its turn, those that are there by being read again
		kind := object.NoSum
		if b.digests() {
			kind = b.run.opts.Digest
		}
		b.turns, b.open = newTurns(kind, b.check), count
	}
	if b.open == 0 {
		b.finish()
		return false
	}
	return true
}

// vouch finds what the content that comes can be held against.
func (b *big) vouch(facts object.Entry) error {
	var ok bool
	if b.want, ok = facts.Sum(object.CRC64NVME); ok || b.ranges != nil || !b.from.Abilities().KeepsMetadata {
		return nil
	}
	if v, ok := b.from.(place.Vouching); ok {
		b.check = v.CheckFor(b.ctx, facts)
	}
	switch {
	case b.check != nil:
	case b.run.opts.ReadTwice:
		return b.fetch(func() (err error) {
			b.want, err = b.firstRead()
			return err
		})
	default:
		b.unverified.Store(true)
	}
	return nil
}

// takeUp finds the parts an earlier run left at the target. Those the ledger
// does not know of, because the run was killed before it noted them, count
// too: the target vouches for their checksums.
func (b *big) takeUp() ([]place.Part, error) {
	state := b.ledger.upload(b.number)
	if state == nil {
		return nil, nil
	}
	up := place.Upload{Key: b.effect.Key, ID: state.id}
	var found []place.Part
	err := b.retry(func() (err error) {
		found, err = b.writer.Parts(b.ctx, up)
		return err
	})
	if err != nil && place.KindOf(err) == place.NotFound {
		return nil, b.ledger.aborted(b.number) // by someone else; begin anew
	}
	if err != nil {
		return nil, err
	}
	b.up, b.partSize = up, state.partSize
	for i, p := range found {
		if noted, ok := state.parts[p.Number]; ok && noted.ETag == p.ETag {
			found[i] = noted // with its checksum, where the listing lacks it
		}
	}
	return found, nil
}

// errLost stands for the answer that a killed run did not live to see.
var errLost = place.NewError("", "finish", "", place.Exists, nil)

func (b *big) retry(f func() error) error { return b.try(func(int) error { return f() }) }

func (b *big) size(number int) int64 {
	return min(b.partSize, b.effect.Sent().Size-int64(number-1)*b.partSize)
}

// send sends one part.
func (b *big) send(number int) {
	b.mu.Lock()
	lost := b.failed != nil
	b.mu.Unlock()
	var part place.Part
	var err error
	if b.turns != nil {
		defer b.turns.leave(number)
	}
	if !lost {
		b.f.setPart(number, Moving)
		if b.turns != nil {
			part, err = b.sendHeld(number)
		} else {
			err = b.tryPart(number, func() (err error) {
				part, err = b.sendOnce(number)
				return err
			})
		}
	}
	if err == nil && !lost {
		if err = b.ledger.part(b.number, part); err != nil {
			b.cancel(err)
		}
		b.f.setPart(number, Done)
		b.here.Add(b.size(number))
	} else if !lost {
		b.f.setPart(number, Waiting)
	}
	b.ended(number, part, err)
}

// tryPart does one step for a part as often as it takes.
func (b *big) tryPart(number int, step func() error) error {
	return b.try(func(attempt int) error {
		if attempt > 1 {
			b.f.tries.Store(int32(attempt))
			b.f.setPart(number, Again)
		}
		return step()
	})
}

// ended notes that all was done for a part, and after the last one finishes.
func (b *big) ended(number int, part place.Part, err error) {
	b.mu.Lock()
	if b.failed == nil {
		b.failed = err
	}
	b.parts[number-1] = part
	b.open--
	last := b.open == 0
	b.mu.Unlock()
	if last {
		b.finish()
	}
}

func (b *big) sendOnce(number int) (place.Part, error) {
	offset, size, src := int64(number-1)*b.partSize, b.size(number), b.effect.Sent()
	if b.ranges != nil {
		part, err := b.ranges.CopyPart(b.ctx, b.up, number, b.from, object.Ref{Key: src.Key, Version: src.Version, IfMark: src.Mark()}, offset, size)
		if err == nil {
			b.f.sent.Add(size)
			b.meter.bytes.Add(size)
		}
		return part, err
	}
	content, _, err := b.transfer.open(b.f, place.ReadOptions{Version: src.Version, Offset: offset, Length: size, IfMark: src.Mark()})
	if err != nil {
		return place.Part{}, err
	}
	part, err := b.writer.WritePart(b.ctx, b.up, number, offset, content, size, object.Sum{})
	return part, content.close(err)
}

// whole works out the checksum of all parts together and holds it against the
// source's own. Where they differ, parts were damaged on the way here: each is
// read again, and sent again if it comes out another.
func (b *big) whole() (object.Sum, error) {
	if b.check != nil && !b.turns.checked() {
		// Read once more as a whole, which the place itself holds against what it
		// keeps: then the parts can be told by their sums.
		src := b.effect.Sent()
		err := b.fetch(func() (err error) {
			b.want, err = compare.Sum(b.ctx, b.from, src.Key, src.Mark(), object.CRC64NVME)
			return err
		})
		if err != nil {
			return object.Sum{}, err
		}
	}
	for round := 1; ; round++ {
		sum := object.SumOf(object.CRC64NVME, object.CRC64NVME.New())
		for _, p := range b.parts {
			if p.Sum.Kind != object.CRC64NVME { // copied by a service that tells none
				return object.Sum{}, nil
			}
			sum = object.CombineCRC64(sum, p.Sum, p.Size)
		}
		if b.want.Kind == object.NoSum || sum == b.want {
			return sum, nil
		}
		if round == b.run.opts.Retry.Tries {
			return sum, place.NewError(b.from.Name(), "read", b.effect.Key, place.Corrupt, fmt.Errorf("%s came, the source keeps %s", sum, b.want))
		}
		for n := 1; n <= len(b.parts); n++ {
			if err := b.retry(func() error { return b.mend(n) }); err != nil {
				return sum, err
			}
		}
	}
}

// mend reads a part again and, if it is not what was sent, sends it again.
func (b *big) mend(number int) error {
	src := b.effect.Sent()
	r, _, err := b.from.Read(b.ctx, src.Key, place.ReadOptions{Version: src.Version, Offset: int64(number-1) * b.partSize, Length: b.size(number), IfMark: src.Mark()})
	if err != nil {
		return err
	}
	defer r.Close()
	h := object.CRC64NVME.New()
	if _, err := io.Copy(h, r); err != nil {
		return place.Wrap(b.from.Name(), "read", src.Key, err)
	}
	if object.SumOf(object.CRC64NVME, h) == b.parts[number-1].Sum {
		return nil
	}
	if b.turns != nil {
		b.turns.lose()
	}
	b.f.setPart(number, Again)
	b.meter.retries.Add(1)
	b.f.sent.Add(-b.size(number))
	b.meter.bytes.Add(-b.size(number))
	part, err := b.sendOnce(number)
	if err != nil {
		b.f.sent.Add(b.size(number))
		b.meter.bytes.Add(b.size(number))
		return err
	}
	b.parts[number-1] = part
	b.f.setPart(number, Done)
	return b.ledger.part(b.number, part)
}

// again has the object sent once more from its start.
func (b *big) again(why error) {
	b.ledger.aborted(b.number)
	b.meter.bytes.Add(-b.here.Load())
	b.meter.retries.Add(1)
	b.resend.add(b.transfer, why)
}

// errJoined ends the tries to join parts that have been joined.
var errJoined = place.NewError("", "finish", "", place.Changed, errors.New("the joined object is not what was sent"))

// finish joins the parts, or drops them when the object can never be
// finished, or takes up the room that others still could use. Parts of an object that failed for a passing reason are left for
// the next run of the plan.
func (b *big) finish() {
	defer b.f.land()
	err := b.failed
	var whole object.Sum
	var there object.Entry
	if err == nil {
		whole, err = b.whole()
	}
	var digest object.Sum
	if err == nil {
		digest, err = b.digest()
	}
	if err == nil {
		b.opts.Sum, b.opts.Digest = whole, digest
		err = b.try(func(attempt int) (err error) {
			if b.joined != nil {
				return errJoined
			}
			if attempt > 1 { // the answer may have been lost, not the effect
				if e, ok := b.arrived(errLost); ok && (whole.Kind == object.NoSum || e.Sums[0] == whole) {
					there = e
					return nil
				}
			}
			b.condition(&b.opts)
			there, err = b.writer.Finish(b.ctx, b.up, b.parts, b.opts)
			if leftBy(err) != "" {
				b.joined = err
			}
			return err
		})
	}
	if err != nil && b.joined != nil { // and found damaged only then: all of it goes once more
		b.again(b.joined)
		return
	}
	if err != nil && place.KindOf(err) == place.Corrupt && b.ctx.Err() == nil && b.abort(b.writer, b.up) == nil {
		// The parts there are not those that were sent, or that an earlier run says it
		// has: neither side can tell which.
		b.again(err)
		return
	}
	if err != nil {
		if e, ok := b.arrived(err); ok && (whole.Kind == object.NoSum || e.Sums[0] == whole) {
			there, err = e, nil
			b.abort(b.writer, b.up) // if it is not the one that became the object
		}
	}
	if err == nil {
		err = b.arrives(&there)
	}
	if err == nil {
		err = b.beside(&there, digest)
	}
	if err == nil {
		b.succeeded(b.effect.Sent().Size, there)
		return
	}
	b.failedFor(err)
	if hopeless := []place.ErrorKind{place.Changed, place.Exists, place.NotFound, place.Corrupt, place.TooLarge, place.BadName, place.NoRoom}; slices.Contains(hopeless, place.KindOf(err)) && b.ctx.Err() == nil {
		if b.abort(b.writer, b.up) == nil {
			b.ledger.aborted(b.number)
		}
	}
}
