package workroom

import (
	"errors"
	"fmt"

	"github.com/dustin/go-humanize"

	"lumtra/core/cut"
	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/rule"
	"lumtra/service/workspace"
)

// mendByPacks is what a person can do where packs would help.
const mendByPacks = "put them into packs, by changing the job's target"

// packing tells what the plan would take as one pack, where that helps.
func (c *checks) packing() {
	est := c.work.Estimate(c.ctx, c.j, c.info)
	if est.AsPack == nil || packedTarget(c.j) == "" {
		return
	}
	c.add("packs", Fine, mendByPacks, FixPack, "as one pack the plan sends %s to the target, as they are %s",
		object.Count(est.AsPack.Target.All(), "request"), object.Count(est.Target.All(), "request"))
}

// packParts tells in what parts a pack goes.
func (c *checks) packParts() {
	what, most, kept := "the pack", int64(0), int64(0)
	var at place.Place
	if in := pack.Of(c.x.target); in != nil {
		outer, key, _ := in.Outer()
		if at = outer; c.info.NothingToDo() {
			return
		}
		e, err := outer.Stat(c.ctx, object.Ref{Key: key})
		if err != nil && place.KindOf(err) != place.NotFound {
			return // as others of the checks tell
		}
		work := c.info.Totals.Work()
		most, kept = work.Bytes+pack.HeadRoom*work.Count, e.Size
	} else {
		what, at = "a pack", pack.SetOf(c.x.target).Packs()
		if most, _ = c.j.Packs.Sizes(); c.j.Packs.By == rule.ByFolder {
			return // their sizes are not known
		}
	}
	can := place.Can(at)
	sizes, round := cut.For(c.j.Limits.PartBytes, can.Abilities, false), pack.Round(can)
	if round > 0 && most > round && c.info.Largest+pack.HeadRoom <= round && (can.MaxObject == 0 ||
		kept+most <= can.MaxObject) {
		c.add("parts", Fine, "", NoFix, "%s goes in %s of %s at the most; after each it is there with what it has "+
			"so far", what, object.Count((most+round-1)/round, "round"), humanize.IBytes(uint64(round)))
		return
	}
	part, err := pack.PartSize(can, sizes, kept, most)
	switch {
	case err != nil:
		c.add("parts", Stop, "have the job make several packs", NoFix, "%s", err)
	case can.MaxParts > 0 && most > part:
		c.add("parts", Fine, "", NoFix, "%s, %s at the most, goes in %s of %s parts of %s", what,
			humanize.IBytes(uint64(most)), humanize.Comma((most+part-1)/part), humanize.Comma(int64(can.MaxParts)),
			humanize.IBytes(uint64(part)))
	}
}

// limits holds what the target would hold against what its endpoint says it may.
func (c *checks) limits(p *plan.Plan) {
	end, _ := job.SplitPlace(c.j.Target)
	e := c.work.ws.Workspace().Endpoints[end]
	if e == nil || e.MaxObjects == 0 {
		return
	}
	will, err := c.objectsAfter(p)
	if err != nil {
		c.add("objects", Look, "", NoFix, "how many objects there would be could not be counted: %s", err)
		return
	}
	if will <= e.MaxObjects {
		c.add("objects", Fine, "", NoFix, "%s there after the run, %s are allowed", object.Count(will, "object"),
			humanize.Comma(e.MaxObjects))
		return
	}
	mend, fix, found := "spread them over more buckets", NoFix, ""
	if packs := c.packsFor(); packs > 0 && packs <= e.MaxObjects && packedTarget(c.j) != "" {
		mend, fix = mendByPacks, FixPack
		found = fmt.Sprintf("; it fits in packs, as %s", object.Count(packs, "object"))
	}
	c.add("objects", Stop, mend, fix, "the target would hold %s at least, and %s takes %s a bucket%s",
		object.Count(will, "object"), end, humanize.Comma(e.MaxObjects), found)
	c.block()
}

// objectsAfter is how many objects there are at the target after the run, as far as the plan knows them.
func (c *checks) objectsAfter(p *plan.Plan) (int64, error) {
	if pack.Of(c.x.target) != nil {
		return 1, nil
	}
	set := pack.SetOf(c.x.target)
	if set == nil {
		return c.info.Target.Objects + c.info.Totals[plan.Add].Count - c.info.Totals[plan.Remove].Count, nil
	}
	names, err := set.All(c.ctx)
	if err != nil {
		return 0, err
	}
	packs, beside, by := map[string]bool{}, int64(0), set.NewDivision(c.j.Packs)
	for _, name := range names {
		packs[name] = true
	}
	cur := p.Effects("")
	for cur.Next() {
		if e := cur.Effect(); e.Target != nil {
			by.Saw(e.Target)
		}
	}
	if err := cur.Err(); err != nil {
		return 0, err
	}
	for cur = p.Effects(""); cur.Next() && c.ctx.Err() == nil; {
		e := cur.Effect()
		switch {
		case e.Target != nil && set.PackOf(e.Target) == "" && e.Kind != plan.Remove:
			beside++
		case e.Target == nil && e.Kind.Acts():
			if name := by.Of(e.Key, e.Sent().Size, nil); name != "" {
				packs[name] = true
			} else {
				beside++
			}
		}
	}
	return int64(len(packs)) + beside, errors.Join(cur.Err(), c.ctx.Err())
}

// packsFor is how many packs hold what the target would, at the size that packs have by themselves.
func (c *checks) packsFor() int64 {
	all := c.info.Selected
	return (all.Bytes+pack.HeadRoom*all.Count)/rule.DefaultPack + 1
}

// packedTarget is the job's target as packs; "" where it is that already, or cannot be.
func packedTarget(j *job.Job) string {
	end, at := job.SplitPlace(j.Target)
	if at == "" || pack.Leads(at) || j.Direction == rule.TwoWay || j.TargetOnly == rule.MoveToTrash ||
		j.WhenDifferent == rule.KeepBoth || j.As.Tags || len(j.As.Gzip) > 0 {
		return ""
	}
	return end + "/" + pack.AsSet(at, pack.Zstd)
}

// packIt has a job pack what it sends.
func (s *Room) packIt(j *job.Job) (string, error) {
	target := packedTarget(j)
	if target == "" {
		return "", workspace.BadInput(errors.New("this job's target cannot be packs: see docs/packs.md"))
	}
	text, err := s.ws.Workspace().Text(j.Name)
	if err == nil {
		text, err = job.Set(text, target, "target")
	}
	if err == nil {
		err = s.ws.SaveJob(j.Name, j.Name, text)
	}
	return "the job says target = " + object.Display(target) + " now: plan it anew", err
}
