package transfer

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"lumtra/core/compare"
	"lumtra/core/cut"
	"lumtra/core/ledger"
	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/retry"
	"lumtra/core/rule"
)

// DefaultStreams is how many requests a run begins with that is left to find out how many
// help.
const DefaultStreams = 16

// Options steer a run. Zero values mean the defaults.
type Options struct {
	// Streams is how many requests are under way at a time; 0 leaves it to the
	// run to find out how many help. Control can change it.
	Streams int
	// PartSize is the wanted size in bytes of the parts of big objects, 0 for what suits the
	// target; see [cut.For].
	PartSize int64
	// Retry is the patience with each request.
	Retry retry.Policy
	// Proof is how closely a copy is looked at before its source is let go, where
	// the job does that; "" is [compare.ByStoredSum].
	Proof compare.Method
	// PackRound is how many bytes come into one pack in one go; 0 for as many as its parts can
	// hold: see [pack.Round].
	PackRound int64
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
	// Dir is where what a run keeps on this machine while it is under way lies: the index of a pack, never
	// content. "" is the usual place for temporary files.
	Dir string
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
	// SeenTo counts the sources that something became of in this run.
	SeenTo int64
	// Stopped tells that it was stopped before its end.
	Stopped bool
}

// Run carries out the plan, going on where the ledger says an earlier run of
// it stopped. It returns when all its work has ended, also when ctx ends
// first. Objects that fail are filed with the meter and do not stop the
// others; the error is for what makes going on senseless, such as a ledger
// that cannot be written.
func Run(ctx context.Context, p *plan.Plan, source, target place.Place, ledger ledger.Ledger, meter *Meter,
	opts Options) (Outcome, error) {
	opts.complete()
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	r := &run{ctx: ctx, cancel: cancel, ledger: ledger, meter: meter, opts: opts, control: opts.Control,
		held: -1}
	r.streams = newStreams(r.control, func(err error) { cancel(err) })
	r.sides = [2]side{newSide(source, target, &opts), newSide(target, source, &opts)}
	r.rules = &p.Info.Rules
	if place.Can(target).Encodings {
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
	out := Outcome{Objects: after - before, Bytes: afterBytes - beforeBytes, Before: before,
		Failed: meter.failed.Load(), Unverified: meter.unverified.Load(), SeenTo: meter.seenTo.Load()}
	if fatal := context.Cause(ctx); fatal != nil && !errors.Is(fatal, context.Canceled) &&
		!errors.Is(fatal, context.DeadlineExceeded) {
		err = fatal
	} else if ctx.Err() != nil || r.control.Steering().Finishing {
		out.Stopped, err = true, nil
	}
	return out, err
}

// complete fills in what was left out.
func (o *Options) complete() {
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
	ledger ledger.Ledger
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
	skipped atomic.Int64
	// held is how many effects had failed or were left out when removals were to begin, -1 before that.
	held int64
	// strays are effects whose uploads may have been opened without an answer,
	// each with its strayKey.
	strays sync.Map
	begun  begun
	// resend are the effects whose big objects are to be sent once more, from their
	// start, with the mark of what they have left at the target.
	resend resend
	// limited tells that a pacer held something back since it was last asked.
	limited atomic.Bool
	// lanes feed the objects that are digested.
	lanes lanes
	// packs is which effects go into which pack, where the target is the inside of several.
	packs *division
	// pending counts the tasks handed out and not ended.
	pending sync.WaitGroup
}

// side is one direction of a run.
type side struct {
	from, to place.Place
	// gives and takes are what can be done at the two.
	gives, takes *place.Resolved
	writer       place.PartWriter   // nil: objects go in one piece
	copier       place.ServerCopier // nil: the content passes through here
	ranges       place.PartCopier   // not nil: it is copied in parts
	cut          cut.Sizes          // how objects are cut for to
}

func newSide(from, to place.Place, opts *Options) side {
	takes := place.Resolve(to)
	can := takes.Can()
	return side{from: from, to: to, gives: place.Resolve(from), takes: takes, writer: can.Parts,
		copier: can.CopierFrom(from), cut: cut.For(opts.PartSize, can.Abilities, opts.Digest != object.NoSum)}
}

// feed hands the plan's effects to the streams in order, one at a time, so
// that nothing piles up however long the plan is. Removals come when all else
// has arrived: what was renamed at the source is there under its new name
// before the old one goes.
func (r *run) feed(p *plan.Plan) error {
	if in := pack.Of(r.sides[0].to); in != nil {
		return r.feedPack(p, in)
	}
	if set := pack.SetOf(r.sides[0].to); set != nil {
		return r.feedSet(p, set)
	}
	removals, err := r.pass(p, r.opts.Only)
	if err == nil {
		err = r.resends(func(only func(int64) bool) error { _, err := r.pass(p, only); return err })
	}
	for err == nil && !r.ended() {
		var failed map[int64]bool
		if failed, err = r.again(); err != nil || failed == nil {
			break
		}
		_, err = r.pass(p, func(effect int64) bool { return failed[effect] })
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

// feedPack is feed for a plan whose target is the inside of a pack.
func (r *run) feedPack(p *plan.Plan, in *pack.Place) error {
	all := &share{in: in, every: true}
	err, more := r.rounds(p, all), false
	for err == nil && !r.ended() {
		var failed map[int64]bool
		if failed, err = r.again(); err != nil || failed == nil {
			break
		}
		err, more = r.pack(p, all, func(effect int64) bool { return failed[effect] }, adding), true
	}
	if more && err == nil && !r.ended() { // what waited for what failed
		err = r.pack(p, all, r.opts.Only, removing)
	}
	if err != nil || r.ended() {
		return err
	}
	return r.afterwards(p)
}

// again tells which effects a person wants tried again meanwhile; nil for none.
func (r *run) again() (map[int64]bool, error) {
	causes := r.control.takeAgain()
	if len(causes) == 0 {
		return nil, nil
	}
	r.held = -1
	return r.forgive(causes)
}

// heldBack counts what has removals wait: what had failed or was left out when they were to begin.
func (r *run) heldBack() int64 {
	if r.held < 0 {
		r.held = r.meter.failed.Load() + r.skipped.Load()
	}
	return r.held
}

// forgive takes failures of some causes back and tells which effects they are.
func (r *run) forgive(causes []string) (map[int64]bool, error) {
	failed := map[int64]bool{}
	for _, cause := range causes {
		all, err := r.ledger.Failures(cause, 0)
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
				r.meter.problem(number, e.Key, "blocked: "+e.Reason.Blocks(), "see the plan for each one's reason",
					e.Why())
			}
			continue
		}
		removals = removals || e.Kind == plan.Remove
		if !e.Kind.Acts() || e.Kind == plan.Remove || !r.loose(number) {
			continue
		}
		if _, ok := r.ledger.Stray(number); ok && first {
			r.transfer(number, e).strayed()
		}
		if r.ledger.Done(number) {
			continue
		}
		if only != nil && !only(number) {
			if first {
				r.skipped.Add(1)
			}
			continue
		}
		if err := r.taken(number); err != nil {
			r.transfer(number, e).failedFor(err)
			continue
		}
		r.sending(r.transfer(number, e)).feed()
	}
	r.lanes.all.Wait()
	r.pending.Wait()
	return removals, c.Err()
}

// ended tells that nothing more is to be begun.
func (r *run) ended() bool { return r.ctx.Err() != nil || r.control.Steering().Finishing }
