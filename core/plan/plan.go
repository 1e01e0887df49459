package plan

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"lumtra/core/catalog"
	"lumtra/core/place"
	"lumtra/core/rule"
	"lumtra/core/segment"
)

const magic = "LUMTRAP2"

// Total counts effects.
type Total struct {
	Count, Bytes int64
}

// Totals count effects by kind.
type Totals [kindCount]Total

// Add counts one effect.
func (t *Totals) Add(e *Effect) {
	t[e.Kind].Count++
	t[e.Kind].Bytes += e.Bytes()
}

// Merge counts what another counted too.
func (t *Totals) Merge(o *Totals) {
	for k := range t {
		t[k].Count += o[k].Count
		t[k].Bytes += o[k].Bytes
	}
}

// Work is what a run of the plan has to do: the effects that act, with the
// bytes of those that move content.
func (t *Totals) Work() (sum Total) {
	for k := range kindCount {
		if k.Acts() {
			sum.Count += t[k].Count
		}
		if k.Moves() {
			sum.Bytes += t[k].Bytes
		}
	}
	return sum
}

// All counts every effect.
func (t *Totals) All() (sum Total) {
	for _, x := range t {
		sum.Count += x.Count
		sum.Bytes += x.Bytes
	}
	return sum
}

// Map is the totals by the kinds' names, without empty ones.
func (t *Totals) Map() map[Kind]Total {
	m := map[Kind]Total{}
	for k, x := range t {
		if x.Count > 0 {
			m[Kind(k)] = x
		}
	}
	return m
}

// Info is what a plan says of itself.
type Info struct {
	Job    string
	Number int
	Made   time.Time
	Rules  rule.Rules
	// Source and Target tell of the two surveys the plan rests on.
	Source, Target catalog.Info
	Summary
	// Held are the guards that hold the plan back, in words; a person has to
	// let it go.
	Held []string `json:",omitempty"`
	// Notes are what endpoint tests and credentials say that bears on the plan.
	Notes []string `json:",omitempty"`
	// ByContents tells that contents decided, by wish, where size and a later time alone would.
	ByContents bool `json:",omitempty"`
	// Warnings are what a person has given up of what is promised, in words.
	Warnings []string `json:",omitempty"`
	// Ways are how runs keep what Lumtra promises, by what was known of the two
	// places when the plan was made.
	Ways Ways
	// Print is a fingerprint of the job as it was, so that a plan is not
	// run with a job that has changed since.
	Print string
}

// Ways are the promises of the two places.
type Ways struct {
	Source []place.Promise `json:",omitempty"`
	Target []place.Promise `json:",omitempty"`
}

// WayOf is one promise, with the side it is about.
type WayOf struct {
	// Side is "source" or "target".
	Side string
	place.Promise
}

// Shown are those that matter to a run: how content is read at the source, and all
// else at the target.
func (w *Ways) Shown() []WayOf {
	var all []WayOf
	for _, p := range w.Source {
		if p.Name == place.ReadWhole {
			all = append(all, WayOf{"source", p})
		}
	}
	for _, p := range w.Target {
		if p.Name != place.ReadWhole {
			all = append(all, WayOf{"target", p})
		}
	}
	return all
}

// Whole tells that the plan covers everything at the source: nothing had to be
// left out, and nothing could not be listed.
func (i *Info) Whole() bool { return i.Left == 0 && i.Source.Complete() && i.Target.Complete() }

// NothingToDo tells that a run has nothing to do, at either side.
func (i *Info) NothingToDo() bool { return i.Totals.Work().Count+i.Afterwards.Count == 0 }

// Idle tells that there is nothing to do, to decide or to complain of.
func (i *Info) Idle() bool {
	return i.Whole() && i.NothingToDo() && i.Totals[Conflict].Count == 0
}

// Plan is an open plan file.
type Plan struct {
	Info Info
	Path string
	// Choices are what a person decided about the plan. Info and the effects
	// are as they are with them.
	Choices Choices
	seg     *segment.Reader
	fileSum string // the sum of the info in the file, without choices
}

// Open opens a plan file with the choices made about it.
func Open(path string) (*Plan, error) {
	p := &Plan{Path: path}
	var err error
	if p.seg, err = segment.Open(path, magic, &p.Info); err != nil {
		return nil, err
	}
	p.fileSum = p.Info.sum()
	if err := p.readChoices(); err != nil {
		p.seg.Close()
		return nil, err
	}
	return p, nil
}

// Close closes the file.
func (p *Plan) Close() error { return p.seg.Close() }

// Effects walks the effects with keys from the given one on. They are numbered in order from
// 0; the number names an effect in a ledger.
func (p *Plan) Effects(from string) *Cursor {
	return &Cursor{seg: p.seg.Cursor(from), choices: &p.Choices, rules: &p.Info.Rules}
}

// Cursor is a walk through a plan. It is not for concurrent use.
type Cursor struct {
	seg     *segment.Cursor
	choices *Choices
	rules   *rule.Rules
	effect  Effect
	err     error
}

// Next moves on and tells whether there is an effect.
func (c *Cursor) Next() bool {
	if c.err != nil || !c.seg.Next() {
		return false
	}
	if c.err = c.effect.decode(string(c.seg.Key()), c.seg.Payload()); c.err != nil {
		return false
	}
	c.choices.apply(&c.effect, c.rules)
	return true
}

// Effect is the current effect. The next call to Next overwrites it, but not
// the entries it points to.
func (c *Cursor) Effect() *Effect { return &c.effect }

// Err is what ended the walk early.
func (c *Cursor) Err() error {
	if c.err != nil {
		return c.err
	}
	return c.seg.Err()
}

const suffix = ".plan"

// FileName is the name of a job's plan with the given number in its folder.
func FileName(number int) string { return fmt.Sprintf("%04d%s", number, suffix) }

// Numbers lists the plans in a job's folder, oldest first. A folder that is
// not there has none.
func Numbers(dir string) ([]int, error) {
	files, err := os.ReadDir(dir)
	if err != nil && !os.IsNotExist(err) {
		return nil, err
	}
	var numbers []int
	for _, f := range files {
		if digits, ok := strings.CutSuffix(f.Name(), suffix); ok {
			if n, err := strconv.Atoi(digits); err == nil {
				numbers = append(numbers, n)
			}
		}
	}
	slices.Sort(numbers)
	return numbers, nil
}

// OpenNumber opens the plan with the number in a job's folder.
func OpenNumber(dir string, number int) (*Plan, error) {
	return Open(filepath.Join(dir, FileName(number)))
}
