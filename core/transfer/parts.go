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

// big is the task that sends an object in parts.
type big struct {
	t        *transfer
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

// feed opens the upload, or finds the one an earlier run left, and hands its missing parts
// to the streams. The stream that ends the last one finishes the object. Where the parts
// take turns several objects are fed side by side, see [lanes].
func (b *big) feed() {
	if t := b.t; t.digests() || t.checks() {
		t.run.lanes.feed(t.run, b.feedParts)
		return
	}
	b.feedParts()
}

func (b *big) feedParts() {
	t := b.t
	ready := make(chan bool, 1)
	// Opening takes requests of its own: a stream does them.
	if !t.run.hand(func() {
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
		if !t.run.hand(task) {
			b.f.land()
			return
		}
	}
}

// prepare readies the upload. It returns false when there is nothing to send:
// because it failed, or because all is there already.
func (b *big) prepare() bool {
	src := b.t.effect.Sent()
	facts := *src
	err := b.retry(func() (err error) {
		if b.t.side.gives.Can().KeepsMetadata { // a listing lacks metadata
			facts, err = b.t.side.from.Stat(b.t.run.ctx, object.Ref{Key: src.Key, Version: src.Version,
				IfMark: src.Mark()})
		}
		return err
	})
	if err != nil {
		b.t.failedFor(err)
		return false
	}
	b.opts = b.t.options(facts)
	if err := b.vouch(facts); err != nil {
		b.t.failedFor(err)
		return false
	}
	b.opts.PartSize, b.opts.Size, b.opts.Sum = b.partSize, src.Size, b.want // what is known before the first part
	if left := b.t.run.ledger.Upload(b.t.number); left != nil {
		if there, ok := b.t.arrived(errLost); ok { // killed between finishing and noting it
			b.t.leave(place.Upload{Key: b.t.effect.Key, ID: left.ID}) // if it came otherwise
			err := b.t.arrives(&there)
			var digest object.Sum
			if err == nil {
				digest, err = b.t.lateDigest(&there)
			}
			if err == nil { // nor was what lies beside it brought, perhaps
				err = b.t.beside(&there, digest)
			}
			if err != nil {
				b.t.failedFor(err)
			} else {
				b.t.succeeded(src.Size, there)
			}
			return false
		}
	}
	if err := b.t.putAside(); err != nil {
		b.t.failedFor(err)
		return false
	}
	if b.t.doubts() != nil {
		return false
	}
	found, err := b.takeUp()
	if err == nil && b.up.ID == "" {
		err = b.t.openUpload(func() (err error) {
			b.up, err = b.t.side.writer.Begin(b.t.run.ctx, b.t.effect.Key, b.opts)
			return err
		})
		if err == nil {
			if err := b.t.run.ledger.Begin(b.t.number, b.up.ID, b.partSize); err != nil {
				b.t.run.cancel(err)
				return false
			}
		}
	}
	if err != nil {
		b.t.failedFor(err)
		return false
	}
	count := int((src.Size + b.partSize - 1) / b.partSize)
	b.parts, b.open = make([]place.Part, count), count
	b.f = b.t.run.meter.takeOff(b.t.effect.Key, src.Size, count)
	b.f.tries.Store(1)
	for _, p := range found {
		if p.Number >= 1 && p.Number <= count && p.Size == b.size(p.Number) && p.Sum.Kind == object.CRC64NVME &&
			b.parts[p.Number-1].Number == 0 {
			b.parts[p.Number-1] = p
			b.open--
			b.f.setPart(p.Number, Done)
			b.f.sent.Add(p.Size)
		}
	}
	if b.t.digests() || b.check != nil { // every part takes its turn, those that are there by being read again
		kind := object.NoSum
		if b.t.digests() {
			kind = b.t.run.opts.Digest
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
	if b.want, ok = facts.Sum(object.CRC64NVME); ok || b.t.side.ranges != nil {
		return nil
	}
	ahead := b.t.side.takes.Can().PartsSumFirst
	if !b.t.side.gives.Can().KeepsMetadata && !ahead {
		return nil
	}
	if v := b.t.side.gives.Can().Vouches; v != nil {
		b.check, b.want = v.CheckFor(b.t.run.ctx, facts)
	}
	switch {
	case b.want.Kind != object.NoSum, b.check != nil && !ahead:
	case b.t.run.opts.ReadTwice, ahead:
		f := b.t.run.meter.takeOff(b.t.effect.Key, b.t.effect.Sent().Size, 0) // under way, though nothing is sent
		defer f.land()
		return b.t.fetch(func() (err error) {
			b.want, err = b.t.firstRead(ahead)
			return err
		})
	default:
		b.t.unverified.Store(true)
	}
	return nil
}

// takeUp finds the parts an earlier run left at the target. Those the ledger
// does not know of, because the run was killed before it noted them, count
// too: the target vouches for their checksums.
func (b *big) takeUp() ([]place.Part, error) {
	state := b.t.run.ledger.Upload(b.t.number)
	if state == nil {
		return nil, nil
	}
	up := place.Upload{Key: b.t.effect.Key, ID: state.ID}
	var found []place.Part
	err := b.retry(func() (err error) {
		found, err = b.t.side.writer.Parts(b.t.run.ctx, up)
		return err
	})
	if err != nil && place.KindOf(err) == place.NotFound {
		return nil, b.t.run.ledger.Abort(b.t.number) // by someone else; begin anew
	}
	if err != nil {
		return nil, err
	}
	b.up, b.partSize = up, state.PartSize
	for i, p := range found {
		if noted, ok := state.Parts[p.Number]; ok && noted.ETag == p.ETag {
			found[i] = noted // with its checksum, where the listing lacks it
		}
	}
	return found, nil
}

// errLost stands for the answer that a killed run did not live to see.
var errLost = place.NewError("", "finish", "", place.Exists, nil)

func (b *big) retry(f func() error) error { return b.t.try(func(int) error { return f() }) }

func (b *big) size(number int) int64 {
	return min(b.partSize, b.t.effect.Sent().Size-int64(number-1)*b.partSize)
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
		if err = b.t.run.ledger.Part(b.t.number, part); err != nil {
			b.t.run.cancel(err)
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
	return b.t.try(func(attempt int) error {
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
	offset, size, src := int64(number-1)*b.partSize, b.size(number), b.t.effect.Sent()
	if b.t.side.ranges != nil {
		part, err := b.t.side.ranges.CopyPart(b.t.run.ctx, b.up, number, b.t.side.from,
			object.Ref{Key: src.Key, Version: src.Version, IfMark: src.Mark()}, offset, size)
		if err == nil {
			b.f.sent.Add(size)
			b.t.run.meter.bytes.Add(size)
		}
		return part, err
	}
	content, _, err := b.t.open(b.f, place.ReadOptions{Version: src.Version, Offset: offset, Length: size,
		IfMark: src.Mark()})
	if err != nil {
		return place.Part{}, err
	}
	part, err := b.t.side.writer.WritePart(b.t.run.ctx, b.up, number, offset, content, size, object.Sum{})
	return part, content.close(err)
}

// wholeSum works out the checksum of all parts together and holds it against the
// source's own. Where they differ, parts were damaged on the way here: each is
// read again, and sent again if it comes out another.
func (b *big) wholeSum() (object.Sum, error) {
	if b.check != nil && !b.turns.checked() {
		// Read once more as a whole, which the place itself holds against what it
		// keeps: then the parts can be told by their sums.
		src := b.t.effect.Sent()
		err := b.t.fetch(func() (err error) {
			b.want, err = compare.Sum(b.t.run.ctx, b.t.side.from, src.Key, src.Mark(), object.CRC64NVME)
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
		if round == b.t.run.opts.Retry.Tries {
			return sum, place.NewError(b.t.side.from.Name(), "read", b.t.effect.Key, place.Corrupt,
				fmt.Errorf("%s came, the source keeps %s", sum, b.want))
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
	src := b.t.effect.Sent()
	r, _, err := b.t.side.from.Read(b.t.run.ctx, src.Key,
		place.ReadOptions{Version: src.Version, Offset: int64(number-1) * b.partSize, Length: b.size(number),
			IfMark: src.Mark()})
	if err != nil {
		return err
	}
	defer r.Close()
	h := object.CRC64NVME.New()
	if _, err := io.Copy(h, r); err != nil {
		return place.Wrap(b.t.side.from.Name(), "read", src.Key, err)
	}
	if object.SumOf(object.CRC64NVME, h) == b.parts[number-1].Sum {
		return nil
	}
	if b.turns != nil {
		b.turns.lose()
	}
	b.f.setPart(number, Again)
	b.t.run.meter.retries.Add(1)
	b.f.sent.Add(-b.size(number))
	b.t.run.meter.bytes.Add(-b.size(number))
	part, err := b.sendOnce(number)
	if err != nil {
		b.f.sent.Add(b.size(number))
		b.t.run.meter.bytes.Add(b.size(number))
		return err
	}
	b.parts[number-1] = part
	b.f.setPart(number, Done)
	return b.t.run.ledger.Part(b.t.number, part)
}

// again has the object sent once more from its start.
func (b *big) again(why error) {
	b.t.run.ledger.Abort(b.t.number)
	b.t.run.meter.bytes.Add(-b.here.Load())
	b.t.run.meter.retries.Add(1)
	b.t.run.resend.add(b.t, why)
}

// errJoined ends the tries to join parts that have been joined.
var errJoined = place.NewError("", "finish", "", place.Changed, errors.New("the joined object is not what was sent"))

// finish joins the parts, or drops them when the object can never be
// finished, or takes up the room that others still could use. Parts of an object that failed for a
// passing reason are left for
// the next run of the plan.
func (b *big) finish() {
	defer b.f.land()
	err := b.failed
	var whole object.Sum
	var there object.Entry
	if err == nil {
		whole, err = b.wholeSum()
	}
	var digest object.Sum
	if err == nil {
		digest, err = b.digest()
	}
	if err == nil {
		b.opts.Sum, b.opts.Digest = whole, digest
		err = b.t.try(func(attempt int) (err error) {
			if b.joined != nil {
				return errJoined
			}
			if attempt > 1 { // the answer may have been lost, not the effect
				if e, ok := b.t.arrived(errLost); ok && (whole.Kind == object.NoSum || e.Sums[0] == whole) {
					there = e
					return nil
				}
			}
			b.t.condition(&b.opts)
			there, err = b.t.side.writer.Finish(b.t.run.ctx, b.up, b.parts, b.opts)
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
	if err != nil && place.KindOf(err) == place.Corrupt && b.t.run.ctx.Err() == nil &&
		b.t.abort(b.t.side.writer, b.up) == nil {
		// The parts there are not those that were sent, or that an earlier run says it
		// has: neither side can tell which.
		b.again(err)
		return
	}
	if err != nil {
		if e, ok := b.t.arrived(err); ok && (whole.Kind == object.NoSum || e.Sums[0] == whole) {
			there, err = e, nil
			b.t.abort(b.t.side.writer, b.up) // if it is not the one that became the object
		}
	}
	if err == nil {
		err = b.t.arrives(&there)
	}
	if err == nil {
		err = b.t.beside(&there, digest)
	}
	if err == nil {
		b.t.succeeded(b.t.effect.Sent().Size, there)
		b.f.arrived()
		return
	}
	b.t.failedFor(err)
	if hopeless := []place.ErrorKind{place.Changed, place.Exists, place.NotFound, place.Corrupt, place.TooLarge,
		place.BadName, place.NoRoom}; slices.Contains(hopeless, place.KindOf(err)) && b.t.run.ctx.Err() == nil {
		if b.t.abort(b.t.side.writer, b.up) == nil {
			b.t.run.ledger.Abort(b.t.number)
		}
	}
}
