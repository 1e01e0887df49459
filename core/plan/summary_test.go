package plan_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/plan/plantest"
	"lumtra/core/rule"
)

// counted goes through a plan's effects and counts them by hand.
func counted(p *plan.Plan, rules *rule.Rules) (s plan.Summary) {
	count := func(t *plan.Total, bytes int64) { t.Count++; t.Bytes += bytes }
	for c := p.Effects(""); c.Next(); {
		e := c.Effect()
		sent, over := e.Source, e.Target
		if e.Back {
			sent, over = over, sent
		}
		bytes := int64(0)
		switch {
		case e.Kind == plan.Remove || e.Kind == plan.Extra:
			bytes = over.Size
		case sent != nil:
			bytes = sent.Size
		case over != nil:
			bytes = over.Size
		}
		count(&s.Totals[e.Kind], bytes)
		if e.Kind == plan.Blocked {
			if s.Blocked == nil {
				s.Blocked = map[plan.Reason]int64{}
			}
			s.Blocked[e.Reason]++
			if sent.Kind != object.Special {
				s.Left++
			}
		}
		if e.Kind == plan.Same && len(s.Alike) < 5 {
			s.Alike = append(s.Alike, plan.Example{Key: e.Key, Kind: plan.Same})
		}
		if e.Reason == plan.SameContent || e.Reason == plan.OtherContent {
			s.Compared++
		}
		moves := e.Kind == plan.Add || e.Kind == plan.Change
		acts := moves || e.Kind == plan.Remove || e.Kind == plan.Meta
		if acts && e.Aside != "" {
			count(&s.Asides, over.Size)
		}
		if acts && e.Back {
			count(&s.Back, bytes)
			if e.Kind == plan.Remove {
				s.BackRemovals++
			}
		}
		if rules.Afterwards.Leaves() && (moves || e.Kind == plan.Same || e.Kind == plan.Meta) {
			count(&s.Afterwards, e.Source.Size)
		}
		if !moves {
			continue
		}
		if sent.Class == "GLACIER" {
			count(&s.Cold, bytes)
		}
		s.Largest = max(s.Largest, bytes)
		class := 0
		for limit := int64(1024); class < len(s.Sizes)-1 && bytes >= limit; limit *= 4 {
			class++
		}
		count(&s.Sizes[class], bytes)
		if len(s.Examples) < 5 {
			s.Examples = append(s.Examples, plan.Example{Key: e.Key, Kind: e.Kind, Back: e.Back})
		}
	}
	return s
}

// What a plan says it comes to is what its effects come to, however many stretches of keys
// were judged at once, one way and both.
func TestSummaryAddsUp(t *testing.T) {
	with := func(change func(*rule.Rules)) rule.Rules {
		r := rule.Default()
		change(&r)
		return r
	}
	for name, rules := range map[string]rule.Rules{
		"trash":     with(func(r *rule.Rules) { r.TargetOnly, r.WhenDifferent = rule.MoveToTrash, rule.KeepBoth }),
		"move":      with(func(r *rule.Rules) { r.Afterwards = rule.DeleteSource }),
		"two-way":   with(func(r *rule.Rules) { r.Direction, r.Conflicts = rule.TwoWay, rule.BothStay }),
		"conflicts": with(func(r *rule.Rules) { r.Direction = rule.TwoWay }),
		"content":   with(func(r *rule.Rules) { r.CompareBy, r.TargetOnly = rule.ByContent, rule.DeleteThere }),
	} {
		t.Run(name, func(t *testing.T) {
			dir, rnd := t.TempDir(), rand.New(rand.NewPCG(99, 3))
			w := &plantest.World{Source: plantest.Tree{}, Target: plantest.Tree{}, Agreed: plantest.Agreed{},
				Rules: rules}
			for i := range 18_000 {
				k := fmt.Sprintf("%d/%05d", i%7, i)
				draw := func() object.Entry {
					e := object.Entry{Key: k, Size: int64(1) << rnd.IntN(36),
						Modified: plantest.Now.Add(-time.Duration(rnd.IntN(3)) * time.Hour),
						ETag:     fmt.Sprintf("%0400x", rnd.Uint64())}
					if e.Size -= int64(rnd.IntN(2)); rnd.IntN(9) == 0 {
						e.Class = "GLACIER"
					}
					if rnd.IntN(40) == 0 {
						e.Kind = object.Special
					}
					return e
				}
				e := draw()
				if w.Agreed[k] = [2]object.Entry{e, e}; i%3 == 0 {
					delete(w.Agreed, k)
				}
				for side, into := range []plantest.Tree{w.Source, w.Target} {
					switch (i>>side + rnd.IntN(2)) % 4 {
					case 0:
					case 1:
						into[k] = draw()
					default:
						into[k] = e
					}
				}
			}
			ca, cb := build(t, filepath.Join(dir, "a"), w.Source), build(t, filepath.Join(dir, "b"), w.Target)
			defer ca.Close()
			defer cb.Close()
			require.GreaterOrEqual(t, len(ca.Splits()), 2)
			known := keepStates(t, filepath.Join(dir, "g"), w)
			defer known.Close()
			opts := plan.Options{Job: "masters", Number: 7, Rules: rules, Now: plantest.Now,
				Target: place.Abilities{KeepsTimes: true, MaxObject: 1 << 34},
				Source: place.Abilities{MaxObject: 1 << 33}, Agreed: known}
			if rules.CompareBy == rule.ByContent {
				opts.SameContent = func(_ context.Context, a, b *object.Entry) (bool,
					error) {
					return a.ETag == b.ETag, nil
				}
			}
			p, err := plan.Build(ctx, filepath.Join(dir, "p"), ca, cb, opts)
			require.NoError(t, err)
			defer p.Close()
			got, want := p.Info.Summary, counted(p, &rules)
			want.Selected, want.Tallies, want.Agreed, want.Drifted = got.Selected, got.Tallies, got.Agreed, got.Drifted
			require.Equal(t, want, got)
			require.Positive(t, got.Largest)
			require.Positive(t, got.Cold.Count)
			require.Positive(t, got.Left)
			var selected plan.Total
			for _, e := range w.Source {
				if e.Kind == object.Object {
					selected.Count, selected.Bytes = selected.Count+1, selected.Bytes+e.Size
				}
			}
			require.Equal(t, selected, got.Selected)
			require.EqualValues(t, len(w.Agreed), got.Agreed)
		})
	}
}
