package plan

import (
	"fmt"
	"path"
	"regexp"
	"strings"
	"time"

	"lumtra/core/agreed"
	"lumtra/core/catalog"
	"lumtra/core/object"
	"lumtra/core/rule"
)

// judging turns pairs of entries into effects, key after key in rising order.
type judging struct {
	opts    *Options
	match   *rule.Matcher
	gzips   func(key string) bool // compressed on the way; nil for none
	trash   string                // prefix, with its "/"
	archive string                // the same at the source; "" for none
	whole   bool                  // both surveys are, so that what is not listed is not there
	summary Summary
	// source and target are what a key is looked up in, whether it is a folder.
	source, target *catalog.Catalog
	// held are the keys that will exist at the target and may still turn out
	// to be a folder of the keys to come: each is the start of the next.
	held []string
	over string // of them, the one that stands above the current key
	next next
}

// next are the keys that follow at a side which lacks the current one; known
// is false when they have to be looked up.
type next struct {
	source, target *object.Entry
	known          bool
}

// pair is a key with what is known of it.
type pair struct {
	Effect
	agreed *agreed.State
	// doubt is what is in doubt of the key, nil for nothing.
	doubt *agreed.Doubt
	// ask tells that only looking at the content can tell same from changed,
	// askTags that the tags decide whether the object is taken, askFacts that
	// metadata and tags may differ.
	ask, askTags, askFacts bool
	// unsure tells of one that is the same only if its content is.
	unsure bool
	// untagged tells that the tags dropped it, touched that only its time is another.
	untagged, touched bool
}

// judge decides a key by what the catalogs, the agreed states and the doubts say.
func (j *judging) judge(source, target *object.Entry, g *agreed.State, d *agreed.Doubt) pair {
	if g != nil && d == nil && (target == nil || !target.SameState(&g.Target)) {
		j.summary.Drifted++ // what is in doubt was told already
	}
	if d != nil { // what is in doubt is not agreed on
		g = nil
	}
	p := pair{agreed: g, doubt: d}
	e := &p.Effect
	e.Source, e.Target = source, target
	e.Moved = moved(source, target, g)
	if source != nil {
		e.Key = source.Key
	} else {
		e.Key = target.Key
	}
	if strings.HasPrefix(e.Key, j.trash) {
		e.Kind, e.Reason = LeftOut, InTrash
		return p
	}
	if j.archive != "" && source != nil && strings.HasPrefix(e.Key, j.archive) {
		e.Kind, e.Reason = LeftOut, InArchive
		if target != nil {
			j.clash(e.Key)
		}
		return p
	}
	if j.opts.Rules.Direction == rule.TwoWay {
		j.over = j.clash(e.Key)
	}
	if source == nil {
		j.only(&p)
		return p
	}
	taken, by := true, -1
	if source.Kind != object.Special {
		if taken, by = j.match.Takes(source, j.summary.Tallies); taken {
			j.summary.Selected.Count++
			j.summary.Selected.Bytes += source.Size
		}
	}
	if !taken {
		e.Kind, e.Reason, e.Note = LeftOut, NotTaken, j.match.Text(by)
		if target != nil && j.opts.Rules.Direction == rule.OneWay {
			j.clash(e.Key)
		}
		return p
	}
	if why := j.notArrived(source); why != "" {
		e.Kind, e.Reason, e.Note = LeftOut, NotTaken, why
		if target != nil && j.opts.Rules.Direction == rule.OneWay {
			j.clash(e.Key)
		}
		return p
	}
	p.askTags = j.match.NeedsTags() && source.Kind != object.Special
	if j.gone(&p) || j.blocked(e) {
		return p
	}
	if target == nil {
		e.Kind, e.Reason = Add, NotThere
		if g != nil {
			e.Reason = GoneThere
		}
		return p
	}
	j.compareFacts(&p)
	return p
}

// notArrived says why a source object is left alone for now; "" for one that is not.
func (j *judging) notArrived(source *object.Entry) string {
	if j.opts.Arrived == nil || source.Kind != object.Object {
		return ""
	}
	return j.opts.Arrived(source)
}

func moved(source, target *object.Entry, g *agreed.State) Moved {
	if g == nil {
		return NotKnown
	}
	here := source == nil || !source.SameState(&g.Source)
	there := target == nil || !target.SameState(&g.Target)
	switch {
	case here && there:
		return AtBoth
	case here:
		return AtSource
	case there:
		return AtTarget
	}
	return Nowhere
}

// only decides a key that is only at the target.
func (j *judging) only(p *pair) {
	e, r := &p.Effect, &j.opts.Rules
	e.Kind, e.Reason = Extra, OnlyThere
	if r.Direction == rule.TwoWay {
		j.onlyTwoWay(p)
		return
	}
	j.clash(e.Key)
	if r.TargetOnly == rule.KeepThere || e.Target.Kind == object.Special {
		return
	}
	taken, sure := j.match.TakesName(e.Target)
	if p.agreed != nil && !j.match.NeedsTags() { // it was sent once: judged as it was then
		was := p.agreed.Source
		taken, _ = j.match.Takes(&was, nil)
		sure = true
	}
	switch {
	case !taken:
		e.Kind, e.Reason, e.Note = LeftOut, NotTaken, "by its name or size"
	case r.WhenDifferent == rule.KeepBoth && KeptName(e.Key):
		e.Reason = KeptBeside
	case !sure:
		e.Reason = NotSure
	case !j.whole:
		e.Reason = Incomplete
	default:
		e.Kind, e.Reason = Remove, Extraneous
		if r.TargetOnly == rule.MoveToTrash {
			e.Aside = j.trashed(e.Key)
		}
	}
}

// trashed is where an object goes: a folder for each plan, so that one key can
// be trashed many times.
func (j *judging) trashed(key string) string {
	return j.trash + Stamp(j.opts.Job, j.opts.Number, j.opts.Now) + "/" + key
}

// Stamp is how the folder is called that what a plan moves away goes to: its time, in
// UTC, its job and its number, which no two plans share; of characters that every
// store keeps as they are.
func Stamp(job string, number int, made time.Time) string {
	if job != "" {
		job = "-" + job
	}
	return fmt.Sprintf("%s%s-%d", made.UTC().Format("20060102-150405"), job, number)
}

// onlyTwoWay: new at the target, or removed at the source.
func (j *judging) onlyTwoWay(p *pair) {
	e := &p.Effect
	taken, _ := j.match.TakesName(e.Target)
	if p.agreed == nil || !j.match.NeedsTags() && taken {
		taken, _ = j.match.Takes(e.Target, nil)
	}
	switch {
	case !taken:
		e.Kind, e.Reason, e.Note = LeftOut, NotTaken, "by its name or size"
	case p.agreed == nil:
		e.Back = true
		if !j.blockedAt(e, e.Target, j.opts.NameBack, j.opts.Source) &&
			!j.clashes(e, j.opts.Source.Tree, j.over, j.source, j.next.source) {
			e.Kind, e.Reason = Add, NotThere
		}
	case e.Moved == AtBoth:
		j.conflict(e)
	case !j.whole:
		e.Reason = Incomplete
	default:
		e.Kind, e.Reason = Remove, GoneHere
	}
}

// gone decides, for two-way jobs, a key that went at the target. It returns
// false for all others.
func (j *judging) gone(p *pair) bool {
	e := &p.Effect
	if j.opts.Rules.Direction != rule.TwoWay || e.Target != nil || p.agreed == nil || e.Source.Kind == object.Special {
		return false
	}
	switch {
	case e.Moved == AtBoth:
		j.conflict(e)
	case !j.whole:
		e.Kind, e.Reason, e.Note = Blocked, NotComparable,
			"it is gone at the target, or the listing has a gap: nothing is deleted on a listing that is not whole"
	default:
		e.Kind, e.Reason, e.Back = Remove, GoneHere, true
	}
	return true
}

// compareFacts tells same from changed for a key that both sides have.
func (j *judging) compareFacts(p *pair) {
	e := &p.Effect
	src, dst := e.Source, e.Target
	if dst.Kind == object.Special {
		e.Kind, e.Reason, e.Note = Blocked, NameClash, "a link or special file has this name at the target"
		return
	}
	if p.doubt.About(dst) {
		e.Kind, e.Reason, e.Note = Change, InDoubt, p.doubt.Since() // replaced, whatever becomes of others
		if j.opts.Rules.Direction == rule.TwoWay {
			j.conflict(e)
		}
		return
	}
	p.unsure = j.unsure(p)
	packed := j.gzips != nil && j.gzips(e.Key) // its size there says nothing
	switch judge := j.opts.Rules.CompareBy; {
	case judge == rule.SendAll:
		j.differs(p, SentAlways)
	case packed && p.unsure:
		j.differs(p, OtherState)
	case packed:
		j.byTime(p)
	case src.Size != dst.Size:
		j.differs(p, OtherSize)
	case judge == rule.ByContent, p.unsure:
		p.ask = true
		j.same(p, SameContent) // until looking says otherwise
	case judge == rule.BySize:
		j.same(p, SameSize)
	default:
		j.byTime(p)
		p.touched = j.touched(p)
	}
}

// unsure tells of objects that are the same only if their content is: both changed since
// they agreed, or a run met something there that it had not planned for; or nothing is agreed
// of them yet, by a job for which either may be the newer one, or that has run before, so that somebody
// else, or a run that was cut off, has put it there. Neither size nor time tells then.
func (j *judging) unsure(p *pair) bool {
	e := &p.Effect
	switch {
	case p.doubt != nil, e.Moved == AtBoth:
		return true
	case e.Moved != NotKnown:
		return false
	case j.opts.Rules.Direction != rule.TwoWay:
		return j.opts.Agreed != nil && !j.opts.Target.KeepsTimes
	}
	return !j.opts.Target.KeepsTimes || !j.sameTime(e.Source.Modified, e.Target.Modified)
}

// byTime judges objects of one size by when they changed.
func (j *judging) byTime(p *pair) {
	e := &p.Effect
	switch e.Moved {
	case Nowhere:
		switch {
		case !p.agreed.Later:
			j.same(p, Unchanged)
		case j.opts.ByContents:
			p.ask = true
			j.same(p, SameContent)
		default: // as it was at the first run: nobody has looked since
			j.same(p, SameLater)
		}
		return
	case AtSource, AtTarget:
		j.differs(p, OtherState)
		return
	}
	src, dst, opts := e.Source, e.Target, j.opts
	switch {
	case opts.Target.KeepsTimes:
		if j.sameTime(src.Modified, dst.Modified) {
			j.same(p, SameAttributes)
		} else {
			j.differs(p, OtherTime)
		}
	case src.Modified.Add(-opts.Source.Clock.Late).After(dst.Modified.Add(opts.Target.Clock.Early)):
		j.differs(p, Newer)
	case src.Modified.Add(opts.Source.Clock.Early).After(dst.Modified.Add(-opts.Target.Clock.Late)):
		// The target only knows when it stored the object, and both times only so finely, by clocks
		// that differ: so close to each other they tell nothing, and only content does.
		p.ask = true
		j.same(p, SameContent)
	case opts.ByContents:
		p.ask = true
		j.same(p, SameContent)
	default:
		j.same(p, SameLater)
	}
}

// sameTime tells whether two times agree as far as both sides can tell: what
// the target holds is the source's own time, as fine as the coarser of the two.
func (j *judging) sameTime(a, b time.Time) bool {
	gap := a.Sub(b).Abs()
	return gap == 0 || gap < max(j.opts.Source.TimeStep, j.opts.Target.TimeStep)
}

// same settles that the content is the same; what lies beside it may not be.
func (j *judging) same(p *pair, why Reason) {
	e, r := &p.Effect, &j.opts.Rules
	e.Kind, e.Reason, e.Later = Same, why, why == SameLater
	if c := r.As.Class; c != "" && !j.opts.Target.Tree && !sameClass(c, e.Target.Class) {
		j.beside(e, OtherClass, "")
		return
	}
	if r.Direction == rule.TwoWay {
		return
	}
	p.askFacts = r.As.Tags || len(r.As.Metadata) > 0
	switch {
	case (why == SameSize || why == SameContent) && j.opts.Target.KeepsTimes &&
		!j.sameTime(e.Source.Modified, e.Target.Modified),
		why == SameContent && !j.opts.Target.KeepsTimes && p.agreed != nil &&
			!p.agreed.Source.Modified.Equal(e.Source.Modified):
		j.beside(e, OtherAttributes, "same content, modified "+stamp(e.Source.Modified)+" at the source")
	case j.opts.Target.KeepsModes && e.Source.Mode != 0 && e.Target.Mode != 0 &&
		e.Source.Mode.Perm() != e.Target.Mode.Perm():
		j.beside(e, OtherMode, "")
	case !j.opts.Target.KeepsModes && j.opts.Target.KeepsMetadata && p.agreed != nil && p.agreed.Source.Mode != 0 &&
		e.Source.Mode != 0 && p.agreed.Source.Mode.Perm() != e.Source.Mode.Perm():
		// Kept in metadata, which a listing does not tell: what the source had when
		// both agreed does.
		j.beside(e, OtherMode, "")
	}
}

// beside has what lies beside the content changed, in place; where the target cannot do that the object is sent
// anew, and counted so.
func (j *judging) beside(e *Effect, why Reason, note string) {
	e.Kind, e.Reason, e.Note = Meta, why, note
	if m := j.opts.Target.MaxCopy; j.opts.Resend || !j.opts.Target.Tree && m > 0 && e.Target.Size > m {
		e.Kind = Change
	}
}

func sameClass(a, b string) bool {
	if b == "" {
		b = "STANDARD"
	}
	return strings.EqualFold(a, b)
}

// differs settles that the two are not the same, and what the job makes of it.
func (j *judging) differs(p *pair, why Reason) {
	e, r := &p.Effect, &j.opts.Rules
	e.Kind, e.Reason, e.Later, p.askFacts = Change, why, false, false
	if r.Direction == rule.TwoWay {
		switch e.Moved {
		case AtSource:
		case AtTarget:
			e.Back = true
			j.blockedAt(e, e.Target, j.opts.NameBack, j.opts.Source)
		default:
			j.conflict(e)
		}
		return
	}
	switch r.WhenDifferent {
	case rule.Skip:
		e.Kind, e.Reason = LeftOut, TargetStays
	case rule.IfNewer:
		if !e.Source.Modified.After(e.Target.Modified) {
			e.Kind, e.Reason = LeftOut, TargetNewer
		}
	case rule.KeepBoth:
		e.Aside = j.free(e)
	}
}

// free is a name with its time for what is at the target, that nothing has yet.
func (j *judging) free(e *Effect) string {
	for n := 1; ; n++ {
		name := timedName(e.Key, e.Target.Modified, n)
		if !has(j.target, name) && (j.opts.Rules.Direction != rule.TwoWay || !has(j.source, name)) {
			return name
		}
	}
}

// has tells whether a side has a key.
func has(c *catalog.Catalog, key string) bool {
	at := c.Cursor(key)
	return at.Next() && at.Entry().Key == key
}

// conflict settles what changed at both sides, as far as the job says how.
func (j *judging) conflict(e *Effect) {
	e.Kind, e.Reason = Conflict, Undecided
	if c := j.opts.Rules.Conflicts; c != rule.Ask {
		if e.Decide(c); e.Aside != "" {
			e.Aside = j.free(e)
		}
		switch { // a tree may hold something else there by now
		case e.Kind != Add:
		case e.Back:
			j.clashes(e, j.opts.Source.Tree, j.over, j.source, j.next.source)
		default:
			j.clashes(e, j.opts.Target.Tree, j.over, j.target, j.next.target)
		}
	}
}

// Decide settles a conflict one way. Undoing it is deciding for [rule.Ask].
func (e *Effect) Decide(c rule.Conflicts) {
	e.Kind, e.Reason, e.Note, e.Back, e.Aside = Conflict, Undecided, "", false, ""
	src, dst := e.Source, e.Target
	if c == rule.NewerWins {
		c = rule.SourceWins
		if src == nil || dst != nil && dst.Modified.After(src.Modified) {
			c = rule.TargetWins
		}
		if src == nil || dst == nil { // what was changed counts more than what was removed
			c = map[bool]rule.Conflicts{true: rule.TargetWins, false: rule.SourceWins}[src == nil]
		}
	}
	if c == rule.BothStay && (src == nil || dst == nil) {
		c = map[bool]rule.Conflicts{true: rule.TargetWins, false: rule.SourceWins}[src == nil]
	}
	var kept, over *object.Entry
	switch c {
	case rule.SourceWins, rule.BothStay:
		kept, over = src, dst
		e.Note = "the conflict was decided for the source"
	case rule.TargetWins:
		kept, over, e.Back = dst, src, true
		e.Note = "the conflict was decided for the target"
	default:
		return
	}
	e.Reason = Decided
	switch {
	case kept == nil:
		e.Kind = Remove
	case over == nil:
		e.Kind = Add
	default:
		e.Kind = Change
	}
	if c == rule.BothStay {
		e.Note, e.Aside = "the conflict was decided for keeping both", timedName(e.Key, dst.Modified, 1)
	}
}

// timedName is the name an object is kept under beside the one that takes its
// place: its own, with its time before the ending, and a number from the second
// of that time on.
func timedName(key string, at time.Time, n int) string {
	number := ""
	if n > 1 {
		number = fmt.Sprintf(" %d", n)
	}
	ext := path.Ext(object.Base(key))
	if ext == object.Base(key) { // ".profile" is a name, not an ending
		ext = ""
	}
	return strings.TrimSuffix(key, ext) + " (" + at.UTC().Format("2006-01-02 15.04.05") + number + ")" + ext
}

var timed = regexp.MustCompile(` \(\d{4}-\d\d-\d\d \d\d\.\d\d\.\d\d( \d+)?\)(\.[^/.]*)?$`)

// KeptName tells whether a key looks like one that an older object was kept
// under when the job replaced it.
func KeptName(key string) bool { return timed.MatchString(key) }
