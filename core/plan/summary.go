package plan

import (
	"math/bits"

	"lumtra/core/object"

	"lumtra/core/rule"
)

// Summary is what a plan comes to: sums of its effects, which choices change, and what was
// found while it was made.
type Summary struct {
	Sums
	Findings
}

// Sums count a plan's effects.
type Sums struct {
	Totals Totals
	// Left counts the blocked effects that are content and so will be missing at
	// the target; links and devices are not among them.
	Left int64 `json:",omitempty"`
	// Back counts the effects that go from target to source.
	Back Total `json:",omitzero"`
	// BackRemovals counts the objects that go at the source.
	BackRemovals int64 `json:",omitempty"`
	// Sizes are the objects whose content moves, by size, and Largest the size of the largest.
	Sizes   Sizes
	Largest int64 `json:",omitempty"`
	// Asides are older objects that are moved and kept.
	Asides Total `json:",omitzero"`
	// Afterwards counts the source objects that something is to become of.
	Afterwards Total `json:",omitzero"`
	// Cold counts what moves and lies in a class that has to be restored first.
	Cold Total `json:",omitzero"`
	// Blocked counts what cannot be done, by reason.
	Blocked map[Reason]int64 `json:",omitempty"`
}

// Findings are what was found while a plan was made.
type Findings struct {
	// Selected is what of the source the job takes, and Tallies what each rule of its
	// selection does.
	Selected Total        `json:",omitzero"`
	Tallies  []rule.Tally `json:",omitempty"`
	// Agreed is what both sides last agreed on; Drifted how many of those
	// changed or went at the target without the job.
	Agreed, Drifted int64 `json:",omitempty"`
	// Examples are the first effects that move something, Alike the first keys
	// that are the same at both sides.
	Examples []Example `json:",omitempty"`
	Alike    []Example `json:",omitempty"`
	// Compared counts the pairs whose contents were or will be looked at, Later those that
	// count as the same by their size and a later time alone.
	Compared int64 `json:",omitempty"`
	Later    int64 `json:",omitempty"`
}

// Example is a key at the source and what it will be at the target.
type Example struct {
	Key  string
	Kind Kind
	Back bool `json:",omitempty"`
}

const keptExamples = 5

// Sizes counts objects by size: class i holds those of less than 1024·4^i
// bytes that are in no lower one, the last all the rest.
type Sizes [12]Total

func sizeClass(n int64) int {
	return min((bits.Len64(uint64(max(n, 0))>>10)+1)/2, len(Sizes{})-1)
}

// add counts one effect.
func (s *Summary) add(e *Effect, r *rule.Rules) {
	s.Sums.add(e, r)
	s.Findings.add(e)
}

func (t *Total) count(bytes int64) {
	t.Count++
	t.Bytes += bytes
}

func (s *Sums) add(e *Effect, r *rule.Rules) {
	s.Totals.Add(e)
	if e.Then(r) {
		s.Afterwards.count(e.Source.Size)
	}
	if e.Missing() {
		s.Left++
	}
	if e.Aside != "" && e.Kind.Acts() {
		s.Asides.count(e.Over().Size)
	}
	if e.Kind == Blocked {
		if s.Blocked == nil {
			s.Blocked = map[Reason]int64{}
		}
		s.Blocked[e.Reason]++
	}
	if !e.Kind.Acts() {
		return
	}
	if e.Back {
		s.Back.count(e.Bytes())
		if e.Kind == Remove {
			s.BackRemovals++
		}
	}
	if !e.Kind.Moves() {
		return
	}
	if object.IsCold(e.Sent().Class) {
		s.Cold.count(e.Bytes())
	}
	s.Largest = max(s.Largest, e.Bytes())
	s.Sizes[sizeClass(e.Bytes())].count(e.Bytes())
}

func (f *Findings) add(e *Effect) {
	if e.Kind == Same && len(f.Alike) < keptExamples {
		f.Alike = append(f.Alike, Example{Key: e.Key, Kind: Same})
	}
	if e.Reason == SameContent || e.Reason == OtherContent {
		f.Compared++
	}
	if e.Later {
		f.Later++
	}
	if e.Kind.Moves() && len(f.Examples) < keptExamples {
		f.Examples = append(f.Examples, Example{e.Key, e.Kind, e.Back})
	}
}

// merge adds what was counted of the keys that follow.
func (s *Summary) merge(o *Summary) {
	s.Totals.Merge(&o.Totals)
	for _, x := range []struct{ to, from *Total }{{&s.Back, &o.Back}, {&s.Selected, &o.Selected},
		{&s.Asides, &o.Asides}, {&s.Afterwards, &o.Afterwards}, {&s.Cold, &o.Cold}} {
		x.to.Count += x.from.Count
		x.to.Bytes += x.from.Bytes
	}
	s.Left += o.Left
	s.BackRemovals += o.BackRemovals
	s.Largest = max(s.Largest, o.Largest)
	s.Compared += o.Compared
	s.Later += o.Later
	for why, n := range o.Blocked {
		if s.Blocked == nil {
			s.Blocked = map[Reason]int64{}
		}
		s.Blocked[why] += n
	}
	s.Drifted += o.Drifted
	for i := range s.Sizes {
		s.Sizes[i].Count += o.Sizes[i].Count
		s.Sizes[i].Bytes += o.Sizes[i].Bytes
	}
	for i := range o.Tallies {
		s.Tallies[i].Add(o.Tallies[i])
	}
	s.Examples = first(append(s.Examples, o.Examples...))
	s.Alike = first(append(s.Alike, o.Alike...))
}

func first(all []Example) []Example { return all[:min(len(all), keptExamples)] }
