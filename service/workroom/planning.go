package workroom

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"lumtra/core/agreed"
	"lumtra/core/catalog"
	"lumtra/core/compare"
	"lumtra/core/estimate"
	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/proof"
	"lumtra/core/retry"
	"lumtra/core/rule"
	"lumtra/service/event"
	"lumtra/service/workspace"

	"github.com/dustin/go-humanize"
)

// Activity tells how far a step has come, while it goes.
type Activity struct {
	Source, Target catalog.Progress
	Compared       proof.Progress

	mu    sync.Mutex
	stage string
	began time.Time
}

// Stage is what is being done, in a few words, and since when.
func (a *Activity) Stage() (string, time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.stage, a.began
}

func (a *Activity) enter(stage string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.stage, a.began = stage, time.Now()
}

// Plan surveys both sides of a job, or takes kept surveys that are fresh enough,
// and keeps a new plan, whose number is in what it returns.
func (s *Room) Plan(ctx context.Context, name string, fresh Freshness, a *Activity) (plan.Info, error) {
	if err := s.ws.Reload(); err != nil {
		return plan.Info{}, err
	}
	j, err := s.ws.Job(name)
	if err != nil {
		return plan.Info{}, err
	}
	dir, err := s.ws.Dir.Job(name, "plans")
	if err != nil {
		return plan.Info{}, err
	}
	x, err := s.survey(ctx, j, a, fresh)
	if err != nil {
		return plan.Info{}, err
	}
	defer x.close()
	if err := s.keepPlanned(j, x, fresh.Keep); err != nil {
		s.ws.Log.Warn("what the plan knew could not be kept for a proof of its run", "job", name, "error", err)
	}
	numbers, err := plan.Numbers(dir)
	if err != nil {
		return plan.Info{}, err
	}
	number := 1
	if len(numbers) > 0 {
		number = numbers[len(numbers)-1] + 1
	}
	a.enter("working out the plan")
	p, err := s.build(ctx, j, x, dir, number, fresh.Contents)
	if err != nil && s.setAside(name, err) {
		p, err = s.build(ctx, j, x, dir, number, fresh.Contents)
	}
	if err != nil {
		return plan.Info{}, err
	}
	defer p.Close()
	s.ws.Events.Publish(event.Event{Kind: event.PlanMade, Job: name, Number: number})
	s.ws.Log.Info("planned", "job", name, "plan", number, "totals", p.Info.Totals.Map())
	return p.Info, nil
}

// build makes the plan of two surveys, in the folder dir.
func (s *Room) build(ctx context.Context, j *job.Job, x *sides, dir string, number int, contents bool) (*plan.Plan,
	error) {
	opts, known, err := s.planOptions(ctx, j, x)
	if err != nil {
		return nil, err
	}
	defer known.Close()
	opts.Number, opts.ByContents = number, contents
	return plan.Build(ctx, filepath.Join(dir, plan.FileName(number)), x.from, x.to, opts)
}

// planOptions are what a job's plan follows from. The caller closes what is known.
func (s *Room) planOptions(ctx context.Context, j *job.Job, x *sides) (_ plan.Options, known *agreed.Memory,
	_ error) {
	known, err := s.memory(ctx, j.Name, x)
	if err != nil {
		return plan.Options{}, nil, err
	}
	opts := plan.Options{Now: s.ws.Now(), Job: j.Name, Print: j.Print(), Rules: j.Rules, Agreed: known.States,
		Doubts: known.Doubts,
		Source: s.ws.Found(j.Source, x.source), Target: s.ws.Found(j.Target, x.target),
		Notes: append(s.ws.PlanNotes(j), x.notes...), Ways: promises(x),
		SameContent: func(ctx context.Context, a, b *object.Entry) (bool, error) {
			var res compare.Result
			err := retry.Usual.Do(ctx, func(int) (err error) {
				res, err = compare.Contents(ctx, compare.ByStoredSum, x.source, a, x.target, b)
				return err
			})
			if compare.WentBad(err, x.target) {
				return false, nil
			}
			return res.Same, err
		}}
	if opts.Resend = !canBeTouched(x.target); !opts.Resend {
		opts.SameStored = func(ctx context.Context, a, b *object.Entry) (same bool, err error) {
			err = retry.Usual.Do(ctx, func(int) error {
				same, err = compare.Stored(ctx, x.source, a, x.target, b)
				return err
			})
			return same, err
		}
	}
	s.evidence(j, x, &opts)
	if over := s.firstOver(j, x); over > 0 {
		opts.Notes = append(opts.Notes, fmt.Sprintf("%s keeps nothing that a large object could be verified by: what "+
			"is larger than %s is read once before it is sent, so that its checksum goes along", x.target.Name(),
			humanize.IBytes(uint64(over))))
	}
	if place.Can(x.target).Known.Lacks(place.KeepsMeta) {
		opts.Notes = append(opts.Notes, x.target.Name()+
			" keeps no metadata: original times, permissions and metadata are lost there")
	}
	if c := place.Can(x.target).Names; c != nil {
		opts.Name = c.CheckName
	}
	from := place.Can(x.source)
	if c := from.Names; c != nil {
		opts.NameBack = c.CheckName
	}
	if t := from.Tags; t != nil {
		opts.Tags = func(ctx context.Context, e *object.Entry) (tags map[string]string, err error) {
			err = retry.Usual.Do(ctx, func(int) (err error) {
				tags, err = t.Tags(ctx, object.Ref{Key: e.Key})
				return err
			})
			return tags, err
		}
	} else if len(j.Select.Tags) > 0 {
		known.Close()
		return opts, nil, workspace.BadInput(fmt.Errorf("%s selects by tags, but %s: %s", j.Name, x.source.Name(),
			from.Lacks(place.Tags)))
	}
	if opts.Arrived, err = s.arrived(ctx, j, x.from); err != nil {
		known.Close()
		return opts, nil, err
	}
	opts.TooMuch = tooMuch(j, x)
	opts.OtherFacts = func(ctx context.Context, a, b *object.Entry) (string, error) {
		return otherFacts(ctx, &j.Rules.As, x, a, b)
	}
	return opts, known, nil
}

// rereads tells whether what leaves the source is read there a second time before it does, since
// nothing there vouches for the first reading.
func rereads(j *job.Job, x *sides) bool {
	if j.Afterwards == rule.KeepSource || j.Proof == compare.ByReadBack {
		return j.Afterwards != rule.KeepSource
	}
	way, ok := place.Can(x.source).Promise(place.ReadWhole)
	return ok && way.Weak && !j.ReadTwice && j.Safety.Evidence != rule.OneReading
}

// firstOver is the size in bytes above which objects are read once before they are sent; 0 where none is.
func (s *Room) firstOver(j *job.Job, x *sides) int64 {
	to := place.Can(x.target)
	if place.Can(x.source).StoredSums == object.CRC64NVME || to.CopierFrom(x.source) != nil {
		return 0
	}
	if whole := s.cut(j, x).Whole; to.PartsSumFirst && (to.SumFirst == 0 || whole < to.SumFirst) {
		return whole
	}
	return to.SumFirst
}

// evidence says what a job that takes its source away rests on.
func (s *Room) evidence(j *job.Job, x *sides, opts *plan.Options) {
	way, ok := place.Can(x.source).Promise(place.ReadWhole)
	switch {
	case j.Afterwards == rule.KeepSource || !ok || !way.Weak:
	case j.ReadTwice || j.Proof == compare.ByReadBack:
	case j.Safety.Evidence == rule.OneReading:
		opts.Warnings = append(opts.Warnings, fmt.Sprintf(
			"what leaves %s is %s by ONE reading (evidence = \"one-reading\"): nothing "+
				"there vouches for its content, so what a bad line or a bad memory changed on the way here is "+
				"lost with it",
			x.source.Name(), j.Afterwards.Becomes()))
	default:
		opts.Notes = append(opts.Notes, x.source.Name()+" is read twice where nothing vouches for its content: "+
			"such an object is read once more, in full, and held against its copy before it goes")
	}
}

// canBeTouched tells whether an object there can be given another time in place.
func canBeTouched(p place.Place) bool {
	can := place.Can(p)
	return can.Attributes != nil || can.Metadata != nil
}

// Effect is what a job would come to, by the surveys there are.
type Effect struct {
	plan.Info
	Estimate estimate.Estimate
	// Lands is where the objects land; the examples' keys lie below it.
	Lands string
	// Share is how much of the surveys this was worked out from, between 0 and
	// 1: less than 1 while it is still going on.
	Share float64
	// Unasked tells what only the plan itself will find out, in words.
	Unasked []string
}

// Effect works out a job's effect, which need not be saved, from the surveys
// there are. Partial results go to each, which may be nil. Without surveys the
// error is [ErrNotSurveyed].
func (s *Room) Effect(ctx context.Context, j *job.Job, each func(*Effect)) (*Effect, error) {
	ctx, done, ok := s.ws.Life.Begin(ctx)
	if !ok {
		return nil, context.Canceled
	}
	defer done()
	x, err := s.kept(ctx, j)
	if err != nil {
		return nil, err
	}
	defer x.close()
	opts, known, err := s.planOptions(ctx, j, x)
	if err != nil {
		return nil, err
	}
	defer known.Close()
	res := &Effect{Lands: x.lands, Share: 1}
	if j.CompareBy == rule.ByContent {
		res.Unasked = append(res.Unasked, "contents of equal size count as the same until a plan has looked at them")
	}
	if len(j.Select.Tags) > 0 {
		res.Unasked = append(res.Unasked, "tags are not asked for yet: all objects count as tagged so")
	}
	from, _ := job.SplitPlace(j.Source)
	to, _ := job.SplitPlace(j.Target)
	if s.touched(ctx, to, x.to.Info.Began) || s.touched(ctx, from, x.from.Info.Began) {
		// What both sides agreed on is newer than what was surveyed: held against
		// each other, all that a run did would look like somebody's meddling.
		opts.Agreed, opts.Doubts = nil, nil
		res.Unasked = append(res.Unasked,
			"something here changed these places since they were surveyed: s surveys them anew")
	}
	if each != nil {
		var last time.Time
		opts.Partial = func(sum plan.Summary, share float64) {
			if s.ws.Now().Sub(last) > 100*time.Millisecond && share < 1 {
				last = s.ws.Now()
				each(&Effect{Info: plan.Info{Source: x.from.Info, Target: x.to.Info, Rules: j.Rules, Summary: sum},
					Lands: x.lands, Share: share, Unasked: res.Unasked})
			}
		}
	}
	if res.Info, err = plan.Weigh(ctx, x.from, x.to, opts); err != nil {
		return nil, err
	}
	res.Estimate = s.Estimate(ctx, j, &res.Info)
	return res, nil
}

// LatestPlan is the newest plan of a job; nil when there is none. The caller
// closes it.
func (s *Room) LatestPlan(name string) (*plan.Plan, error) {
	dir, err := s.ws.Dir.Job(name, "plans")
	if err != nil {
		return nil, err
	}
	numbers, err := plan.Numbers(dir)
	if err != nil || len(numbers) == 0 {
		return nil, err
	}
	return plan.OpenNumber(dir, numbers[len(numbers)-1])
}

// PlanNumber opens a job's plan by its number. The caller closes it.
func (s *Room) PlanNumber(name string, number int) (*plan.Plan, error) {
	dir, err := s.ws.Dir.Job(name, "plans")
	if err != nil {
		return nil, err
	}
	p, err := plan.OpenNumber(dir, number)
	if errors.Is(err, os.ErrNotExist) {
		return nil, workspace.BadInput(errors.New("there is no such plan; `lumtra plan` makes one"))
	}
	return p, err
}
