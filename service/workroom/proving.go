package workroom

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"lumtra/core/compare"
	"lumtra/core/job"
	"lumtra/core/proof"
	"lumtra/core/rule"
	"lumtra/service/event"
	"lumtra/service/workspace"
)

// Proof is a proof with the folder its files lie in.
type Proof struct {
	*proof.Summary
	Dir string
}

// ProveOptions choose how a proof is made. What is "" is as the job says.
type ProveOptions struct {
	Method compare.Method
	// Digest is "sha256" or "blake3".
	Digest string
	// Both has what is only at the target count, as it always does for a two-way
	// job.
	Both bool
	// Plan holds the target to what the plan of this number knew, whose run is proven, so that what people
	// go on writing is no difference; 0 to what is there now. It works once, for a job's newest plan, if that
	// was made to be proven ([Freshness.Keep]); else both places are compared as they are.
	Plan int
}

// Prove surveys both sides of a job anew and compares them.
func (s *Room) Prove(ctx context.Context, name string, opts ProveOptions, a *Activity) (*Proof, error) {
	j, err := s.ws.Job(name)
	if err != nil {
		return nil, err
	}
	method := cmp.Or(opts.Method, j.Proof)
	own := *j
	own.Digest = cmp.Or(opts.Digest, j.Digest)
	kind, ok := own.DigestKind()
	if !ok {
		return nil, workspace.BadInput(fmt.Errorf("no digest: %q; there are sha256 and blake3", opts.Digest))
	}
	if !slices.Contains(compare.Methods, method) {
		return nil, workspace.BadInput(fmt.Errorf("no way to prove: %q; there are %v", method, compare.Methods))
	}
	x, err := s.survey(ctx, j, a, Freshness{})
	if err != nil {
		return nil, err
	}
	defer x.close()
	numbers, dir, err := s.proofNumbers(name)
	if err != nil {
		return nil, err
	}
	number := 1
	if len(numbers) > 0 {
		number = numbers[len(numbers)-1] + 1
	}
	a.enter("comparing by " + string(method))
	p := &Proof{Dir: filepath.Join(dir, fmt.Sprintf("%04d", number))}
	match, err := j.Select.Compile(s.ws.Now())
	if err != nil {
		return nil, err
	}
	how := proof.Options{Now: s.ws.Now, Job: name, Number: number, Method: method, Select: match, Trash: j.TrashPath,
		Archive: archive(j), Digest: kind, Both: opts.Both || j.Direction == rule.TwoWay, Gzips: j.As.Gzips(),
		Ways: promises(x)}
	if how.Planned = s.knew(ctx, j, x, opts.Plan); how.Planned != nil {
		defer how.Planned.Close()
		how.Plan = opts.Plan
	}
	known, err := s.memory(ctx, name, x)
	if err != nil {
		return nil, err
	}
	how.Doubts = known.Doubts
	p.Summary, err = proof.Run(ctx, p.Dir, x.source, x.target, x.from, x.to, &a.Compared, how)
	known.Close()
	if err != nil {
		os.RemoveAll(p.Dir) // half a proof proves nothing
		return nil, err
	}
	if p.Plan > 0 {
		if err := s.forgetPlanned(name); err != nil {
			s.ws.Log.Warn("what a plan knew could not be cleared away", "job", name, "error", err)
		}
	}
	if err := s.Remember(ctx, name, x.source.Name(), x.target.Name()); err != nil { // the next plan tries again
		s.ws.Log.Warn("what a proof found could not be kept for the next plan", "job", name, "error", err)
	}
	s.ws.Events.Publish(event.Event{Kind: event.ProofMade, Job: name, Number: number})
	s.ws.Log.Info("proved", "job", name, "proof", number, "holds", p.Holds(), "objects", p.Objects)
	return p, nil
}

// mendedAtMost is how many keys a job of differences names; with more it looks
// at all of them.
const mendedAtMost = 500

// MendJob makes a job that sends what a job's newest proof found missing or
// different, judged by content, and returns its name. Nothing is run.
func (s *Room) MendJob(name string) (string, error) {
	p, err := s.LatestProof(name)
	if err != nil {
		return "", err
	}
	if p == nil || p.Objects[proof.Missing]+p.Objects[proof.Different]+p.Objects[proof.Unproven] == 0 {
		return "", workspace.BadInput(errors.New("no proof of this job found anything missing or different"))
	}
	text, err := s.ws.Workspace().Text(name)
	if err != nil {
		return "", err
	}
	lines, err := proof.ReadDifferences(p.Dir, 1<<20)
	if err != nil {
		return "", err
	}
	var keys []string
	for _, l := range lines {
		if l.Verdict != proof.Extra && l.Verdict != proof.Since && l.KeyBytes == nil {
			keys = append(keys, rule.Literal(l.Key))
		}
	}
	text, err = job.Set(text, string(rule.ByContent), "compare-by")
	if err == nil { // what differs is to be sent, whatever the job thinks of that
		text, err = job.Set(text, nil, "when-different")
	}
	if err == nil && len(keys) <= mendedAtMost {
		text, err = job.Set(text, keys, "select", "include")
	}
	if err != nil {
		return "", err
	}
	mend := fmt.Sprintf("%s-mend-%d", name, p.Number)
	return mend, s.ws.SaveJob("", mend, text)
}

// archive is the prefix of what a job put away at its source; "" for none.
func archive(j *job.Job) string {
	if j.Afterwards != rule.ArchiveSource {
		return ""
	}
	return j.ArchivePath
}

// LatestProof is the newest proof of a job; nil when there is none.
func (s *Room) LatestProof(name string) (*Proof, error) {
	numbers, dir, err := s.proofNumbers(name)
	if err != nil || len(numbers) == 0 {
		return nil, err
	}
	return readProof(dir, numbers[len(numbers)-1])
}

// ProofNumber is the proof of a job with a number.
func (s *Room) ProofNumber(name string, number int) (*Proof, error) {
	numbers, dir, err := s.proofNumbers(name)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(numbers, number) {
		return nil, workspace.BadInput(fmt.Errorf("%s has no proof %d; it has %d, numbered from 1", name, number,
			len(numbers)))
	}
	return readProof(dir, number)
}

func readProof(dir string, number int) (*Proof, error) {
	p := &Proof{Dir: filepath.Join(dir, fmt.Sprintf("%04d", number))}
	var err error
	if p.Summary, err = proof.Read(p.Dir); err != nil {
		return nil, err
	}
	return p, nil
}

func (s *Room) proofNumbers(name string) ([]int, string, error) {
	dir, err := s.ws.Dir.Job(name, "proofs")
	if err != nil {
		return nil, "", err
	}
	files, err := os.ReadDir(dir)
	var numbers []int
	for _, f := range files {
		n, bad := strconv.Atoi(f.Name())
		if _, missing := os.Stat(filepath.Join(dir, f.Name(), proof.SummaryFile)); bad == nil && missing == nil {
			numbers = append(numbers, n)
		}
	}
	slices.Sort(numbers)
	return numbers, dir, err
}
