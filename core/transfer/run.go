package transfer

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"mime"
	"path"
	"sync"
	"sync/atomic"
	"time"

	"lumtra/core/compare"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/retry"
	"lumtra/core/rule"
)

// Defaults of [Options].
const (
	DefaultStreams  = 16
	DefaultPartSize = 8 << 20
)

// Options steer a run. Zero values mean the defaults.
type Options struct {
	// Streams is how many requests are under way at a time; 0 leaves it to the
	// run to find out how many help. Control can change it.
	Streams int
	// PartSize is the wanted size in bytes of the parts of big objects; it
	// grows where the target's limits ask for it.
	PartSize int64
	// Retry is the patience with each request.
	Retry retry.Policy
	// Proof is how closely a copy is looked at before its source is let go, where
	// the job does that; "" is [compare.ByStoredSum].
	Proof compare.Method
	// Digest is computed of the content as it passes, and kept beside the object
	// where the target can; NoSum for none. Objects that the store copies within
	// itself pass nobody and have none.
	Digest object.SumKind
	// Patience is how long to wait for a store from which nothing comes through
	// any more.
	Patience time.Duration
	// Only, when not nil, chooses the effects that are tried, of those that are
	// not done. Removals wait for another run when it leaves any out.
	Only func(effect int64) bool
	// ReadTwice has what the source keeps nothing to hold against read twice before
	// it counts as what is there.
	ReadTwice bool
	// Verified takes objects for failed of which nothing could tell whether they
	// came or arrived whole. They are counted either way.
	Verified bool
	// Control steers the run; nil when nobody does.
	Control *Control
	// Pacers are asked before any content moves.
	Pacers []Pacer
}

// Pacer holds the content of a run to a speed; see [pace.Share].
type Pacer interface {
	// Most is how many bytes to ask for at a time, at most.
	Most() int
	// Take waits until n bytes may move and tells how long that took.
	Take(ctx context.Context, n int) (time.Duration, error)
}

// Outcome is how a run ended.
type Outcome struct {
	// Objects and Bytes are what this run finished; Before is what earlier
	// runs of the same plan had.
	Objects, Bytes int64
	Before         int64
	Failed         int64
	// Unverified counts the objects that this run finished without anything to hold
	// their content against, at the source or at the target.
	Unverified int64
	// Settled counts the sources that something became of in this run.
	Settled int64
	// Stopped tells that it was stopped before its end.
	Stopped bool
}

// Run carries out the plan, going on where the ledger says an earlier run of
// it stopped. It returns when all its work has ended, also when ctx ends
// first. Objects that fail are filed with the meter and do not stop the
// others; the error is for what makes going on senseless, such as a ledger
// that cannot be written.
func Run(ctx context.Context, p *plan.Plan, source, target place.Place, ledger *Ledger, meter *Meter, opts Options) (Outcome, error) {
	opts.complete(source, target)
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	r := &run{ctx: ctx, cancel: cancel, ledger: ledger, meter: meter, opts: opts, control: opts.Control}
	r.streams = newStreams(r.control, func(err error) { cancel(err) })
	r.sides = [2]side{newSide(source, target), newSide(target, source)}
	r.rules = &p.Info.Rules
	if target.Abilities().Encodings {
		r.gzips = r.rules.As.Gzips()
	}
	before, beforeBytes := ledger.Finished()
	r.control.begin(opts.Streams)
	meter.start(r.control)
	over := make(chan struct{})
	var watch sync.WaitGroup
	watch.Go(func() { meter.watch(over) })
	watch.Go(func() { r.tune(over) })
	r.streams.run()
	err := r.feed(p)
	r.pending.Wait()
	if r.ctx.Err() == nil {
		r.dropStrays()
	}
	r.streams.close()
	close(over)
	watch.Wait()
	after, afterBytes := ledger.Finished()
	out := Outcome{Objects: after - before, Bytes: afterBytes - beforeBytes, Before: before, Failed: meter.failed.Load(), Unverified: meter.unverified.Load(), Settled: meter.settled.Load()}
	if fatal := context.Cause(ctx); fatal != nil && !errors.Is(fatal, context.Canceled) && !errors.Is(fatal, context.DeadlineExceeded) {
		err = fatal
	} else if ctx.Err() != nil || r.control.Steering().Finishing {
		out.Stopped, err = true, nil
	}
	return out, err
}

// complete fills in what was left out.
func (o *Options) complete(source, target place.Place) {
	if o.PartSize <= 0 {
		o.PartSize = cmp.Or(target.Abilities().GoodPart, DefaultPartSize)
		if o.Digest != object.NoSum { // they wait in memory for their turn
			o.PartSize = min(o.PartSize, DefaultPartSize)
		}
	}
	if o.Retry.Tries == 0 {
		o.Retry = retry.Usual
	}
	if o.Proof == "" || o.Proof == compare.BySize { // sizes prove nothing
		o.Proof = compare.ByStoredSum
	}
	if o.Patience == 0 {
		o.Patience = DefaultPatience
	}
	if o.Control == nil {
		o.Control = &Control{}
	}
}

// run is one run under way.
type run struct {
	ctx    context.Context
	cancel context.CancelCauseFunc
	sides  [2]side // to the target, and back to the source
	rules  *rule.Rules
	gzips  func(key string) bool // compressed on the way; nil for none
	ledger *Ledger
	meter  *Meter
	opts   Options
	// control and streams say how much is done at a time; outage whether
	// anything comes through; budget how many attempts may follow a failed one.
	control *Control
	streams *streams
	outage  outage
	budget  budget
	// passes counts the walks through the plan, skipped the effects that the first
	// left out because nobody asked for them.
	passes  int
	skipped int64
	// strays are effects whose uploads may have been opened without an answer,
	// each with its strayKey.
	strays sync.Map
	// resend are the effects whose big objects are to be sent once more, from their
	// start, with the mark of what they have left at the target.
	resend resend
	// limited tells that a pacer held something back since it was last asked.
	limited atomic.Bool
	// lanes feed the objects that are digested.
	lanes lanes
	// pending counts the tasks handed out and not ended.
	pending sync.WaitGroup
}

// side is one direction of a run.
type side struct {
	from, to place.Place
	writer   place.PartWriter   // nil: objects go in one piece
	copier   place.ServerCopier // nil: the content passes through here
	ranges   place.PartCopier   // not nil: it is copied in parts
}

func newSide(from, to place.Place) side {
	s := side{from: from, to: to}
	if w, ok := to.(place.PartWriter); ok && !place.KnownOf(to).Lacks(place.InParts) {
		s.writer = w
	}
	if c, ok := to.(place.ServerCopier); ok && c.CanCopyFrom(from) {
		s.copier = c
	}
	return s
}

// feed hands the plan's effects to the streams in order, one at a time, so
// that nothing piles up however long the plan is. Removals come when all else
// has arrived: what was renamed at the source is there under its new name
// before the old one goes.
func (r *run) feed(p *plan.Plan) error {
	removals, err := r.pass(p, r.opts.Only)
	if err == nil {
		err = r.resends(func(only func(int64) bool) error { _, err := r.pass(p, only); return err })
	}
	for err == nil && !r.ended() { // what a person wants tried again meanwhile
		r.pending.Wait()
		causes := r.control.takeAgain()
		if len(causes) == 0 {
			break
		}
		var failed map[int64]bool
		if failed, err = r.forgive(causes); err == nil {
			_, err = r.pass(p, func(effect int64) bool { return failed[effect] })
		}
	}
	if err != nil || r.ended() {
		return err
	}
	if removals {
		if err := r.ownNames(p); err != nil || r.ended() {
			return err
		}
		if err := r.removals(p); err != nil {
			return err
		}
		r.pending.Wait()
	}
	return r.afterwards(p)
}

// forgive takes failures of some causes back and tells which effects they are.
func (r *run) forgive(causes []string) (map[int64]bool, error) {
	failed := map[int64]bool{}
	for _, cause := range causes {
		all, err := Failures(r.ledger.path, cause, 0)
		if err != nil {
			return nil, err
		}
		for _, f := range all {
			failed[f.Effect] = true
		}
		if len(all) > 0 {
			r.meter.forgive(cause)
		}
	}
	return failed, nil
}

// pass hands out what there is to send, or what only names of it, and tells
// whether the plan removes anything.
func (r *run) pass(p *plan.Plan, only func(effect int64) bool) (removals bool, err error) {
	c, first := p.Effects(""), r.passes == 0
	r.passes++
	for number := int64(0); c.Next() && !r.ended(); number++ {
		e := *c.Effect()
		if e.Missing() { // a run that leaves content out is not clean
			if first {
				r.meter.problem(number, e.Key, "blocked: "+e.Reason.Blocks(), "see the plan for each one's reason", e.Why())
			}
			continue
		}
		removals = removals || e.Kind == plan.Remove
		if !e.Kind.Moves() && e.Kind != plan.Meta {
			continue
		}
		if _, ok := r.ledger.stray(number); ok && first {
			r.transfer(number, e).strayed()
		}
		if r.ledger.isDone(number) {
			continue
		}
		if only != nil && !only(number) {
			if first {
				r.skipped++
			}
			continue
		}
		r.begin(number, e)
	}
	r.lanes.all.Wait()
	r.pending.Wait()
	return removals, c.Err()
}

// begin hands one effect that is no removal to the streams.
func (r *run) begin(number int64, e plan.Effect) {
	t := r.transfer(number, e)
	if e.Kind == plan.Meta {
		r.hand(t.facts)
		return
	}
	if most := t.to.Abilities().MaxCopy; t.copier != nil && most > 0 && e.Sent().Size > most {
		// Too large to copy in one request: range by range, or through here.
		if c, ok := t.copier.(place.PartCopier); ok && c.CanCopyParts() {
			t.ranges = c
		}
		t.copier = nil
	}
	if r.gzips != nil && !e.Back && r.gzips(e.Key) {
		r.hand(t.gzipped)
		return
	}
	size, most := e.Sent().Size, r.wholeAtMost()
	if limit := t.to.Abilities().MaxWhole; limit > 0 {
		most = min(most, limit)
	}
	big := t.copier == nil && size > most || t.ranges != nil || r.ledger.upload(number) != nil
	switch {
	case t.writer != nil && big && (t.digests() || t.checks()):
		r.lanes.feed(r, t.feedParts)
	case t.writer != nil && big:
		t.feedParts()
	default:
		r.hand(t.whole)
	}
}

// checks tells that the source keeps something for the whole object that its parts
// have to be held against in their order.
func (t *transfer) checks() bool {
	a := t.from.Abilities()
	return a.KeepsMetadata && a.StoredSums != object.CRC64NVME && t.ranges == nil
}

// transfer is an effect to be carried out.
func (r *run) transfer(number int64, e plan.Effect) *transfer {
	t := &transfer{run: r, side: r.sides[0], number: number, effect: e, left: r.resend.leftBy(number)}
	if e.Back {
		t.side = r.sides[1]
	}
	return t
}

// hand waits for a free stream. It returns false when the run is over or about
// to be: then the task is not done.
func (r *run) hand(task func()) bool {
	r.pending.Add(1)
	select {
	case r.streams.tasks <- func() { defer r.pending.Done(); task() }:
		return true
	case <-r.ctx.Done():
	case <-r.control.finished():
	}
	r.pending.Done()
	return false
}

// ended tells that nothing more is to be begun.
func (r *run) ended() bool { return r.ctx.Err() != nil || r.control.Steering().Finishing }

// transfer is one effect being carried out.
type transfer struct {
	*run
	side
	number int64
	effect plan.Effect
	// left is the mark of what a failed write of this transfer has left at the
	// target: it may be overwritten, though the plan has not seen it.
	left string
	// unverified tells that nothing vouched for the content on its way.
	unverified atomic.Bool
}

// doubts notes, before anything is written to a place that is looked at only
// afterwards, that what is there may be damaged until the effect is done.
func (t *transfer) doubts() error {
	if !t.to.Abilities().ChecksAfter {
		return nil
	}
	if err := t.ledger.doubted(t.number); err != nil {
		t.cancel(fmt.Errorf("the ledger cannot be written: %w", err))
		return err
	}
	return nil
}

// arrives is the last look at an object that was written: whether it has its name,
// and whether anything vouched for its content.
func (t *transfer) arrives(there *object.Entry) error {
	err := t.try(func(int) error { return place.ComesBack(t.ctx, t.to, t.effect.Key, false) })
	if err != nil {
		return err
	}
	if there.Unverified {
		t.unverified.Store(true)
	}
	if t.unverified.Load() && t.run.opts.Verified {
		return place.NewError(t.to.Name(), "verify", t.effect.Key, place.Unproven, errors.New("neither side keeps anything to hold its content against"))
	}
	return nil
}

// succeeded and failedFor close a transfer; they are called once. there is what
// is at the receiving side now.
func (t *transfer) succeeded(bytes int64, there object.Entry) {
	if t.unverified.Load() {
		t.meter.unverified.Add(1)
	}
	if err := t.ledger.finished(t.number, bytes, there); err != nil {
		t.cancel(fmt.Errorf("the ledger cannot be written: %w", err))
		return
	}
	t.meter.objects.Add(1)
}

func (t *transfer) failedFor(err error) {
	kind := place.KindOf(err)
	if t.ctx.Err() != nil {
		return // the run was stopped: not this object's fault
	}
	cause, detail := kind.String(), object.Display(err.Error())
	advice := kind.Advice()
	var e *place.Error
	if errors.As(err, &e) {
		cause = fmt.Sprintf("%s: %s", object.Display(e.Place), kind)
		if e.Code != "" && (kind == place.Other || kind == place.Unsupported) { // words that say nothing alone
			cause += " (" + object.Display(e.Code) + ")"
		}
		if kind == place.NotFound && e.Key == t.effect.Key {
			cause, advice = object.Display(e.Place)+": gone since the plan", place.Changed.Advice()
		}
		detail = e.Error()
	}
	t.meter.problem(t.number, t.effect.Key, cause, advice, detail)
	if t.outage.hopeless(kind) {
		t.cancel(fmt.Errorf("nothing came through from the start: %w", err))
	}
	if err := t.ledger.failed(t.number, cause, detail); err != nil {
		t.cancel(fmt.Errorf("the ledger cannot be written: %w", err))
	}
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
	opts := place.WriteOptions{Mode: uint32(facts.Mode), Masked: !t.from.Abilities().KeepsModes, ContentType: facts.ContentType, Metadata: facts.Metadata}
	opts.Original = t.effect.Sent().Modified
	if opts.ContentType == "" { // what a folder has instead of one
		opts.ContentType = mime.TypeByExtension(path.Ext(t.effect.Key))
	}
	if !t.to.Abilities().KeepsTimes && !facts.Original.IsZero() {
		// A folder gets the time the source's listing tells, or the next plan
		// would find another one; a store keeps the first of all.
		opts.Original = facts.Original
	}
	if !t.effect.Back {
		opts.Class = t.rules.As.Class
		if set := t.rules.As.Metadata; len(set) > 0 {
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
	if errors.As(err, &refused) && refused.Place == t.from.Name() && t.from.Name() != t.to.Name() {
		return object.Entry{}, false // the source said so
	}
	var there object.Entry
	err = t.ask(func() (err error) {
		there, err = t.to.Stat(t.ctx, object.Ref{Key: t.effect.Key})
		return err
	})
	if err != nil || there.Size != t.effect.Sent().Size {
		return object.Entry{}, false
	}
	sum, same := t.sameContent(&there)
	if same && sum.Kind != object.CRC64NVME { // which all that is noted is by
		src := t.effect.Sent()
		err = t.ask(func() (err error) {
			sum, err = compare.Sum(t.ctx, t.from, src.Key, src.Mark(), object.CRC64NVME)
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
