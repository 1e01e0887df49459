package plan

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"runtime"
	"time"

	"lumtra/core/agreed"
	"lumtra/core/catalog"
	"lumtra/core/inorder"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/rule"
	"lumtra/core/segment"
)

// Options are what the plan follows from, beside the two catalogs.
type Options struct {
	Job, Print string
	Number     int
	Rules      rule.Rules
	// Agreed are the states both sides last agreed on; nil for none known.
	Agreed *agreed.States
	// Doubts are what is in doubt at the target; nil for nothing.
	Doubts *agreed.Doubts
	// Source and Target are what the places can do.
	Source, Target place.Abilities
	// Name refuses keys the target cannot hold; nil takes all. NameBack is the
	// same for the source of a two-way job.
	Name, NameBack func(key string) error
	// SameContent compares two objects of equal size, for judging by content.
	SameContent func(ctx context.Context, source, target *object.Entry) (bool, error)
	// SameStored tells whether a source object is what the target keeps a checksum
	// of, without reading the target; false where it keeps none. Nil where a target
	// cannot be given another time: what was touched is then sent again.
	SameStored func(ctx context.Context, source, target *object.Entry) (bool, error)
	// Tags reads a source object's tags, for a selection by tags.
	Tags func(ctx context.Context, source *object.Entry) (map[string]string, error)
	// OtherFacts tells what of metadata and tags is not as the job wants it at
	// the target, "" when all is.
	OtherFacts func(ctx context.Context, source, target *object.Entry) (string, error)
	// TooMuch says of a source object what of its metadata the target does not take, "" when it takes all; nil where
	// all is taken.
	TooMuch func(ctx context.Context, source *object.Entry) (string, error)
	// ByContents has the content decide where else size and a later time alone would.
	ByContents bool
	// Resend tells that the target cannot change what lies beside an object's content: it is sent anew.
	Resend bool
	// Arrived says why a source object is left alone for now, as it has not arrived yet; "" for
	// one that has. Nil is for jobs where all have. It is called from many goroutines.
	Arrived func(source *object.Entry) string
	// Notes are what is known of the two places that a reader should know too.
	Notes []string
	// Warnings are what the job gives up of what is promised.
	Warnings []string
	// Ways are how the two places keep promises.
	Ways Ways
	// Now is the time ages are counted from; zero means the time of planning.
	Now time.Time
	// Partial, when not nil, is told now and then what has been planned so far
	// and how far that is, between 0 and 1.
	Partial func(Summary, float64)
}

// Build writes the plan to path and returns it open.
func Build(ctx context.Context, path string, source, target *catalog.Catalog, opts Options) (*Plan, error) {
	seg, err := segment.Create(path, magic)
	if err != nil {
		return nil, err
	}
	defer seg.Abandon()
	info, err := work(ctx, source, target, opts, seg)
	if err != nil {
		return nil, err
	}
	if err := seg.Finish(info); err != nil {
		return nil, fmt.Errorf("keeping the plan: %w", err)
	}
	return Open(path)
}

// Weigh works out what Build would write, without writing it. It asks no
// place: what only contents or tags can tell counts as the same and as taken.
func Weigh(ctx context.Context, source, target *catalog.Catalog, opts Options) (Info, error) {
	opts.SameContent, opts.SameStored, opts.Tags, opts.OtherFacts, opts.TooMuch = nil, nil, nil, nil, nil
	return work(ctx, source, target, opts, nil)
}

// work judges every key and writes the effects to seg, if there is one.
func work(ctx context.Context, source, target *catalog.Catalog, opts Options, seg *segment.Writer) (Info, error) {
	if opts.Now.IsZero() {
		opts.Now = time.Now()
	}
	match, err := opts.Rules.Select.Compile(opts.Now)
	if err != nil {
		return Info{}, err
	}
	w := &worker{opts: &opts, match: match, source: source, target: target, seg: seg,
		total: source.Info.Objects + target.Info.Objects,
		info: Info{Job: opts.Job, Number: opts.Number, Made: opts.Now, Rules: opts.Rules, Source: source.Info,
			Target: target.Info, Print: opts.Print, Notes: opts.Notes, Warnings: opts.Warnings, Ways: opts.Ways,
			ByContents: opts.ByContents}}
	w.info.Tallies = match.Tallies()
	if opts.Agreed != nil {
		w.info.Agreed = opts.Agreed.Info.Objects
	}
	r := &opts.Rules
	if opts.SameContent != nil && r.CompareBy == rule.ByContent || opts.Tags != nil && match.NeedsTags() ||
		opts.OtherFacts != nil && (r.As.Tags || len(r.As.Metadata) > 0) {
		err = w.asking(ctx)
	} else {
		err = w.parallel(ctx)
	}
	if err != nil {
		return Info{}, err
	}
	match.Flag(w.info.Tallies, source.Info.Objects)
	w.info.Held = opts.Rules.Safety.Hold(w.info.guarded())
	return w.info, nil
}

// guarded is what the guards look at.
func (i *Info) guarded() rule.Guarded {
	drifted, empty := i.Drifted, ""
	if i.Rules.Direction == rule.TwoWay {
		drifted = 0 // changes at the target are what the job is for
		if i.Target.Objects == 0 {
			empty = i.Target.Place
		}
	}
	return rule.Guarded{SourceName: i.Source.Place, SourceObjects: i.Source.Objects, TargetObjects: i.Target.Objects,
		Selected: i.Selected.Count,
		Removals: i.Totals[Remove].Count, SourceRemovals: i.BackRemovals, Agreed: i.Agreed, Drifted: drifted,
		EmptyTarget: empty, Leaves: i.Rules.Afterwards.Leaves()}
}

// worker is one plan being made.
type worker struct {
	opts           *Options
	match          *rule.Matcher
	source, target *catalog.Catalog
	seg            *segment.Writer
	info           Info
	done, total    int64
}

// judging makes a judge for keys from the given one on.
func (w *worker) judging() *judging {
	return &judging{opts: w.opts, match: w.match, gzips: w.opts.Rules.As.Gzips(), trash: w.opts.Rules.TrashPath + "/",
		source: w.source, target: w.target, whole: w.source.Info.Complete() && w.target.Info.Complete(),
		summary: Summary{Findings: Findings{Tallies: w.match.Tallies()}}, archive: w.archive()}
}

// archive is the prefix of what was sent and put away; "" for none.
func (w *worker) archive() string {
	if w.opts.Rules.Afterwards != rule.ArchiveSource {
		return ""
	}
	return w.opts.Rules.ArchivePath + "/"
}

// stretch is a range of keys, from the first up to but without the end; no end
// means all the rest.
type stretch struct{ from, end string }

// result is what became of a stretch.
type result struct {
	block   *segment.Block
	summary Summary
	seen    int64
	err     error
}

// parallel judges stretches of keys at once and puts them together in order.
func (w *worker) parallel(ctx context.Context) error {
	var splits []string
	if w.source.Info.Objects >= w.target.Info.Objects {
		splits = w.source.Splits()
	} else {
		splits = w.target.Splits()
	}
	next := 0
	return inorder.Map(ctx, runtime.GOMAXPROCS(0), func() (stretch, bool) {
		if next > len(splits) {
			return stretch{}, false
		}
		var s stretch
		if next > 0 {
			s.from = splits[next-1]
		}
		if next < len(splits) {
			s.end = splits[next]
		}
		next++
		return s, true
	}, w.stretch, func(r result) error {
		if r.err != nil {
			return r.err
		}
		return w.take(r)
	})
}

// take adds the next stretch to the plan.
func (w *worker) take(r result) error {
	w.info.merge(&r.summary)
	w.done += r.seen
	if w.opts.Partial != nil {
		so := w.info.Summary
		so.Tallies = append([]rule.Tally(nil), so.Tallies...)
		w.opts.Partial(so, float64(w.done)/float64(max(w.total, 1)))
	}
	if w.seg != nil {
		return w.seg.Append(r.block)
	}
	return nil
}

// stretch judges the keys of one.
func (w *worker) stretch(ctx context.Context, s stretch) (r result) {
	j := w.judging()
	if s.from != "" {
		w.above(j, s.from)
	}
	if w.seg != nil {
		if r.block, r.err = segment.NewBlock(); r.err != nil {
			return r
		}
	}
	merge := catalog.NewMerge(w.source.Cursor(s.from), w.target.Cursor(s.from))
	states, doubts := w.opts.Agreed.Cursor(s.from), w.opts.Doubts.Cursor(s.from)
	var buf []byte
	take := func(p *pair) error {
		j.summary.add(&p.Effect, &w.opts.Rules)
		if r.block == nil {
			return nil
		}
		buf = p.Effect.append(buf[:0])
		return r.block.Add(p.Key, buf)
	}
	var waits queue
	for n := 0; merge.Next(); n++ {
		if n&1023 == 0 && ctx.Err() != nil {
			r.err = ctx.Err()
			return r
		}
		key := ""
		for _, e := range []*object.Entry{merge.A, merge.B} {
			if e != nil {
				key = e.Key
				r.seen++
			}
		}
		if s.end != "" && key >= s.end {
			r.seen -= count(merge.A) + count(merge.B)
			break
		}
		j.next = next{merge.NextA(), merge.NextB(), true}
		p := j.judge(merge.A, merge.B, states.At(key), doubts.At(key))
		if !w.looksAt(&p) && len(waits.pairs) == 0 {
			r.err = take(&p)
		} else if waits.add(&p, w.looksAt(&p)); waits.full() {
			r.err = waits.flush(ctx, w, j, take)
		}
		if r.err != nil {
			return r
		}
	}
	if r.err = errors.Join(merge.Err(), states.Err(), doubts.Err()); r.err == nil {
		r.err = waits.flush(ctx, w, j, take)
	}
	r.summary = j.summary
	return r
}

func count(e *object.Entry) int64 {
	if e == nil {
		return 0
	}
	return 1
}

// above readies a judge to begin at a key: it looks whether what lies above the
// key is an object, since nothing can lie below one in a tree.
func (w *worker) above(j *judging, key string) {
	if !w.opts.Target.Tree && !w.opts.Source.Tree {
		return
	}
	for i := range key {
		if key[i] != '/' {
			continue
		}
		merge := catalog.NewMerge(w.source.Cursor(key[:i]), w.target.Cursor(key[:i]))
		if !merge.Next() {
			continue
		}
		if cmp.Or(merge.A, merge.B).Key == key[:i] {
			j.judge(merge.A, merge.B, nil, nil)
		}
	}
	j.summary = Summary{Findings: Findings{Tallies: w.match.Tallies()}}
}

// asking judges one key after the other and asks the places about several at
// a time. Only what is written is asked about, see [Weigh].
func (w *worker) asking(ctx context.Context) error {
	j := w.judging()
	merge := catalog.NewMerge(w.source.Cursor(""), w.target.Cursor(""))
	states, doubts := w.opts.Agreed.Cursor(""), w.opts.Doubts.Cursor("")
	var buf []byte
	err := inorder.Map(ctx, 4*runtime.GOMAXPROCS(0), func() (*pair, bool) {
		if !merge.Next() {
			return nil, false
		}
		// Entries of their own, since the merge overwrites its while others
		// still work on these.
		a, b := own(merge.A), own(merge.B)
		key := ""
		if a != nil {
			key = a.Key
		} else {
			key = b.Key
		}
		g := states.At(key)
		if g != nil {
			mine := *g
			g = &mine
		}
		j.next = next{merge.NextA(), merge.NextB(), true}
		p := j.judge(a, b, g, doubts.At(key))
		return &p, true
	}, func(ctx context.Context, p *pair) *pair { return w.ask(ctx, j, p) }, func(p *pair) error {
		if p.untagged {
			w.info.Selected.Count--
			w.info.Selected.Bytes -= p.Source.Size
		}
		w.info.add(&p.Effect, &w.opts.Rules)
		buf = p.Effect.append(buf[:0])
		return w.seg.Add(p.Key, buf)
	})
	if err == nil {
		err = errors.Join(merge.Err(), states.Err(), doubts.Err())
	}
	counted := j.summary // by the judge; the effects were counted here
	counted.Totals = Totals{}
	w.info.merge(&counted)
	return err
}

// ask finds out what only the places can tell. It runs on many goroutines and
// changes only the pair.
func (w *worker) ask(ctx context.Context, j *judging, p *pair) *pair {
	e := &p.Effect
	// It may be one thing or the other: nobody could tell, and the plan says so.
	unknown := func(what string, err error) {
		e.Kind, e.Reason, e.Note = Blocked, NotComparable, what+" failed: "+reason(err)
	}
	if p.askTags && w.opts.Tags != nil {
		tags, err := w.opts.Tags(ctx, e.Source)
		if err != nil {
			unknown("reading the tags", err)
			return p
		}
		if !w.match.TakesTags(tags) {
			e.Kind, e.Reason, e.Note, e.Aside, e.Back = LeftOut, NotTaken, w.match.TagRule(), "", false
			p.untagged = true
			return p
		}
	}
	if p.ask && w.opts.SameContent != nil {
		same, err := w.opts.SameContent(ctx, e.Source, e.Target)
		kind := place.KindOf(err)
		switch {
		case err != nil && p.unsure && (kind == place.Denied || kind == place.Archived || kind == place.Unsupported):
			j.differs(p, OtherState) // nobody will ever tell that it is the same
		case err != nil:
			unknown("comparing", err)
			return p
		case !same:
			j.differs(p, OtherContent)
		}
	}
	if p.touched && e.Kind == Change {
		w.look(ctx, p)
	}
	if e.Kind.Moves() && !e.Back && w.opts.TooMuch != nil {
		what, err := w.opts.TooMuch(ctx, e.Source)
		if err != nil {
			unknown("looking at the metadata", err)
		} else if what != "" {
			e.Kind, e.Reason, e.Note, e.Aside = Blocked, MetaTooLarge, what, ""
		}
	}
	if p.askFacts && e.Kind == Same && w.opts.OtherFacts != nil {
		what, err := w.opts.OtherFacts(ctx, e.Source, e.Target)
		if err != nil {
			unknown("comparing metadata", err)
		} else if what != "" {
			j.beside(e, OtherAttributes, "same content, "+what)
		}
	}
	return p
}
