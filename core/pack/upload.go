package pack

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"

	"lumtra/core/compare"
	"lumtra/core/cut"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/room"
)

// Steps is how the requests of an [Upload] are made, and where what they did is noted, so that it can be
// taken up by another process.
type Steps interface {
	// Try does a step as often as it takes; Ask one that only looks.
	Try(step func(attempt int) error) error
	Ask(step func() error) error
	// Open opens an upload in parts, Abort drops it.
	Open(begin func() error) error
	Abort(abort func() error) error
	// Noted is what was noted of an upload that was begun and not ended, nil for none.
	Noted() *Noted
	// Began, Sent and Ended note that one was begun, that a part has arrived, and that it is over.
	Began(id string, partSize int64) error
	Sent(part place.Part) error
	Ended() error
}

// Noted is an upload that was begun before.
type Noted struct {
	ID       string
	PartSize int64
	Parts    map[int]place.Part
}

// Upload takes the bytes of a pack and sends them in parts of one size, several at a time. What an
// earlier run has sent of it is passed over, as long as the bytes are the same. A pack that fits into
// one part goes in one piece.
type Upload struct {
	ctx   context.Context
	steps Steps
	to    place.Place
	can   place.Capabilities
	key   string
	old   *Pack
	size  int64 // of a part
	opts  place.WriteOptions
	// Inside tells that the store copies most of a pack that is written anew.
	Inside bool
	// Through has what is kept of an older pack pass through here, though the store could copy it: that
	// came out wrong before.
	Through bool

	up    place.Upload
	known map[int]place.Part
	parts []place.Part
	now   *room.Room // being filled
	fill  int
	sum   object.Sum // of all there is so far, with what is kept of an older pack
	sent  int64      // bytes of the object so far, likewise

	// Beside is how many other packs are sent at the same time, with which it shares the memory.
	Beside int

	slots chan struct{} // one for each part under way
	all   sync.WaitGroup

	mu     sync.Mutex
	failed error
	// unverified tells that nothing vouched for what was sent.
	unverified bool
}

// ErrOtherBytes means that what is packed now is not what was sent before, or that what was sent is not
// what is there: the pack is begun anew.
var ErrOtherBytes = errors.New("the pack comes out differently than when it was begun")

// Open tells whether an upload is open in parts; Unverified that nothing vouched for what was sent.
func (s *Upload) Open() bool { return s.up.ID != "" }

// Unverified see [Upload.Open].
func (s *Upload) Unverified() bool { return s.unverified }

// The most memory that parts of a pack take, in bytes, and how many are sent at once where it
// allows.
const (
	packRoom  = 160 << 20
	packSends = 6
)

// NewUpload is how a pack gets to a name at a place. What lands beside its content is what opts say,
// but for the condition.
func NewUpload(ctx context.Context, to place.Place, key string, steps Steps, opts place.WriteOptions) *Upload {
	opts.ContentType = "application/x-tar"
	return &Upload{ctx: ctx, steps: steps, to: to, can: place.Can(to), key: key, opts: opts}
}

// Begin readies the parts, or finds those that an earlier run has sent; old is the pack that is there,
// nil for none, whose members are kept unless anew. sizes say how large parts are to be, and most how
// large the pack may become, in bytes, beside what is kept.
func (s *Upload) Begin(old *Pack, anew bool, sizes cut.Sizes, most int64) error {
	s.opts.Condition = place.IfAbsent
	var kept int64
	if old != nil {
		s.opts.Condition, s.opts.Mark = place.IfStill, old.At().Mark()
		kept = old.At().Size
	}
	if !anew {
		s.old = old
	}
	if anew && !s.Inside || s.Through { // then all of it comes from here
		most, kept = most+kept, 0
	}
	var err error
	if s.size, err = PartSize(s.can, sizes, kept, most); err != nil {
		return place.NewError(s.to.Name(), "write", s.key, place.TooLarge, err)
	}
	s.slots = make(chan struct{}, max(1, min(packSends, packRoom/int64(s.Beside+1)/s.size-1)))
	s.sum = crcOf(nil)
	if err := s.takeUp(); err != nil {
		return err
	}
	if s.old != nil {
		return s.keep()
	}
	return nil
}

// PartSize is how large the parts are in which at most so many bytes come into a pack that has kept already. An
// error tells that it is too large.
func PartSize(can place.Capabilities, sizes cut.Sizes, kept, most int64) (int64, error) {
	most += most / 64 // what does not compress grows by its frames
	if limit := can.MaxObject; limit > 0 && kept+most > limit {
		return 0, fmt.Errorf("the pack may become %d bytes, and an object here may have %d: make several packs of it",
			kept+most, limit)
	}
	size := sizes.Of(kept + most)
	if kept > 0 && copiesKept(can) {
		size = sizes.Of(most + most/(keptShare-1)) // the store copies what is kept, into some of the parts
	}
	if size > packRoom/2 {
		return 0, fmt.Errorf("its parts would have %d bytes, and each waits in memory: make several packs of it", size)
	}
	return size, nil
}

// keptShare is the part of an upload's numbers that is left for what is kept: one in so many.
const keptShare = 5

// copiesKept tells whether a store copies what a pack has already.
func copiesKept(can place.Capabilities) bool { return can.Ranges != nil && can.Ranges.CanCopyParts() }

// Round is how many bytes come into a pack in one go, so that parts are no larger than there is memory for: what
// is more comes in further rounds, as additions, where the store copies what is there. 0 is for any number, and
// for a store that does not.
func Round(can place.Capabilities) int64 {
	if !copiesKept(can) || can.MaxParts == 0 {
		return 0
	}
	parts := int64(can.MaxParts - can.MaxParts/keptShare)
	return packRoom / 2 / 64 * 62 * parts // frames of what does not compress grow
}

// Together is how many packs with parts of a size are sent at a time, at most so many: each has one part being
// filled and one under way at the least.
func Together(part int64, most int) int { return max(1, min(most, int(packRoom/(2*part)))) }

// takeUp finds what an earlier run has sent.
func (s *Upload) takeUp() error {
	state := s.steps.Noted()
	if state == nil || s.can.Parts == nil {
		return nil
	}
	up := place.Upload{Key: s.key, ID: state.ID}
	var found []place.Part
	err := s.steps.Ask(func() (err error) {
		found, err = s.can.Parts.Parts(s.ctx, up)
		return err
	})
	if err != nil && place.KindOf(err) == place.NotFound {
		// It was finished, or given up by somebody else: the pack itself tells.
		return s.steps.Ended()
	}
	if err != nil {
		return err
	}
	s.up, s.size, s.known = up, state.PartSize, map[int]place.Part{}
	for _, p := range found {
		if noted, ok := state.Parts[p.Number]; ok && noted.ETag == p.ETag {
			p = noted
		}
		if p.Sum.Kind == object.CRC64NVME {
			s.known[p.Number] = p
		}
	}
	return nil
}

// keep puts what stays of an older pack before what is added.
func (s *Upload) keep() error {
	from, ref := s.to, object.Ref{Key: s.key, IfMark: s.old.At().Mark()}
	kept, can := s.old.Kept(), s.can
	if c := can.Ranges; !s.Through && c != nil && c.CanCopyParts() && c.CanCopyFrom(from) && kept > 0 &&
		kept >= can.MinPart {
		return s.copyKept(c, ref, kept)
	}
	if kept == 0 {
		return nil
	}
	return s.readKept(ref, kept)
}

// readKept reads what is kept, a piece at a time, and has it sent like the rest. Pieces come without
// anything that vouches for them: all are held against what the pack says of itself, and where that
// differs it is begun anew.
func (s *Upload) readKept(ref object.Ref, kept int64) error {
	from, h := s.to, object.CRC64NVME.New()
	held := room.New(min(kept, s.size))
	defer held.Release()
	for at := int64(0); at < kept; {
		data := held.Data[:min(int64(len(held.Data)), kept-at)]
		err := s.steps.Ask(func() error {
			r, _, err := from.Read(s.ctx, s.key, place.ReadOptions{Offset: at, Length: int64(len(data)),
				IfMark: ref.IfMark})
			if err != nil {
				return err
			}
			defer r.Close()
			_, err = io.ReadFull(r, data)
			return place.Wrap(from.Name(), "read", s.key, err)
		})
		if err != nil {
			return err
		}
		h.Write(data)
		if _, err := s.Write(data); err != nil {
			return err
		}
		at += int64(len(data))
	}
	if got := object.SumOf(object.CRC64NVME, h); got != s.old.Sum() {
		return place.NewError(from.Name(), "read", s.key, place.Corrupt, fmt.Errorf(
			"what is kept of the pack has %s, and was written with %s: %w", got, s.old.Sum(), ErrOtherBytes))
	}
	return nil
}

// keptPiece is how much of an older pack the store copies by one request, in bytes, unless that were too many.
var keptPiece int64 = 512 << 20

// keptPieces is by how many requests the store copies what is kept.
func keptPieces(can place.Capabilities, kept int64) int64 {
	pieces := (kept + keptPiece - 1) / keptPiece
	if can.MaxParts > 0 {
		pieces = min(pieces, max(1, int64(can.MaxParts/keptShare)-1))
	}
	return pieces
}

// copyKept has the store copy what is kept.
func (s *Upload) copyKept(c place.PartCopier, ref object.Ref, kept int64) error {
	if err := s.openUpload(); err != nil {
		return err
	}
	pieces := keptPieces(s.can, kept)
	for i := range pieces {
		from, to := kept*i/pieces, kept*(i+1)/pieces
		var part place.Part
		err := s.steps.Try(func(int) (err error) {
			part, err = c.CopyPart(s.ctx, s.up, len(s.parts)+1, s.to, ref, from, to-from)
			return err
		})
		if err != nil && !passing(err) && place.KindOf(err) != place.Cancelled && place.KindOf(err) != place.Changed {
			// There are stores that copy ranges, but not into such an upload.
			return fmt.Errorf("%w: %w", err, ErrOtherBytes)
		}
		if err != nil {
			return err
		}
		s.parts = append(s.parts, part)
	}
	s.sum, s.sent = s.old.Sum(), kept
	return nil
}

// waiting is how many bytes were written and are not on their way as a part yet.
func (s *Upload) waiting() int64 {
	if s.now == nil {
		return 0
	}
	return int64(s.fill)
}

// Copy has the store make what comes next of a range of an older pack, which must not be short, and gives the
// checksum that the store tells of it. What was written before goes as a part, which must not be short either.
func (s *Upload) Copy(ref object.Ref, from, size int64) (object.Sum, error) {
	if s.waiting() > 0 {
		if err := s.part(); err != nil {
			return object.Sum{}, err
		}
	}
	s.mu.Lock()
	s.parts = append(s.parts, place.Part{})
	number := len(s.parts)
	s.mu.Unlock()
	part, err := s.copyPart(number, ref, from, size)
	if err != nil {
		return object.Sum{}, err
	}
	s.mu.Lock()
	s.parts[number-1] = part
	s.mu.Unlock()
	s.sum, s.sent = object.CombineCRC64(s.sum, part.Sum, size), s.sent+size
	return part.Sum, nil
}

// Aside has the store copy a range into a part that is never joined, for the checksum it tells: the n-th of
// such, counted from 1. Their numbers come from the end, where no others are.
func (s *Upload) Aside(n int, ref object.Ref, from, size int64) (object.Sum, error) {
	part, err := s.copyPart(s.can.MaxParts+1-n, ref, from, size)
	return part.Sum, err
}

func (s *Upload) copyPart(number int, ref object.Ref, from, size int64) (part place.Part, err error) {
	if err := s.openUpload(); err != nil {
		return part, err
	}
	err = s.steps.Try(func(int) (err error) {
		part, err = s.can.Ranges.CopyPart(s.ctx, s.up, number, s.to, ref, from, size)
		return err
	})
	switch {
	case err != nil && !passing(err) && place.KindOf(err) != place.Cancelled && place.KindOf(err) != place.Changed:
		return part, fmt.Errorf("%w: %w", err, errThrough) // some stores copy no ranges into such an upload
	case err == nil && part.Sum.Kind != object.CRC64NVME:
		return part, fmt.Errorf("the store does not tell the checksum of what it copies: %w", errThrough)
	}
	return part, err
}

// openUpload opens the upload, where that was not done.
func (s *Upload) openUpload() error {
	if s.up.ID != "" {
		return nil
	}
	if s.can.Parts == nil {
		return place.NewError(s.to.Name(), "write", s.key, place.Unsupported,
			errors.New("a pack of this size goes in parts, which this place does not take"))
	}
	err := s.steps.Open(func() (err error) {
		opts := s.opts
		opts.PartSize = int64(s.size)
		s.up, err = s.can.Parts.Begin(s.ctx, s.key, opts)
		return err
	})
	if err == nil {
		err = s.steps.Began(s.up.ID, s.size)
	}
	return err
}

// Write takes bytes of the pack.
func (s *Upload) Write(p []byte) (n int, err error) {
	for n < len(p) {
		if s.now == nil {
			s.now, s.fill = room.New(s.size), 0
		}
		k := copy(s.now.Data[s.fill:], p[n:])
		n, s.fill = n+k, s.fill+k
		if s.fill == len(s.now.Data) {
			if err := s.part(); err != nil {
				return n, err
			}
		}
	}
	return n, nil
}

// part sends what was filled, on a goroutine of its own, once there is room for another.
func (s *Upload) part() error {
	held := s.now
	s.now = nil
	held.Data = held.Data[:s.fill]
	sum, size, offset := crcOf(held.Data), int64(len(held.Data)), s.sent
	s.sum, s.sent = object.CombineCRC64(s.sum, sum, size), s.sent+size
	s.mu.Lock()
	s.parts = append(s.parts, place.Part{})
	number := len(s.parts)
	s.mu.Unlock()
	if was, ok := s.known[number]; ok {
		held.Release()
		if was.Sum != sum || was.Size != size {
			return ErrOtherBytes
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		s.parts[number-1] = was
		return s.failed
	}
	err := s.openUpload()
	if err == nil {
		err = s.slot()
	}
	if err != nil {
		held.Release()
		return err
	}
	s.all.Go(func() {
		defer func() { held.Release(); <-s.slots }()
		s.send(held, number, offset, sum)
	})
	return nil
}

// slot waits until another part may be under way.
func (s *Upload) slot() error {
	select {
	case s.slots <- struct{}{}:
	case <-s.ctx.Done():
		return s.ctx.Err()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.failed != nil {
		<-s.slots
	}
	return s.failed
}

// send sends one part, as often as it takes.
func (s *Upload) send(held *room.Room, number int, offset int64, sum object.Sum) {
	var part place.Part
	err := s.steps.Try(func(int) (err error) {
		part, err = s.can.Parts.WritePart(s.ctx, s.up, number, offset, held.Reader(), int64(len(held.Data)), sum)
		return err
	})
	if err == nil {
		err = s.steps.Sent(part)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.parts[number-1] = part
	if s.failed == nil {
		s.failed = err
	}
}

// Finish sends what is left and has the pack be there.
func (s *Upload) Finish() error {
	if s.up.ID == "" && len(s.parts) == 0 {
		return s.whole()
	}
	if s.waiting() > 0 {
		if err := s.part(); err != nil {
			s.Stop()
			return err
		}
	}
	s.Stop()
	if s.failed != nil {
		return s.failed
	}
	s.opts.Sum = s.sum
	var there object.Entry
	err := s.steps.Try(func(attempt int) (err error) {
		if attempt > 1 && s.there() {
			return nil
		}
		there, err = s.can.Parts.Finish(s.ctx, s.up, s.parts, s.opts)
		return err
	})
	if err != nil && s.there() { // an answer was lost, not the effect
		err = nil
	}
	s.unverified = there.Unverified
	if err == nil { // nothing is open any more
		s.up = place.Upload{}
		return s.steps.Ended()
	}
	if place.KindOf(err) == place.Corrupt { // the parts there are not those named: neither side can tell which
		return fmt.Errorf("%w: %w", err, ErrOtherBytes)
	}
	if place.KindOf(err) != place.Cancelled && !passing(err) {
		return errors.Join(err, s.GiveUp())
	}
	return err
}

// passing tells that another run may finish what this one could not.
func passing(err error) bool {
	switch place.KindOf(err) {
	case place.Unreachable, place.Throttled, place.ServerFault, place.BadLogin, place.Denied:
		return true
	}
	return false
}

// whole sends a small pack in one piece.
func (s *Upload) whole() error {
	held := s.now
	s.now = nil
	held.Data = held.Data[:s.fill]
	defer held.Release()
	s.opts.Sum = crcOf(held.Data)
	s.sum, s.sent = s.opts.Sum, int64(len(held.Data))
	var there object.Entry
	err := s.steps.Try(func(attempt int) (err error) {
		if attempt > 1 && s.there() {
			return nil
		}
		there, err = s.to.Write(s.ctx, s.key, held.Reader(), int64(len(held.Data)), s.opts)
		var told *place.Error
		if errors.As(err, &told) && told.Left != "" { // by this write, which may go over it
			s.opts.Condition, s.opts.Mark = place.IfStill, told.Left
		}
		return err
	})
	if err != nil && s.there() {
		err = nil
	}
	s.unverified = there.Unverified
	return err
}

// there tells whether what is at the pack's name is what was sent.
func (s *Upload) there() bool {
	var got object.Sum
	err := s.steps.Ask(func() error {
		e, err := s.to.Stat(s.ctx, object.Ref{Key: s.key})
		if err != nil || e.Size != s.sent {
			return err
		}
		var ok bool
		if got, ok = e.Sum(object.CRC64NVME); !ok {
			got, err = compare.Sum(s.ctx, s.to, s.key, e.Mark(), object.CRC64NVME)
		}
		return err
	})
	return err == nil && got == s.sum
}

// Stop waits until no part is under way.
func (s *Upload) Stop() {
	if s.now != nil {
		s.now.Release()
		s.now = nil
	}
	s.all.Wait()
}

// GiveUp drops the upload.
func (s *Upload) GiveUp() error {
	s.Stop()
	if s.up.ID == "" {
		return nil
	}
	if err := s.steps.Abort(func() error { return s.can.Parts.Abort(s.ctx, s.up) }); err != nil {
		return err
	}
	s.up = place.Upload{}
	return s.steps.Ended()
}
