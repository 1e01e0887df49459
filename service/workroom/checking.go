package workroom

import (
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"strings"
	"sync/atomic"
	"time"

	"github.com/dustin/go-humanize"
	"golang.org/x/sync/errgroup"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/place/kind"
	"lumtra/core/plan"
	"lumtra/core/probe"
	"lumtra/core/rule"
	"lumtra/service/workspace"
)

// Weight is how much a check matters.
type Weight string

// The weights.
const (
	Fine Weight = "fine"
	Look Weight = "warning" // a person should know
	Stop Weight = "blocker" // the run would fail, in part or as a whole
)

// Fix names what can mend a check from where it is shown.
type Fix string

// The fixes.
const (
	NoFix        Fix = ""
	FixTest      Fix = "test the endpoints"
	FixVersions  Fix = "switch versioning on"
	FixRestore   Fix = "ask for the restores"
	FixPartWider Fix = "widen the parts"
	FixPack      Fix = "put them into packs"
)

// Check is something looked at before the first byte.
type Check struct {
	Name  string `json:"name"`
	Weigh Weight `json:"weight"`
	// Found says what was found, Mend what a person can do about it.
	Found string `json:"found"`
	Mend  string `json:"mend,omitempty"`
	Fix   Fix    `json:"fix,omitempty"`
	// Blocks tells that a run does not begin despite it, unless a person names it.
	Blocks bool `json:"blocks,omitempty"`
}

// checks are those of one plan being made.
type checks struct {
	work *Room
	ctx  context.Context
	j    *job.Job
	x    *sides
	info *plan.Info
	// arrived are the bytes that an earlier run of the plan has brought.
	arrived int64
	all     []Check
}

func (c *checks) add(name string, w Weight, mend string, fix Fix, found string, args ...any) {
	c.all = append(c.all, Check{Name: name, Weigh: w, Found: fmt.Sprintf(found, args...), Mend: mend, Fix: fix})
}

// block makes the check that was added last one that blocks.
func (c *checks) block() { c.all[len(c.all)-1].Blocks = true }

// Checks looks, before a plan is run, at what could keep it from coming out
// well. It asks both places a few small things.
func (s *Room) Checks(ctx context.Context, name string, number int) ([]Check, error) {
	j, err := s.ws.Job(name)
	if err != nil {
		return nil, err
	}
	p, x, err := s.planned(ctx, j, number)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	c := &checks{work: s, ctx: ctx, j: j, x: x, info: &p.Info}
	c.listings()
	c.permissions()
	c.promises()
	c.metadata()
	c.afterwards()
	c.digests()
	c.versioning()
	c.room()
	c.names(p)
	c.parts()
	c.cold(p)
	c.limits(p)
	c.packing()
	c.credentials()
	c.clocks()
	return c.all, ctx.Err()
}

// planned opens a plan, which the caller closes, and the job's two places.
func (s *Room) planned(ctx context.Context, j *job.Job, number int) (*plan.Plan, *sides, error) {
	p, err := s.PlanNumber(j.Name, number)
	if err != nil {
		return nil, nil, err
	}
	x, err := s.places(ctx, j)
	if err != nil {
		p.Close()
		return nil, nil, err
	}
	return p, x, nil
}

func (c *checks) listings() {
	if missed := c.info.Source.Missed + c.info.Target.Missed; missed > 0 {
		c.add("listing", Stop, "mend access to them and plan anew; until then nothing is deleted", NoFix,
			"%d parts could not be listed", missed)
		return
	}
	c.add("listing", Fine, "", NoFix, "both sides were listed whole %s",
		age(c.work.ws.Now().Sub(older(c.info.Source.Began, c.info.Target.Began))))
}

func older(a, b time.Time) time.Time {
	if a.Before(b) {
		return a
	}
	return b
}

func age(d time.Duration) string {
	if d < time.Minute {
		return "just now"
	}
	now := time.Unix(0, 0) // any will do
	return humanize.RelTime(now.Add(-d), now, "ago", "ahead")
}

// permissions are those an endpoint test found.
func (c *checks) permissions() {
	t := &c.info.Totals
	for _, side := range []struct {
		at    string
		p     place.Place
		steps []string
	}{{c.j.Source, c.x.source, sourceNeeds(c.j.Afterwards)}, {c.j.Target, c.x.target, []string{"list", "write",
		"delete"}}} {
		end, _ := job.SplitPlace(side.at)
		if end == workspace.TrayEndpoint {
			continue
		}
		r := c.work.ws.Report(end)
		if r == nil {
			c.add("permissions", Look, "test it", FixTest, "%s was never tested: what it allows is not known", end)
			continue
		}
		var refused, untried []string
		mend, asked := "", true
		for _, step := range side.steps {
			if x := r.Check(step); x.Name == "" || x.Outcome == probe.Untried {
				untried = append(untried, step)
			} else if x := r.Check(step); x.Outcome == probe.Refused &&
				(step != "delete" || t[plan.Remove].Count > 0 || side.at == c.j.Source) {
				still, now := c.still(end, side.at, side.p, step)
				if still {
					refused, mend, asked = append(refused, step), x.Mend, asked && now
				}
			}
		}
		if len(refused) > 0 {
			when := "when it was tested"
			if asked {
				when += ", and does so now"
			}
			c.add("permissions", Stop, mend+"; `lumtra endpoint test "+end+"` tests it anew", FixTest,
				"%s denied to %s %s", end, strings.Join(refused, ", "), when)
			c.block()
			continue
		}
		if len(untried) > 0 {
			c.add("permissions", Look, "test it again: its last test came to an end before that", FixTest,
				"whether %s allows to %s was not tested", end, strings.Join(untried, ", "))
			continue
		}
		c.add("permissions", Fine, "", NoFix, "%s allowed what is needed when it was tested %s", end,
			age(c.work.ws.Now().Sub(r.At)))
	}
}

// still asks again, and alone, what a kept test was refused: before that stops a run, it has to be so
// now. What nobody answers is left to the run. asked is false where it may not be asked, or cannot.
func (c *checks) still(end, at string, p place.Place, step string) (still, asked bool) {
	e := c.work.ws.Workspace().Endpoints[end]
	if e == nil || e.Test == kind.TestNever && step != "list" && step != "read" {
		return true, false
	}
	_, path := job.SplitPlace(at)
	prefix, done, err := c.work.ws.Testing(c.ctx, end, path)
	if err != nil {
		return true, false
	}
	err = probe.Ask(c.ctx, p, prefix, step)
	done(true)
	return err != nil && !place.Disturbing(err), true
}

// promises are the ways in which a run keeps what Lumtra promises, here and now.
func (c *checks) promises() {
	if c.info.NothingToDo() {
		return
	}
	ways := promises(c.x)
	for _, w := range ways.Shown() {
		weight, mend := Fine, ""
		if w.Weak {
			weight = Look
			switch {
			case w.Name == place.NotOverwritten:
				mend = "see that nobody else writes there meanwhile; races = \"refuse\" in the job's safety " +
					"limits refuses " +
					"such a run"
			case w.Name == place.ReadWhole:
				mend = "read-twice = true in the job reads what cannot be held against anything twice"
			}
		}
		c.add(string(w.Name), weight, mend, NoFix, "%s", w.Way)
	}
}

// metadata looks whether the target was seen to lose them.
func (c *checks) metadata() {
	known := place.Can(c.x.target).Known
	switch {
	case c.info.Totals.Work().Count == 0:
	case known.Lacks(place.KeepsMeta):
		c.add("metadata", Look, "", NoFix,
			"the store at %s keeps no metadata: original times, permissions and metadata are lost there", c.j.Target)
	case known.Lacks(place.KeepsMeta2K):
		c.add("metadata", Look, "", NoFix,
			"the store at %s keeps less than 2 KB of metadata an object; those with more are refused or lose some",
			c.j.Target)
	}
}

// digests looks whether the target can keep those the job asks for.
func (c *checks) digests() {
	kind, _ := c.j.DigestKind()
	if kind == object.NoSum || c.info.Totals.Work().Count == 0 {
		return
	}
	name := strings.ToUpper(kind.String())
	can := place.Can(c.x.target)
	if can.Digests == nil {
		c.add("digests", Fine, "", NoFix, "%s is noted with the run; files keep none, and a proof reads them anyway",
			name)
		return
	}
	if can.DigestsAfter && can.Tags == nil && c.work.cut(c.j, c.x).Parts(c.info.Largest) > 0 {
		c.add("digests", Look,
			"allow the credentials to set tags, or leave it: proofs then read those objects once more", FixTest,
			"%s of objects in parts is kept as a tag, and %s denied that when it was tested", name, c.x.lands)
		return
	}
	c.add("digests", Fine, "", NoFix, "%s is computed on the way and kept with each object", name)
}

// sourceNeeds are the steps of a test that a source has to pass.
func sourceNeeds(a rule.Afterwards) []string {
	needs := []string{"list", "read"}
	if a.Leaves() {
		needs = append(needs, "delete")
	}
	if a == rule.ArchiveSource {
		needs = append(needs, "write")
	}
	return needs
}

// afterwards looks whether the source can do what is to become of it.
func (c *checks) afterwards() {
	n := c.info.Afterwards
	switch why := place.Can(c.x.source).Lacks(place.Tags); {
	case n.Count == 0:
	case c.j.Afterwards == rule.TagSource && why != "":
		c.add("afterwards", Stop, "choose another place, or afterwards = \"keep\"", NoFix,
			"%s would be tagged at the source, but %s", object.Count(n.Count, "object"), why)
		c.block()
	case c.j.Afterwards == rule.DeleteSource:
		c.add("afterwards", Look, "", NoFix,
			"deletes %s, %s, at the source, each once its copy is proven by %s", object.Count(n.Count, "object"),
			humanize.IBytes(uint64(n.Bytes)), c.j.Proof)
	default:
		c.add("afterwards", Fine, "", NoFix,
			"sees to %s at the source, each once its copy is proven by %s", object.Count(n.Count, "object"),
			c.j.Proof)
	}
}

func (c *checks) versioning() {
	end, path := job.SplitPlace(c.j.Target)
	e, err := c.work.ws.Endpoint(end)
	v := place.EndpointCan(e).Versioning
	if err != nil || v == nil {
		return
	}
	bucket, _, _ := strings.Cut(path, "/")
	at := end + "/" + bucket
	state, err := v.Versioning(c.ctx, bucket)
	touched := c.info.Totals[plan.Change].Count + c.info.Totals[plan.Remove].Count
	switch {
	case err != nil:
		c.add("versions", Look, "", NoFix, "%s does not say whether it keeps versions", at)
	case state == place.VersioningOn:
		c.add("versions", Fine, "", NoFix, "%s keeps older versions", at)
	case touched == 0:
		c.add("versions", Fine, "", NoFix, "%s keeps no versions, and this plan replaces and deletes nothing", at)
	default:
		c.add("versions", Look, "switch versioning on, and what is replaced or deleted can be brought back",
			FixVersions, "%s keeps no versions: what is replaced or deleted there, %s, goes permanently", at,
			object.Count(touched, "object"))
	}
}

func (c *checks) room() {
	r := place.Can(c.x.target).Room
	if r == nil {
		return
	}
	free, err := r.Room(c.ctx)
	if err != nil {
		c.add("room", Look, "", NoFix, "how much room is left at %s is not known", c.x.lands)
		return
	}
	// What is replaced stays until the new one is whole.
	need := max(c.info.Totals[plan.Add].Bytes-c.arrived, 0) + c.info.Largest
	if c.info.Totals[plan.Change].Bytes > 0 {
		need += max(c.info.Totals[plan.Change].Bytes-c.info.Asides.Bytes, 0) / 8
	}
	if need > free {
		c.add("room", Stop, "make room, choose another target, or strike something out", NoFix,
			"%s has %s free, the plan needs about %s", c.x.lands, humanize.IBytes(uint64(free)),
			humanize.IBytes(uint64(need)))
		c.block()
		return
	}
	c.add("room", Fine, "", NoFix, "%s free, %s needed at the most", humanize.IBytes(uint64(free)),
		humanize.IBytes(uint64(need)))
}

func (c *checks) names(p *plan.Plan) {
	b := c.info.Blocked
	if n := b[plan.NameNotHeld]; n > 0 {
		c.add("names", Stop, "rename them, or exclude them from the job", NoFix,
			"%s names cannot be held by the target", humanize.Comma(n))
	}
	if n := b[plan.NameClash]; n > 0 {
		c.add("names", Stop, "rename them, or exclude them from the job", NoFix,
			"%s keys would be an object and a folder at once", humanize.Comma(n))
	}
	if r := place.Can(c.x.target).Room; r != nil && r.FoldsCase() {
		if twins, first := caseTwins(c.ctx, p); twins > 0 {
			c.add("names", Stop, "rename one of each, or use a target that tells capitals apart", NoFix,
				"%s names differ from another in capitals only, which this target does not see: %s",
				humanize.Comma(twins), object.Display(first))
			return
		}
	}
	if b[plan.NameNotHeld]+b[plan.NameClash] == 0 {
		c.add("names", Fine, "", NoFix, "the target can hold every name")
	}
}

// caseTwins counts keys that another has in other capitals. It holds 8 bytes a
// key.
func caseTwins(ctx context.Context, p *plan.Plan) (n int64, first string) {
	seed, seen := maphash.MakeSeed(), map[uint64]struct{}{}
	cur := p.Effects("")
	for cur.Next() && ctx.Err() == nil {
		e := cur.Effect()
		if e.Kind == plan.LeftOut && e.Target == nil || e.Kind == plan.Remove {
			continue
		}
		h := maphash.String(seed, strings.ToLower(e.Key))
		if _, ok := seen[h]; ok {
			if n++; first == "" {
				first = e.Key
			}
		}
		seen[h] = struct{}{}
	}
	return n, first
}

func (c *checks) parts() {
	if pack.Of(c.x.target) != nil || pack.SetOf(c.x.target) != nil {
		c.packParts()
		return
	}
	a := c.work.ws.Found(c.j.Target, c.x.target)
	if n := c.info.Blocked[plan.TooLarge]; n > 0 {
		c.add("sizes", Stop, "exclude them, or split them before", NoFix,
			"too large for the target (%[2]s): %[1]s", object.Count(n, "object"), humanize.IBytes(uint64(a.MaxObject)))
	}
	sizes := c.work.cut(c.j, c.x)
	parts := sizes.Parts(c.info.Largest)
	if a.MaxParts == 0 || parts == 0 {
		return
	}
	wanted, needs := sizes.Part, sizes.Of(c.info.Largest)
	if needs > wanted {
		c.add("parts", Look, "write the wider parts into the job, so that it says what happens", FixPartWider,
			"the largest object, %s, would take more than %s parts of %s; it goes in parts of %s",
			humanize.IBytes(uint64(c.info.Largest)),
			humanize.Comma(int64(a.MaxParts)), humanize.IBytes(uint64(wanted)), humanize.IBytes(uint64(needs)))
		return
	}
	c.add("parts", Fine, "", NoFix, "the largest object, %s, goes in %s of %s parts",
		humanize.IBytes(uint64(c.info.Largest)), humanize.Comma(parts), humanize.Comma(int64(a.MaxParts)))
}

// coldLooks is how many objects of a cold class are looked at, whether they have been
// restored.
const coldLooks = 20

func (c *checks) cold(p *plan.Plan) {
	if n := c.info.Cold; n.Count > 0 {
		if looked, asleep := c.asleep(p); looked > 0 && asleep == 0 {
			c.add("cold", Look, "", NoFix,
				"in a cold class lie %s, %s; the %d that were looked at have been restored",
				humanize.Comma(n.Count), humanize.IBytes(uint64(n.Bytes)), looked)
			return
		}
		c.add("cold", Stop, "ask for them to be restored, wait, and run then; asking may cost", FixRestore,
			"in a cold class, where nothing can be read at once, lie %s, %s", object.Count(n.Count, "object"),
			humanize.IBytes(uint64(n.Bytes)))
		c.block()
	}
}

// asleep looks at the first objects of a cold class, and counts those that cannot be
// read now.
func (c *checks) asleep(p *plan.Plan) (looked, asleep int) {
	for cur := p.Effects(""); looked < coldLooks && cur.Next() && c.ctx.Err() == nil; {
		e := cur.Effect()
		if !e.Kind.Moves() || e.Back || !object.IsCold(e.Source.Class) {
			continue
		}
		looked++
		there, err := c.x.source.Stat(c.ctx, object.Ref{Key: e.Key})
		if err != nil || there.Archive != object.Restored && there.Archive != object.Online {
			asleep++
		}
	}
	return looked, asleep
}

func (c *checks) credentials() {
	late := c.work.Estimate(c.ctx, c.j, c.info).Late
	ends := c.work.ws.Expiring(c.work.ws.Now())
	for _, at := range []string{c.j.Source, c.j.Target} {
		end, _ := job.SplitPlace(at)
		until, ok := ends[end]
		switch {
		case !ok:
		case until.Before(c.work.ws.Now()):
			c.add("credentials", Stop, "rotate it: K in Places", NoFix, "the credential of %s ran out %s", end,
				until.Local().Format("2006-01-02 15:04"))
			c.block()
		case until.Before(c.work.ws.Now().Add(late)):
			c.add("credentials", Stop, "rotate it before the run: K in Places", NoFix,
				"the credential of %s ends %s, and the run may take until %s", end,
				until.Local().Format("2006-01-02 15:04"), c.work.ws.Now().Add(late).Format("2006-01-02 15:04"))
		default:
			c.add("credentials", Look, "rotate it soon: K in Places", NoFix, "the credential of %s ends %s", end,
				until.Local().Format("2006-01-02 15:04"))
		}
	}
}

func (c *checks) clocks() {
	for _, at := range []string{c.j.Source, c.j.Target} {
		end, _ := job.SplitPlace(at)
		if r := c.work.ws.Report(end); r != nil && r.Skew.Abs() >= time.Second {
			c.add("clocks", Look, "set the clocks right, or compare by content", NoFix, "the clock of %s is %s off",
				end, r.Skew.Abs().Round(time.Second))
		}
	}
}

// Mend does what a check offers. It returns, in words, what was done.
func (s *Room) Mend(ctx context.Context, name string, number int, fix Fix) (string, error) {
	ctx, done, ok := s.ws.Life.Begin(ctx)
	if !ok {
		return "", context.Canceled
	}
	defer done()
	j, err := s.ws.Job(name)
	if err != nil {
		return "", err
	}
	from, _ := job.SplitPlace(j.Source)
	to, path := job.SplitPlace(j.Target)
	switch fix {
	case FixTest:
		for _, side := range []struct {
			end, at string
			write   bool
		}{{from, j.Source, j.Afterwards.Leaves()}, {to, j.Target, true}} {
			a, err := s.ws.AtOf(side.at)
			if err != nil {
				return "", err
			}
			if _, err := s.ws.TestEndpoint(ctx, side.end,
				probe.Options{Bucket: a.Bucket, Write: side.write}); err != nil {
				return "", err
			}
		}
		return "both endpoints were tested", nil
	case FixVersions:
		bucket, _, _ := strings.Cut(path, "/")
		e, err := s.ws.Endpoint(to)
		v := place.EndpointCan(e).Versioning
		if err != nil || v == nil {
			return "", errors.Join(err, errors.New("this endpoint has no versions to switch on"))
		}
		if err := v.SetVersioning(ctx, bucket, true); err != nil {
			return "", err
		}
		if state, err := v.Versioning(ctx, bucket); err != nil || state != place.VersioningOn {
			return "", errors.Join(err, fmt.Errorf("%s/%s was asked, but reads back as %q", to, bucket, state))
		}
		return fmt.Sprintf("%s/%s keeps versions now", to, bucket), nil
	case FixRestore:
		return s.restoreCold(ctx, j, number)
	case FixPartWider:
		return s.widenParts(ctx, j, number)
	case FixPack:
		return s.packIt(j)
	}
	return "", workspace.BadInput(fmt.Errorf("nothing mends that: %q", fix))
}

// restoreDays is how long a restored copy is asked to stay.
const restoreDays = 7

func (s *Room) restoreCold(ctx context.Context, j *job.Job, number int) (string, error) {
	p, x, err := s.planned(ctx, j, number)
	if err != nil {
		return "", err
	}
	defer p.Close()
	r := place.Can(x.source).Restores
	if r == nil {
		return "", workspace.BadInput(errors.New(place.Can(x.source).Lacks(place.Restores)))
	}
	var asked atomic.Int64
	group, groupCtx := errgroup.WithContext(ctx)
	group.SetLimit(8)
	cur := p.Effects("")
	for cur.Next() && groupCtx.Err() == nil {
		e := cur.Effect()
		if !e.Kind.Moves() || e.Back || !object.IsCold(e.Source.Class) {
			continue
		}
		key := e.Key
		group.Go(func() error {
			err := r.Restore(groupCtx, object.Ref{Key: key}, place.RestoreOptions{Days: restoreDays})
			if err == nil {
				asked.Add(1)
			}
			return err
		})
	}
	err = errors.Join(group.Wait(), cur.Err())
	return fmt.Sprintf("%s asked to come back for %s", object.Count(asked.Load(), "object"),
		object.Count(restoreDays, "day")), err
}

func (s *Room) widenParts(ctx context.Context, j *job.Job, number int) (string, error) {
	p, x, err := s.planned(ctx, j, number)
	if err != nil {
		return "", err
	}
	defer p.Close()
	needs := humanize.IBytes(uint64(s.cut(j, x).Of(p.Info.Largest)))
	text, err := s.ws.Workspace().Text(j.Name)
	if err == nil {
		text, err = job.Set(text, strings.ReplaceAll(needs, " ", ""), "limits", "part-size")
	}
	if err == nil {
		err = s.ws.SaveJob(j.Name, j.Name, text)
	}
	return "the job says part-size = " + needs + " now", err
}
