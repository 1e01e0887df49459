package plan

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"lumtra/core/atomicfile"
	"lumtra/core/rule"
)

// Choices are what a person decided about a plan. They lie in a file beside
// it; the plan itself never changes.
type Choices struct {
	// Of is the plan that they were made about, by its sum; a digest of what is said of it as a whole.
	Of string `json:"of"`
	// Struck are keys, and prefixes that end in "/", that a run passes over.
	Struck []string `json:"struck,omitempty"`
	// Decided settles conflicts, by key or by prefix that ends in "/"; the
	// longest that fits counts.
	Decided map[string]rule.Conflicts `json:"decided,omitempty"`
	// Approved tells who let the plan go; nil while nobody did.
	Approved *Approval `json:"approved,omitempty"`
	// Summary is what the plan comes to with these choices; nil without any.
	Summary *Summary `json:"summary,omitempty"`
	// Held are the guards that hold it back with these choices.
	Held []string `json:"held,omitempty"`
}

// Approval is a person's word that a plan may run.
type Approval struct {
	At time.Time `json:"at"`
	By string    `json:"by"`
	// Removals is the number of removals that was typed.
	Removals int64 `json:"removals"`
}

// any tells whether anything was struck or decided.
func (c *Choices) any() bool { return len(c.Struck)+len(c.Decided) > 0 }

// Clone is a copy to change.
func (c *Choices) Clone() Choices {
	own := Choices{Struck: slices.Clone(c.Struck), Decided: map[string]rule.Conflicts{}, Approved: c.Approved}
	for k, v := range c.Decided {
		own.Decided[k] = v
	}
	return own
}

// covers tells whether a struck or decided name is the key's or lies above it.
func covers(name, key string) bool {
	return name == key || strings.HasSuffix(name, "/") && strings.HasPrefix(key, name)
}

// Strike strikes a key or prefix out, or takes it in again.
func (c *Choices) Strike(name string) {
	c.Approved = nil
	if i := slices.Index(c.Struck, name); i >= 0 {
		c.Struck = slices.Delete(c.Struck, i, i+1)
		return
	}
	c.Struck = slices.DeleteFunc(c.Struck, func(s string) bool { return covers(name, s) })
	c.Struck = append(c.Struck, name)
	slices.Sort(c.Struck)
}

// Decide settles the conflict of a key, or all below a prefix; [rule.Ask]
// opens them again.
func (c *Choices) Decide(name string, how rule.Conflicts) {
	c.Approved = nil
	for k := range c.Decided {
		if covers(name, k) {
			delete(c.Decided, k)
		}
	}
	c.Decided[name] = how
}

// IsStruck tells whether the key is struck out.
func (c *Choices) IsStruck(key string) bool {
	return slices.ContainsFunc(c.Struck, func(s string) bool { return covers(s, key) })
}

// apply makes an effect what it is with the choices.
func (c *Choices) apply(e *Effect, r *rule.Rules) {
	if !c.any() {
		return
	}
	if len(c.Struck) > 0 && (e.Kind.Acts() || e.Kind == Conflict || e.Then(r)) && c.IsStruck(e.Key) {
		e.Kind, e.Reason, e.Aside, e.Back = LeftOut, Struck, "", false
		return
	}
	if e.Kind != Conflict && e.Reason != Decided || len(c.Decided) == 0 {
		return
	}
	best := ""
	for name := range c.Decided {
		if covers(name, e.Key) && (len(name) > len(best) || best == "") {
			best = name
		}
	}
	if how, ok := c.Decided[best]; ok {
		e.Decide(how)
	}
}

func choicesPath(planPath string) string {
	return strings.TrimSuffix(planPath, suffix) + ".choices.json"
}

// readChoices takes in what was decided about the plan.
func (p *Plan) readChoices() error {
	raw, err := os.ReadFile(choicesPath(p.Path))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil { // what was decided may well be there
		return fmt.Errorf("what was decided about the plan cannot be read: %w", err)
	}
	var c Choices
	if err := json.Unmarshal(raw, &c); err != nil {
		return fmt.Errorf("what was decided about the plan, in %s, is damaged (%w): delete that file to decide "+
			"anew", choicesPath(p.Path), err)
	}
	if c.Of != p.fileSum { // about another plan, which lay here before
		return nil
	}
	if p.Choices = c; p.Choices.Summary != nil {
		p.Info.Summary, p.Info.Held = *p.Choices.Summary, p.Choices.Held
	}
	return nil
}

// Choose keeps the choices beside the plan at path and works out what the plan
// comes to with them.
func Choose(ctx context.Context, path string, c Choices) (Info, error) {
	p, err := Open(path)
	if err != nil {
		return Info{}, err
	}
	defer p.Close()
	c.Summary, c.Held, c.Of = nil, nil, p.fileSum
	p.Choices = c
	if err := p.Recount(ctx); err != nil {
		return Info{}, err
	}
	if c.any() {
		c.Summary, c.Held = &p.Info.Summary, p.Info.Held
	}
	raw, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return Info{}, err
	}
	if err := atomicfile.Write(choicesPath(path), raw, 0o600); err != nil {
		return Info{}, fmt.Errorf("keeping what was decided: %w", err)
	}
	again, err := Open(path)
	if err != nil {
		return Info{}, err
	}
	defer again.Close()
	return again.Info, nil
}

// Recount works out what the plan comes to from its effects and the choices about it,
// and which guards that meets. What the choices say of it is for looking; before a run
// it is not taken at its word.
func (p *Plan) Recount(ctx context.Context) error {
	if !p.Choices.any() {
		return nil
	}
	was := &p.Info.Summary // what the judge counted stays; the effects are counted anew
	sum := Summary{Findings: Findings{Selected: was.Selected, Tallies: was.Tallies, Agreed: was.Agreed,
		Drifted: was.Drifted}}
	cur := p.Effects("")
	for n := 0; cur.Next(); n++ {
		if n&4095 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		sum.add(cur.Effect(), &p.Info.Rules)
	}
	if err := cur.Err(); err != nil {
		return err
	}
	p.Info.Summary = sum
	p.Info.Held = p.Info.Rules.Safety.Hold(p.Info.guarded())
	return nil
}

// sum tells a plan from every other: a digest of all that is said of it as a whole.
func (i *Info) sum() string {
	raw, err := json.Marshal(i)
	if err != nil { // of plain values, which it can write
		return ""
	}
	digest := sha256.Sum256(raw)
	return hex.EncodeToString(digest[:])
}

// Approved tells whether a person let the plan go as it is now, removals and
// all.
func (p *Plan) Approved() bool {
	return p.Choices.Approved != nil && p.Choices.Approved.Removals == p.Info.Totals[Remove].Count
}
