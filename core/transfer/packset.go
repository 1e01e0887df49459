package transfer

import (
	"hash/maphash"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"lumtra/core/cut"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/rule"
)

// share is what one pack takes of a plan.
type share struct {
	in *pack.Place
	// every tells that it takes all effects; else those by number that owner gives to it.
	every bool
	owner func(number int64) *share
	// first and last bound the effects it takes, by number; from is the key of the first.
	first, last int64
	from        string
	// new tells that something comes that is nowhere yet: until is the last key of that, "" for the share
	// that all the rest goes to. beside is what has no effects and comes along, in order.
	new     bool
	until   string
	beside  []string
	removes bool
	// bytes and work are what the pack takes of the plan.
	bytes, work int64
	// more tells that another share of the same pack comes behind it.
	more bool
	// looked tells that what was left out of it is counted.
	looked bool
}

// takes tells whether an effect is the share's.
func (s *share) takes(number int64) bool { return s.every || s.owner(number) == s }

// stretchOf is a stretch of effects with one owner, from a number on.
type stretchOf struct {
	from  int64
	owner *share
}

// division is which effects of a plan go into which pack of a set.
type division struct {
	set       *pack.Set
	shares    []*share // in the order in which their first effects come
	byName    map[string]*share
	stretches []stretchOf
	byFolder  bool
	together  int // packs written at a time
	// taken are effects under whose keys something else lies by now.
	taken map[int64]error
	seed  maphash.Seed
}

// owner is the share that takes an effect, nil for one that lands beside the packs.
func (d *division) owner(number int64) *share {
	lo, hi := 0, len(d.stretches)
	for lo < hi {
		if mid := (lo + hi) / 2; d.stretches[mid].from <= number {
			lo = mid + 1
		} else {
			hi = mid
		}
	}
	if lo == 0 {
		return nil
	}
	return d.stretches[lo-1].owner
}

// loose tells whether an effect is one of an object of its own, as all are where there are no packs.
func (r *run) loose(number int64) bool { return r.packs == nil || r.packs.owner(number) == nil }

// taken tells that something lies under an effect's key by now, where the plan saw nothing.
func (r *run) taken(number int64) error {
	if r.packs == nil {
		return nil
	}
	return r.packs.taken[number]
}

// divide gives each effect that acts to a pack, or to none.
func (r *run) divide(p *plan.Plan, set *pack.Set) (*division, error) {
	d := &division{set: set, byName: map[string]*share{}, taken: map[int64]error{},
		seed: maphash.MakeSeed()}
	by := set.NewDivision(r.rules.Packs)
	d.byFolder = r.rules.Packs.By == rule.ByFolder
	c := p.Effects("")
	for c.Next() {
		if e := c.Effect(); e.Target != nil {
			by.Saw(e.Target)
		}
	}
	if err := c.Err(); err != nil {
		return nil, err
	}
	c = p.Effects("")
	var newest *share
	for number := int64(0); c.Next(); number++ {
		e := c.Effect()
		if !e.Kind.Acts() {
			continue
		}
		size := int64(0)
		if e.Kind != plan.Remove {
			size = e.Sent().Size
		}
		s := d.share(by.Of(e.Key, size, e.Over()), number, e)
		if n := len(d.stretches); n == 0 || d.stretches[n-1].owner != s {
			d.stretches = append(d.stretches, stretchOf{number, s})
		}
		if s == nil || e.Over() != nil {
			continue
		}
		s.new, s.until, newest = true, e.Key, s
	}
	if newest != nil {
		newest.until = ""
	}
	return d, c.Err()
}

// share is that of a pack, with one effect more; nil for what lands beside.
func (d *division) share(name string, number int64, e *plan.Effect) *share {
	if name == "" {
		return nil
	}
	s := d.byName[name]
	if s == nil {
		s = &share{in: d.set.Pack(name), owner: d.owner, first: number, from: e.Key}
		d.byName[name] = s
		d.shares = append(d.shares, s)
	}
	s.last = number
	s.work++
	if e.Kind != plan.Remove {
		s.bytes += e.Bytes()
	}
	s.removes = s.removes || e.Kind == plan.Remove
	return s
}

// sum names a folder or link with what is kept of it.
func (d *division) sum(m *pack.Member) uint64 {
	var h maphash.Hash
	h.SetSeed(d.seed)
	h.WriteString(m.Name)
	h.WriteByte(0)
	h.WriteString(m.Link)
	maphash.WriteComparable(&h, [3]int{int(m.Mode), m.UID, m.GID})
	if m.Kind == pack.Symlink {
		maphash.WriteComparable(&h, m.Modified.UnixNano())
	}
	return h.Sum64()
}

// lookAround finds what lies at the target by now where the plan saw nothing, in whichever pack, and which
// folders and links of the source come along with which pack.
func (r *run) lookAround(p *plan.Plan, d *division) error {
	probe := &transfer{run: r, side: r.sides[0]}
	src := place.Can(r.sides[0].from).Describes
	if src != nil && slices.ContainsFunc(d.shares, func(s *share) bool { return s.new }) {
		if err := probe.ask(func() error { return r.lookBeside(src, d) }); err != nil {
			return err
		}
	}
	return probe.ask(func() error { return r.lookForTaken(p, d) })
}

// mostBeside is how many folders and links of a set are remembered; further ones go along once more with
// each pack that takes something new.
const mostBeside = 4_000_000

// lookBeside gives the folders and links that no pack has to packs that take something new.
func (r *run) lookBeside(src place.Describer, d *division) error {
	known := map[uint64]bool{}
	for m, err := range d.set.Beside(r.ctx) {
		if err != nil {
			return err
		}
		if len(known) < mostBeside {
			known[d.sum(&m)] = true
		}
	}
	for _, s := range d.shares {
		s.beside = nil
	}
	for key, err := range src.Beside(r.ctx, "") {
		if err != nil { // a folder that cannot be read, as the survey has told
			continue
		}
		f, err := src.Describe(r.ctx, key)
		if err != nil || f.Folder != strings.HasSuffix(key, "/") || !f.Folder && f.Link == "" {
			continue
		}
		s := d.ownerBeside(key)
		_, _, folder := s.in.Outer()
		if m := besideMember(folder+key, &f); !known[d.sum(&m)] {
			s.beside = append(s.beside, key)
		}
	}
	return r.ctx.Err()
}

// ownerBeside is the share that something without an effect comes along with: the pack of its folder, else
// the one that what follows it goes to.
func (d *division) ownerBeside(key string) *share {
	if s := d.byName[d.set.Folder(key)]; d.byFolder && s != nil && s.new {
		return s
	}
	var last *share
	for _, s := range d.shares {
		if !s.new {
			continue
		}
		if last = s; !d.byFolder && (s.until == "" || key <= s.until) {
			break
		}
	}
	return last
}

func (r *run) lookForTaken(p *plan.Plan, d *division) error {
	clear(d.taken)
	c := p.Effects("")
	number, more := int64(-1), true
	next := func() {
		for more {
			if more = c.Next(); !more {
				return
			}
			number++
			if e := c.Effect(); e.Kind.Acts() && e.Kind != plan.Remove && e.Over() == nil && !r.ledger.Done(number) {
				return
			}
		}
	}
	if next(); !more {
		return c.Err()
	}
	// A listing may begin behind a key only.
	for there, err := range d.set.List(r.ctx, "", place.ListOptions{}) {
		if err != nil {
			return err
		}
		for more && c.Effect().Key < there.Key {
			next()
		}
		if !more {
			break
		}
		if e := c.Effect(); e.Key == there.Key && d.owner(number) != d.byName[d.set.PackOf(&there)] {
			d.taken[number] = place.NewError(d.set.Name(), "write", e.Key, place.Exists, nil)
		}
	}
	return c.Err()
}

// feedSet is feed for a plan whose target is the inside of several packs, with what lies beside them.
func (r *run) feedSet(p *plan.Plan, set *pack.Set) (err error) {
	set.Renew()
	if r.packs, err = r.divide(p, set); err != nil {
		return err
	}
	if err := r.lookAround(p, r.packs); err != nil {
		return err
	}
	_, err = r.pass(p, r.opts.Only)
	if err == nil {
		err = r.resends(func(only func(int64) bool) error { _, err := r.pass(p, only); return err })
	}
	if err == nil && !r.ended() {
		err = r.feedShares(p, r.opts.Only, adding)
	}
	for err == nil && !r.ended() {
		var failed map[int64]bool
		if failed, err = r.again(); err != nil || failed == nil {
			break
		}
		only := func(effect int64) bool { return failed[effect] }
		if err = r.lookAround(p, r.packs); err == nil {
			_, err = r.pass(p, only)
		}
		if err == nil && !r.ended() {
			err = r.feedShares(p, only, adding)
		}
	}
	if err != nil || r.ended() {
		return err
	}
	r.heldBack() // as it is before the first of them goes
	if err := r.feedShares(p, r.opts.Only, removing); err != nil || r.ended() {
		return err
	}
	if err := r.removals(p); err != nil || r.ended() {
		return err
	}
	r.pending.Wait()
	set.Renew()
	return r.afterwards(p)
}

// feedShares adds to each pack what comes into it, or takes away what goes.
func (r *run) feedShares(p *plan.Plan, only func(int64) bool, what phase) error {
	var all errgroup.Group
	r.packs.together = r.packs.atOnce(r.sides[0].cut)
	all.SetLimit(r.packs.together)
	for _, s := range r.packs.shares {
		if r.ended() {
			break
		}
		if what == adding || s.removes {
			all.Go(func() error { return r.pack(p, s, only, what) })
		}
	}
	return all.Wait()
}

// mostAtOnce is how many packs are written at a time, at most: see [pack.Together].
const mostAtOnce = 4

// atOnce is how many of the packs are written at a time: what waits of them shares the memory.
func (d *division) atOnce(sizes cut.Sizes) int {
	largest := int64(1)
	for _, s := range d.shares {
		largest = max(largest, s.bytes+pack.HeadRoom*s.work)
	}
	return pack.Together(sizes.Of(largest), mostAtOnce)
}
