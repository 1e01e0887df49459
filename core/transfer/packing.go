package transfer

import (
	"context"
	"errors"
	"fmt"
	"math"
	"path"
	"strings"

	"lumtra/core/inorder"
	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/plan"
)

// packing is the task that carries out all effects of a plan whose target is the inside of a pack: what
// they send becomes one object, or an addition to one. Nothing of it is there before all is; then all
// effects are closed.
type packing struct {
	run *run
	p   *plan.Plan
	in  *pack.Place
	of  *share
	// only chooses effects by their number; nil is all.
	only func(int64) bool
	what phase

	old    *pack.Pack // nil where there is none yet
	w      *pack.Writer
	sink   *pack.Upload
	steps  *packSteps
	flight *flight
	folder string // in the pack, with "/" at its end
	packed int64  // members put into it
	// through has what is kept of the pack pass through here.
	through bool
	// strays are effects under which an upload may have been opened that nobody knows the name of.
	strays []int64
	// inodes are files that were packed and have other names.
	inodes map[[2]uint64]pack.Member
	// lead closes the effect that leads, nil where it is closed with the others.
	lead func()
	// failed are effects that were given up: nothing is dropped then, and whatever the pack has under
	// their names is not theirs.
	failed map[int64]bool
	// unverified are effects whose source kept nothing to hold their content against.
	unverified map[int64]bool
}

// readAhead is the largest object, in bytes, that is read into memory before its turn comes, and
// aheadOf how many of them are read at once.
const (
	readAhead = 512 << 10
	aheadOf   = 16
)

// phase is what is done of a share: what comes into the pack, what goes from it, or both.
type phase int

const (
	adding phase = 1 << iota
	removing
)

// pack carries out effects of the plan that are of one pack, as one task.
func (r *run) pack(p *plan.Plan, of *share, only func(int64) bool, what phase) error {
	for try := 1; ; try++ {
		x := &packing{run: r, p: p, in: of.in, of: of, only: only, what: what, through: try > 1,
			failed: map[int64]bool{}, unverified: map[int64]bool{}}
		err := x.carryOut()
		if !errors.Is(err, pack.ErrOtherBytes) {
			return err
		}
		if err := x.sink.GiveUp(); err != nil {
			return err
		}
		if try >= r.opts.Retry.Tries {
			return x.failAll(err)
		}
		r.meter.retries.Add(1)
	}
}

// carryOut packs what is to be packed, and closes the effects. Its error is for what makes going on
// senseless.
func (x *packing) carryOut() error {
	work, bytes, lead, err := x.look()
	if err != nil || lead < 0 || x.run.ended() {
		return err
	}
	outer, key, folder := x.in.Outer()
	x.folder = folder
	x.steps = newPackSteps(x.run, outer, key, lead)
	x.sink = pack.NewUpload(x.run.ctx, outer, key, x.steps, place.WriteOptions{Class: x.run.rules.As.Class,
		Metadata: x.run.rules.As.Metadata})
	fail := func(err error) error { return x.failAll(err) }
	x.sink.Through = x.through
	if d := x.run.packs; d != nil {
		x.sink.Beside = d.together - 1
	}
	for _, number := range x.strays {
		(&transfer{run: x.run, side: x.steps.t.side, number: number, effect: x.steps.t.effect}).strayed()
	}
	if work == 0 {
		return nil
	}
	x.flight = x.run.meter.takeOff(key, bytes, 0)
	defer x.flight.land()
	defer x.closeLead()
	if err := x.open(); err != nil {
		return fail(err)
	}
	if err := x.sink.Begin(x.old, false, x.steps.t.side.cut, bytes+pack.HeadRoom*work); err != nil {
		x.sink.Stop()
		if errors.Is(err, pack.ErrOtherBytes) {
			return err
		}
		return fail(err)
	}
	err = x.write()
	switch {
	case errors.Is(err, errEnding), err == nil && x.run.ended():
		x.sink.Stop()
		return nil
	case err == nil && x.packed == 0: // all is there already, or was given up
		return x.sink.GiveUp()
	case err == nil:
		err = x.sink.Finish()
	default:
		x.sink.Stop()
	}
	switch {
	case errors.Is(err, pack.ErrOtherBytes):
		return err
	case err != nil:
		return fail(err)
	}
	return x.close()
}

// mine tells whether an effect is this task's.
func (x *packing) mine(number int64, e *plan.Effect) bool {
	does := adding
	if e.Kind == plan.Remove {
		does = removing
	}
	return e.Kind.Acts() && x.what&does != 0 && x.of.takes(number)
}

// acts tells whether an effect is to be carried out, and is not yet.
func (x *packing) acts(number int64, e *plan.Effect) bool {
	return x.mine(number, e) && !x.run.ledger.Done(number) && (x.only == nil || x.only(number))
}

// walk is a walk through the effects of a share, and those between.
type walk struct {
	*plan.Cursor
	number, last int64
}

// effects begins a walk.
func (x *packing) effects() *walk {
	if x.of.every && x.of.first == 0 && !x.of.more {
		return &walk{x.p.Effects(""), -1, math.MaxInt64}
	}
	return &walk{x.p.Effects(x.of.from), x.of.first - 1, x.of.last}
}

// Next moves on.
func (w *walk) Next() bool {
	if w.number >= w.last || !w.Cursor.Next() {
		return false
	}
	w.number++
	return true
}

// look counts what is to be done, and finds the first effect that is not: the pack's upload is noted
// under it.
func (x *packing) look() (work, bytes, lead int64, err error) {
	lead = -1
	c, first, begins := x.effects(), int64(-1), x.of.every && !x.of.looked
	for c.Next() && !x.run.ended() {
		number, e := c.number, c.Effect()
		if e.Missing() && begins {
			x.run.meter.problem(number, e.Key, "blocked: "+e.Reason.Blocks(), "see the plan for each one's reason",
				e.Why())
		}
		if !x.mine(number, e) {
			continue
		}
		if first < 0 {
			first = number
		}
		if _, ok := x.run.ledger.Stray(number); ok {
			x.strays = append(x.strays, number)
		}
		if x.run.ledger.Done(number) {
			continue
		}
		if lead < 0 {
			lead = number
		}
		if !x.acts(number, e) {
			if !x.of.looked {
				x.run.skipped.Add(1)
			}
			continue
		}
		work++
		if e.Kind != plan.Remove {
			bytes += e.Bytes()
		}
	}
	x.of.looked = true
	if lead < 0 { // all is done: what an upload may have left is still looked for
		lead = first
	}
	return work, bytes, lead, c.Err()
}

// open opens the pack that is there, if there is one.
func (x *packing) open() error {
	x.in.Renew()
	err := x.steps.t.ask(func() (err error) {
		x.old, err = x.in.Pack(x.run.ctx)
		return err
	})
	if place.KindOf(err) == place.NotFound && err != nil {
		return nil
	}
	if err == nil && !x.old.Indexed() {
		err = place.NewError(x.in.Name(), "write", "", place.Unsupported, errors.New(
			"another program made it, or it lost its end; `lumtra pack rewrite` gives it an index, as adding needs"))
	}
	return err
}

// ready is a member whose turn has come.
type ready struct {
	t       *transfer
	m       pack.Member
	content *pack.Content
	inode   [2]uint64
	large   *steady // reads one that is too large to be read ahead
	err     error
}

// write packs what the effects send, in their order.
func (x *packing) write() (err error) {
	opts := pack.Options{Digest: x.run.opts.Digest, AsIs: packedAlready, Dir: x.run.opts.Dir}
	if opts.Digest == object.NoSum {
		opts.Digest = object.SHA256
	}
	_, key, _ := x.in.Outer()
	opts.Form, _ = pack.FormOf(key)
	opts.Level = x.run.rules.Packs.Level
	if x.old != nil {
		x.w, err = pack.Extend(x.run.ctx, x.sink, x.old, opts)
	} else {
		x.w, err = pack.NewWriter(x.run.ctx, x.sink, opts)
	}
	if err != nil {
		return err
	}
	defer func() {
		if x.w != nil {
			x.w.Abandon()
		}
	}()
	c := x.effects()
	next := func() (*transfer, bool) {
		for c.Next() && !x.run.ended() {
			if e := *c.Effect(); e.Kind != plan.Remove && x.acts(c.number, &e) {
				return x.run.transfer(c.number, e), true
			}
		}
		return nil, false
	}
	beside := x.beside()
	defer beside.stop()
	err = inorder.Map(x.run.ctx, aheadOf, next, func(_ context.Context, t *transfer) ready {
		return x.onStream(t, opts.Digest)
	}, func(y ready) error {
		if err := beside.until(y.t.effect.Key); err != nil {
			return err
		}
		return x.add(y)
	})
	if err == nil {
		err = c.Err()
	}
	if err == nil && !x.run.ended() && !x.of.more {
		err = beside.until("")
	}
	if err == nil && !x.run.ended() {
		err = x.drop()
	}
	if err != nil || x.run.ended() || x.packed == 0 {
		return err
	}
	w := x.w
	x.w = nil
	_, err = w.Close()
	return err
}

// packedAlready tells by its name what is compressed already.
func packedAlready(name string) bool {
	switch strings.ToLower(path.Ext(name)) {
	case ".gz", ".tgz", ".zst", ".xz", ".bz2", ".lz4", ".zip", ".7z", ".rar", ".jpg", ".jpeg", ".png", ".gif", ".webp",
		".heic", ".mp3", ".m4a", ".aac", ".ogg", ".opus", ".flac", ".mp4", ".mov", ".mkv", ".webm", ".pdf", ".docx",
		".xlsx", ".pptx", ".odt", ".jar", ".parquet":
		return true
	}
	return false
}

// guard holds what is in the pack under an effect's name against what the plan saw there.
func (x *packing) guard(t *transfer) error {
	if err := x.run.taken(t.number); err != nil {
		return err
	}
	if x.old == nil {
		if t.effect.Over() != nil {
			return place.NewError(t.side.to.Name(), "write", t.effect.Key, place.Changed, nil)
		}
		return nil
	}
	now, err := x.in.Stat(x.run.ctx, object.Ref{Key: t.effect.Key})
	over := t.effect.Over()
	switch kind := place.KindOf(err); {
	case err != nil && kind != place.NotFound:
		return err
	case err != nil && over == nil, err == nil && over != nil && now.Mark() == over.Mark():
		return nil
	case over == nil:
		return place.NewError(t.side.to.Name(), "write", t.effect.Key, place.Exists, nil)
	}
	return place.NewError(t.side.to.Name(), "write", t.effect.Key, place.Changed, nil)
}

// errEnding ends packing with the run.
var errEnding = errors.New("the run ends")

// onStream readies a member on one of the run's streams.
func (x *packing) onStream(t *transfer, kind object.SumKind) ready {
	done := make(chan ready, 1)
	if !x.run.hand(func() {
		y := ready{t: t, err: errEnding} // also when it panics
		defer func() { done <- y }()
		y = x.read(t, kind)
	}) {
		return ready{t: t, err: errEnding}
	}
	return <-done
}

// read readies a member: a small one is read before its turn.
func (x *packing) read(t *transfer, kind object.SumKind) (y ready) {
	src := t.effect.Sent()
	y = ready{t: t, m: pack.Member{Name: x.folder + t.effect.Key, Kind: pack.File, Size: src.Size,
		Modified: src.Modified,
		Mode:     uint32(src.Mode.Perm())}}
	if src.Mode&object.HasMode == 0 {
		y.m.Mode = 0o644
	}
	if d := t.side.gives.Can().Describes; d != nil {
		y.file(x.run.ctx, d, t.effect.Key)
		if x.run.rules.Packs.Attributes {
			if y.err = t.fetch(func() (err error) {
				y.m.Attributes, err = d.Attributes(x.run.ctx, t.effect.Key)
				if bad := pack.CheckAttributes(y.m.Attributes); err == nil && bad != nil {
					err = place.NewError(t.side.to.Name(), "write", t.effect.Key, place.Unsupported, bad)
				}
				return err
			}); y.err != nil {
				return y
			}
		}
	}
	if strings.HasSuffix(y.m.Name, "/") && src.Size == 0 { // a store's stand-in for a folder
		y.m.Kind = pack.Folder
	}
	if y.err = t.fetch(func() error { return x.guard(t) }); y.err != nil || src.Size > readAhead {
		return y
	}
	data := make([]byte, src.Size)
	y.err = t.fetch(func() error {
		first, err := t.firstRead(false)
		if err != nil {
			return err
		}
		b, facts, err := t.open(x.flight, place.ReadOptions{Version: src.Version, IfMark: src.Mark()})
		if err != nil {
			return err
		}
		t.unverified.Store(facts.Unverified && first.Kind == object.NoSum)
		if err = b.fill(data); err == nil {
			err = t.secondRead(b, first)
		}
		if err == nil {
			y.content = &pack.Content{Data: data, Sum: b.Sum()}
			if want, ok := facts.Sum(object.CRC64NVME); ok && want != y.content.Sum {
				err = place.NewError(t.side.from.Name(), "read", src.Key, place.Corrupt, nil)
			}
		}
		return b.close(err)
	})
	if y.err == nil && kind != object.NoSum {
		h := kind.New()
		h.Write(data)
		y.content.Digest = object.SumOf(kind, h)
	}
	return y
}

// add packs a member. An error is one after which the pack cannot go on.
func (x *packing) add(y ready) error {
	if x.run.ended() || y.err == errEnding {
		return errEnding
	}
	if y.err != nil {
		x.lose(y.t, y.err)
		return nil
	}
	if y.content != nil || y.m.Kind == pack.Folder {
		return x.put(y)
	}
	if first, again := x.inodes[y.inode]; again && sameFile(&first, &y.m) { // another name of what is there
		return x.put(y)
	}
	// A large one: opened in its turn; once its head is in the pack it has to come to its end.
	src := y.t.effect.Sent()
	s := &steady{t: y.t, f: x.flight, left: src.Size}
	if err := s.open(); err != nil {
		x.lose(y.t, err)
		return nil
	}
	defer s.close()
	y.content, y.large = &pack.Content{Reader: s}, s
	return x.put(y)
}

// sameFile tells that two names of one inode are of the same state of it.
func sameFile(first, m *pack.Member) bool {
	return m.Shared && first.Size == m.Size && first.Modified.Equal(m.Modified)
}

func (x *packing) put(y ready) error {
	first, again := x.inodes[y.inode]
	if again && sameFile(&first, &y.m) {
		y.m.Kind, y.m.Link, y.m.Sum, y.m.Digest = pack.Hardlink, first.Name, first.Sum, first.Digest
	}
	m, err := x.w.Add(y.m, y.content)
	if err != nil {
		return err
	}
	if y.m.Shared && !again && len(x.inodes) < mostShared {
		if x.inodes == nil {
			x.inodes = map[[2]uint64]pack.Member{}
		}
		x.inodes[y.inode] = m
	}
	if s := y.large; s != nil && s.want.Kind != object.NoSum && s.want != m.Sum {
		return place.NewError(y.t.side.from.Name(), "read", y.t.effect.Sent().Key, place.Corrupt,
			fmt.Errorf("%s came, the source keeps %s", m.Sum, s.want))
	}
	if y.t.unverified.Load() {
		x.unverified[y.t.number] = true
	}
	x.packed++
	return nil
}

// lose gives an effect up: it is not packed, and the others are, unless it is in the pack already, by
// a run that did not live to note it.
func (x *packing) lose(t *transfer, err error) {
	if x.run.ctx.Err() != nil {
		return
	}
	if there, ok := t.arrived(err); ok {
		if t.number == x.steps.t.number { // its record is the upload's, as long as that is open
			x.lead = func() { t.succeeded(t.effect.Sent().Size, there) }
			return
		}
		t.succeeded(t.effect.Sent().Size, there)
		return
	}
	x.failed[t.number] = true
	t.failedFor(err)
}

// closeLead closes the effect that leads, where that is there already: the upload is over by now.
func (x *packing) closeLead() {
	if x.lead != nil && !x.sink.Open() {
		x.lead()
	}
}

// stillThere tells whether what is to be dropped is what the plan saw, or is gone already.
func (x *packing) stillThere(t *transfer) (gone bool, err error) {
	if x.old == nil {
		return true, nil
	}
	err = t.fetch(func() error {
		now, err := x.in.Stat(x.run.ctx, object.Ref{Key: t.effect.Key})
		if err == nil && now.Mark() != t.effect.Over().Mark() {
			return place.NewError(t.side.to.Name(), "delete", t.effect.Key, place.Changed, nil)
		}
		return err
	})
	if err != nil && place.KindOf(err) == place.NotFound {
		return true, nil
	}
	return false, err
}

// drop marks what the plan removes as gone, unless something failed.
func (x *packing) drop() error {
	c := x.effects()
	for c.Next() && !x.run.ended() {
		number, e := c.number, *c.Effect()
		if e.Kind != plan.Remove || !x.acts(number, &e) {
			continue
		}
		if held := x.run.heldBack(); held > 0 {
			x.run.meter.problem(number, e.Key, "not deleted, because other objects failed",
				"retry those first; what is deleted may be all there is of them",
				fmt.Sprintf("%d objects had failed or were left out when the deletions were to begin",
					held))
			continue
		}
		t := x.run.transfer(number, e)
		gone, err := x.stillThere(t)
		if gone { // dropped by a run that did not live to note it, or by somebody else
			t.succeeded(0, object.Entry{})
			continue
		}
		if err != nil {
			x.failed[number] = true
			t.failedFor(err)
			continue
		}
		if err := x.w.Drop(x.folder + e.Key); err != nil {
			return err
		}
		x.packed++
	}
	if err := c.Err(); err != nil || x.run.ended() {
		return err
	}
	return x.dropBeside()
}
