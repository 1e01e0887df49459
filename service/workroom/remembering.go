package workroom

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"

	"lumtra/core/agreed"
	"lumtra/core/compare"
	"lumtra/core/ledger"
	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/core/proof"
	"lumtra/core/transfer"
)

// What a job remembers of its two places follows from its plans, their ledgers and its proofs:
// whatever of these is not in it yet is taken in before anything is decided by it. What is in it
// is told by numbers and sums that stand in it, so that no clock, no copy and no kill between
// two steps has any of them taken for known. What cannot be read is made anew, of all of them.

// memory opens what a job remembers of its two places, after taking in what was done and found
// since.
func (s *Room) memory(ctx context.Context, name string, x *sides) (*agreed.Memory, error) {
	if err := s.Remember(ctx, name, x.source.Name(), x.target.Name()); err != nil {
		return nil, err
	}
	return agreed.OpenMemory(s.ws.Dir.Path("jobs", name), x.source.Name(), x.target.Name())
}

// Remember takes the outcome of plans and what proofs have found into what a job remembers of
// two places.
func (s *Room) Remember(ctx context.Context, name, source, target string) error {
	unlock, err := s.ws.Dir.LockMemory(name)
	if err != nil {
		return err
	}
	defer unlock()
	r := &remembering{room: s, job: name, dir: s.ws.Dir.Path("jobs", name), source: source, target: target}
	defer func() { r.known.Close() }()
	for {
		err := r.open()
		if err == nil {
			err = r.plans(ctx)
		}
		if err == nil {
			err = r.proofs(ctx)
		}
		if err == nil || !s.setAside(name, err) {
			return err
		}
	}
}

// setAside puts away what of a job's memory an error says is lost, and tells whether it did: then it
// is made anew by the next [Room.Remember].
func (s *Room) setAside(name string, err error) bool {
	done := false
	for file, lost := range map[string]error{agreed.StatesFile: agreed.ErrStatesLost,
		agreed.DoubtsFile: agreed.ErrDoubtsLost} {
		if errors.Is(err, lost) {
			path := s.ws.Dir.Path("jobs", name, file)
			done = os.Rename(path, path+".damaged") == nil || done
			s.ws.Log.Warn("what a job remembers is made anew", "job", name, "error", err)
		}
	}
	return done
}

// remembering is one job's memory being brought up to date.
type remembering struct {
	room           *Room
	job, dir       string
	source, target string
	known          *agreed.Memory
	// lost tells that the doubts are to be made anew.
	lost bool
}

// open opens what there is, anew after something was written.
func (r *remembering) open() (err error) {
	r.known.Close()
	if r.known, err = agreed.OpenMemory(r.dir, r.source, r.target); err != nil {
		return err
	}
	r.lost = r.lost || r.known.Doubts == nil
	return nil
}

// plans takes in the plans that were run since, or found nothing to do.
func (r *remembering) plans(ctx context.Context) error {
	dir := filepath.Join(r.dir, "plans")
	numbers, err := plan.Numbers(dir)
	if err != nil {
		return err
	}
	for _, n := range numbers {
		if err := r.plan(ctx, dir, n); err != nil {
			return err
		}
	}
	return nil
}

func (r *remembering) plan(ctx context.Context, dir string, number int) error {
	known := r.known.Info()
	extent, err := ledger.Extent(ledgerOf(filepath.Join(dir, plan.FileName(number))))
	if err != nil {
		return err
	}
	ran := extent != "" && known.Ledgers[number] != extent
	if !ran && number <= known.Plan && !r.lost {
		return nil
	}
	p, err := plan.OpenNumber(dir, number)
	if err != nil {
		return err
	}
	defer p.Close()
	switch {
	case p.Info.Source.Place != r.source || p.Info.Target.Place != r.target:
		return nil
	case ran, number > known.Plan && p.Info.NothingToDo():
		err = transfer.Agree(ctx, r.dir, r.known, p, ledgerPath(p))
	case r.lost && extent != "", p.Info.ByContents && r.compared() < number:
		err = transfer.Question(ctx, r.dir, r.known.Doubts, p, ledgerPath(p))
	default:
		return nil
	}
	if err != nil {
		return err
	}
	return r.open()
}

// compared is the newest plan with contents compared by wish that is taken in.
func (r *remembering) compared() int {
	if r.known.Doubts == nil {
		return 0
	}
	return r.known.Doubts.Info.Compared
}

// proofs takes in what proofs have found since.
func (r *remembering) proofs(ctx context.Context) error {
	numbers, dir, err := r.room.proofNumbers(r.job)
	if err != nil {
		return err
	}
	plans, err := plan.Numbers(filepath.Join(r.dir, "plans"))
	if err != nil {
		return err
	}
	newest, last := 0, 0
	if len(plans) > 0 {
		newest = plans[len(plans)-1]
	}
	for _, n := range numbers {
		if last = n; ctx.Err() != nil {
			return ctx.Err()
		}
		if err := r.proof(dir, n, newest); err != nil {
			return err
		}
	}
	if r.known.Doubts != nil || r.known.States == nil {
		return nil
	}
	// That there are none is told by a file without any: one that is missing is lost.
	return r.revise(last, func(func(string, agreed.Decide) error) error { return nil })
}

func (r *remembering) revise(proof int, walk func(func(string, agreed.Decide) error) error) error {
	info := agreed.DoubtsInfo{Job: r.job, Proof: proof, Compared: r.compared(), Source: r.source, Target: r.target}
	if err := agreed.Revise(filepath.Join(r.dir, agreed.DoubtsFile), r.known.Doubts, info, walk); err != nil {
		return err
	}
	return r.open()
}

func (r *remembering) proof(dir string, number, newest int) error {
	if r.known.Doubts != nil && r.known.Doubts.Info.Proof >= number {
		return nil
	}
	p, err := readProof(dir, number)
	if err != nil || p.Source != r.source || p.Target != r.target {
		return err
	}
	return r.revise(number, func(about func(string, agreed.Decide) error) error {
		asked := r.known.Doubts.Len() > 0
		if !asked && p.Objects[proof.Different] == 0 {
			return nil
		}
		return proof.Each(p.Dir, asked, func(l *proof.Line) error { return about(l.Key, leftBy(p, l, newest)) })
	})
}

// leftBy is what a line of a proof leaves in doubt of its key.
func leftBy(p *Proof, l *proof.Line, newest int) agreed.Decide {
	var d *agreed.Doubt
	if l.Verdict == proof.Different && l.There != nil {
		d = &agreed.Doubt{Kind: agreed.Differs, Proof: p.Number, Plan: newest, Method: string(p.Method), At: p.Ended,
			Source: object.Entry{Key: l.Key, Size: l.Size, Modified: l.Modified},
			Target: object.Entry{Key: l.Key, Size: l.There.Size, Modified: l.There.Modified, ETag: l.There.ETag}}
	}
	return agreed.Proven(d, l.Verdict == proof.Same, func(was *agreed.Doubt) bool {
		return closeness(p.Method) >= closeness(compare.Method(was.Method))
	})
}

// closeness orders the methods.
func closeness(m compare.Method) int { return slices.Index(compare.Methods, m) }
