package demo

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"lumtra/core/history"
	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/service"
	"lumtra/service/cycle"
	"lumtra/service/workroom"
)

// Say tells an event of the story: a name and fields for programs, a sentence
// for people.
type Say func(event string, fields map[string]any, sentence string)

// Job is the job the story is about.
const Job = "nightly-masters"

// Story goes through survey, plan, run and proof on the world in dir, then
// plans once more, then changes, adds and removes a file and plans again. It
// fails when any step does not come out as it must.
func Story(ctx context.Context, dir string, s *service.Service, say Say) error {
	t := &teller{ctx: ctx, dir: dir, s: s, say: say}
	before, err := t.plan("the first plan")
	if err != nil {
		return err
	}
	if err := t.runAndProve(); err != nil {
		return err
	}
	again, err := t.plan("the same job once more")
	if err != nil {
		return err
	}
	if n := effectsOf(again); len(n) != 0 {
		return fmt.Errorf("the second plan should have nothing to do, but has %d effects", len(n))
	}
	say("nothing_to_do", nil, "Nothing to do, as it should be: what is there is the same.")
	want, err := t.meddle()
	if err != nil {
		return err
	}
	third, err := t.plan("after a change, an addition and a deletion")
	if err != nil {
		return err
	}
	for key, kind := range before { // extras of an earlier telling stay extras
		if _, ours := want[key]; kind == plan.Extra && !ours {
			want[key] = kind
		}
	}
	if fmt.Sprint(third) != fmt.Sprint(want) {
		return fmt.Errorf("the plan should name %v, but names %v", want, third)
	}
	return t.runAndProve()
}

type teller struct {
	ctx context.Context
	dir string
	s   *service.Service
	say Say

	number int // of the plan that was made last
}

// plan makes a plan and returns every effect but the same.
func (t *teller) plan(what string) (map[string]plan.Kind, error) {
	info, err := t.s.Plan(t.ctx, Job, workroom.Freshness{}, &workroom.Activity{})
	if err != nil {
		return nil, err
	}
	t.number = info.Number
	t.say("surveyed", map[string]any{"source": info.Source.Place, "source_objects": info.Source.Objects,
		"source_bytes": info.Source.Bytes,
		"target":       info.Target.Place, "target_objects": info.Target.Objects},
		fmt.Sprintf("Surveyed %s: %s objects, %s; and %s: %s objects.", info.Source.Place,
			humanize.Comma(info.Source.Objects),
			humanize.IBytes(uint64(info.Source.Bytes)), info.Target.Place, humanize.Comma(info.Target.Objects)))
	t.say("planned", map[string]any{"plan": info.Number, "totals": info.Totals.Map()},
		fmt.Sprintf("Plan %d (%s): %d to add, %d to change, %d the same, %d only at the target.", info.Number, what,
			info.Totals[plan.Add].Count, info.Totals[plan.Change].Count, info.Totals[plan.Same].Count,
			info.Totals[plan.Extra].Count))
	p, err := t.s.PlanNumber(Job, info.Number)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	found := map[string]plan.Kind{}
	c := p.Effects("")
	for c.Next() {
		e := c.Effect()
		if e.Kind == plan.Same {
			continue
		}
		found[e.Key] = e.Kind
		if info.Totals.All().Count-info.Totals[plan.Same].Count <= 20 {
			t.say("effect", map[string]any{"effect": e.Kind, "key": object.Display(e.Key), "bytes": e.Bytes(),
				"why": e.Why()},
				fmt.Sprintf("    %-7s %s — %s", e.Kind, object.Display(e.Key), e.Why()))
		}
	}
	return found, c.Err()
}

func effectsOf(effects map[string]plan.Kind) []string {
	var keys []string
	for k, kind := range effects {
		if kind.Moves() {
			keys = append(keys, k)
		}
	}
	return keys
}

// runAndProve carries out the plan that was made last, and proves it.
func (t *teller) runAndProve() error {
	var ran history.Run
	var proved *workroom.Proof
	err := t.s.Cycle().Go(t.ctx, Job, cycle.Policy{Number: t.number, Prove: &workroom.ProveOptions{}},
		func(step cycle.Step) {
			switch step := step.(type) {
			case cycle.Ran:
				ran = step.Run
				took := ran.Ended.Sub(ran.Began)
				t.say("ran", map[string]any{"plan": ran.Plan, "end": ran.End, "objects": ran.Objects,
					"bytes": ran.Bytes, "failed": ran.Failed, "seconds": took.Seconds()},
					fmt.Sprintf("Ran plan %d: %s objects, %s in %s, %s/s; %d failed.", ran.Plan,
						humanize.Comma(ran.Objects), humanize.IBytes(uint64(ran.Bytes)),
						took.Round(time.Millisecond), humanize.IBytes(uint64(float64(ran.Bytes)/took.Seconds())),
						ran.Failed))
			case cycle.Proved:
				proved = step.Proof
				t.say("proved", map[string]any{"method": proved.Method, "holds": proved.Holds(),
					"objects": proved.Objects, "manifest": filepath.Join(proved.Dir, "manifest.jsonl")},
					fmt.Sprintf("Proved by %s: %d of %d objects are the same at both sides.", proved.Method,
						proved.Objects["same"],
						proved.Objects["same"]+proved.Objects["different"]+proved.Objects["missing"]+
							proved.Objects["not compared"]))
			}
		})
	switch {
	case errors.Is(err, workroom.ErrNothingToDo):
		t.say("nothing_to_do", nil, "Everything is there already.")
	case err != nil:
		return err
	}
	switch {
	case t.ctx.Err() != nil:
		return t.ctx.Err()
	case ran.Failed > 0:
		return fmt.Errorf("%d objects failed", ran.Failed)
	case proved == nil || !proved.Holds():
		return errors.New("the proof does not hold")
	}
	return nil
}

// meddle changes, adds and removes one master each and tells what a plan must
// make of it.
func (t *teller) meddle() (map[string]plan.Kind, error) {
	root := filepath.Join(t.dir, "studio/masters")
	var sidecars []string
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(path, ".json") {
			sidecars = append(sidecars, path)
		}
		return err
	})
	if err != nil || len(sidecars) < 3 {
		return nil, errors.Join(err, errors.New("the demo world has lost its sidecars"))
	}
	slices.Sort(sidecars)
	changed, removed := sidecars[0], sidecars[len(sidecars)-1]
	added := filepath.Join(root, "weir", "found again "+time.Now().Format("20060102-150405.000")+".wav")
	f, err := os.OpenFile(changed, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		return nil, err
	}
	if _, err := f.WriteString("\n"); err != nil {
		return nil, err
	}
	if err := errors.Join(f.Close(), os.Remove(removed), wav(t.ctx, added, 4711, 3, time.Now())); err != nil {
		return nil, err
	}
	want := map[string]plan.Kind{}
	for path, kind := range map[string]plan.Kind{changed: plan.Change, removed: plan.Extra, added: plan.Add} {
		key, err := filepath.Rel(root, path)
		if err != nil {
			return nil, err
		}
		want[filepath.ToSlash(key)] = kind
	}
	t.say("meddled", map[string]any{"changed": 1, "added": 1, "deleted": 1},
		"Changed one sidecar, added one recording, deleted one sidecar.")
	return want, nil
}
