package rule

import (
	"fmt"
	"slices"
	"strings"

	"lumtra/core/object"
)

// CompareBy is how two objects of one key are told to be the same.
type CompareBy string

// The ways to judge.
const (
	// BySizeAndTime: same size, and neither side changed since both last
	// agreed; where no agreement is known, the times agree or, where the target
	// only knows when it stored an object, the source was not modified since.
	BySizeAndTime CompareBy = "size-and-time"
	// BySize looks at sizes alone.
	BySize CompareBy = "size"
	// ByContent: the checksums agree. Slower: folders are read, stores asked
	// object by object.
	ByContent CompareBy = "content"
	// SendAll takes nothing for the same.
	SendAll CompareBy = "all"
)

// Landing is what of the source folder lands at the target.
type Landing string

// The landings.
const (
	// Inside: what lies in the source lands directly in the target.
	Inside Landing = "inside"
	// WithFolder: the source folder itself lands in the target, under its name.
	WithFolder Landing = "folder"
)

// Direction is which side follows which.
type Direction string

// The directions.
const (
	OneWay Direction = "one-way"
	// TwoWay brings what changed at either side since they last agreed to the
	// other; what changed at both is a conflict.
	TwoWay Direction = "two-way"
)

// WhenDifferent is what happens when the target has another one under the key.
type WhenDifferent string

// What can happen to another one at the target.
const (
	Replace WhenDifferent = "replace"
	Skip    WhenDifferent = "skip"     // leave it
	IfNewer WhenDifferent = "if-newer" // replace it when the source's is newer
	// KeepBoth moves the target's to a name with its time in it, beside the new.
	KeepBoth WhenDifferent = "keep-both"
)

// TargetOnly is what happens to what is only at the target.
type TargetOnly string

// What can happen to extras.
const (
	KeepThere   TargetOnly = "keep"
	MoveToTrash TargetOnly = "trash"  // move it below the trash prefix
	DeleteThere TargetOnly = "delete" // delete-mirroring
)

// Conflicts is how two-way jobs settle what changed at both sides.
type Conflicts string

// The ways to settle conflicts.
const (
	Ask        Conflicts = "ask"
	SourceWins Conflicts = "source"
	TargetWins Conflicts = "target"
	NewerWins  Conflicts = "newer"
	BothStay   Conflicts = "keep-both"
)

// Rules are all phrases of a job that a plan follows from.
type Rules struct {
	Direction     Direction     `toml:"direction,omitempty"`
	Landing       Landing       `toml:"landing,omitempty"`
	CompareBy     CompareBy     `toml:"compare-by,omitempty" json:"Judge"`
	WhenDifferent WhenDifferent `toml:"when-different,omitempty" json:"Different"`
	TargetOnly    TargetOnly    `toml:"target-only,omitempty" json:"Extras"`
	// TrashPath is the prefix below the target that extras are moved to, with a
	// folder in it for each plan.
	TrashPath string    `toml:"trash,omitempty"`
	Conflicts Conflicts `toml:"conflicts,omitempty"`
	// Afterwards is what becomes of the source. ArchivePath is the prefix below
	// the source that [ArchiveSource] moves it to, with a folder in it for each
	// plan; SourceTags are those that [TagSource] adds.
	Afterwards  Afterwards        `toml:"afterwards,omitempty"`
	ArchivePath string            `toml:"archive,omitempty"`
	SourceTags  map[string]string `toml:"source-tags,omitempty"`
	Select      Selection         `toml:"select"`
	As          As                `toml:"as"`
	// Packs divide objects over several packs, where the target is such.
	Packs  Packs  `toml:"packs,omitempty"`
	Safety Safety `toml:"safety" json:"Guards"`
}

// As is what objects become at the target, beside their content.
type As struct {
	// Class is the storage class; "" leaves it to the target.
	Class string `toml:"class,omitempty"`
	// Metadata is set on every object that is sent.
	Metadata map[string]string `toml:"metadata,omitempty"`
	// Gzip are patterns of what is compressed on the way and stored so, with the
	// content encoding "gzip".
	Gzip []string `toml:"gzip,omitempty"`
	// Tags carries tags over, which takes a request an object at either side.
	Tags bool `toml:"tags,omitempty"`
}

// DefaultTrash is where extras go when the job does not say.
const DefaultTrash = "_trash"

// Default are the rules of a job that says nothing.
func Default() Rules {
	return Rules{Direction: OneWay, Landing: Inside, CompareBy: BySizeAndTime, WhenDifferent: Replace,
		TargetOnly: KeepThere,
		TrashPath:  DefaultTrash, Conflicts: Ask, Afterwards: KeepSource, ArchivePath: DefaultArchive}
}

// choice tells a value that is none of the known ones.
func choice[T ~string](setting string, value T, known ...T) (string, string) {
	if slices.Contains(known, value) {
		return "", ""
	}
	quoted := make([]string, len(known))
	for i, k := range known {
		quoted[i] = fmt.Sprintf("%q", string(k))
	}
	return setting, fmt.Sprintf("%s is %q; it is %s or %s", setting, string(value),
		strings.Join(quoted[:len(quoted)-1], ", "), quoted[len(quoted)-1])
}

// Check finds the first value that cannot be: the setting, with dots between
// its parts, and what is wrong with it and would be right. Both are "" when
// all is well.
func (r *Rules) Check() (setting, what string) {
	for _, check := range []func() (string, string){
		func() (string, string) { return choice("direction", r.Direction, OneWay, TwoWay) },
		func() (string, string) { return choice("landing", r.Landing, Inside, WithFolder) },
		func() (string, string) {
			return choice("compare-by", r.CompareBy, BySizeAndTime, BySize, ByContent, SendAll)
		},
		func() (string, string) {
			return choice("when-different", r.WhenDifferent, Replace, Skip, IfNewer, KeepBoth)
		},
		func() (string, string) {
			return choice("target-only", r.TargetOnly, KeepThere, MoveToTrash, DeleteThere)
		},
		func() (string, string) {
			return choice("conflicts", r.Conflicts, Ask, SourceWins, TargetWins, NewerWins, BothStay)
		},
		func() (string, string) {
			return choice("afterwards", r.Afterwards, KeepSource, DeleteSource, ArchiveSource, TagSource)
		},
		r.checkAfterwards,
		r.checkTrash,
		r.checkTwoWay,
		r.checkGzip,
		r.Packs.check,
		r.Select.check,
		r.Safety.check,
	} {
		if setting, what := check(); what != "" {
			return setting, what
		}
	}
	return "", ""
}

func (r *Rules) checkTrash() (string, string) {
	if t := r.TrashPath; badPrefix(t) {
		return "trash", fmt.Sprintf("trash is %q; it is a path below the target such as %q, without \"/\" at its "+
			"ends", t, DefaultTrash)
	}
	return "", ""
}

// Gzips makes a function that tells whether an object is compressed on the way;
// nil when none is.
func (a *As) Gzips() func(key string) bool {
	if len(a.Gzip) == 0 {
		return nil
	}
	var all []func(string) bool
	for _, p := range a.Gzip {
		all = append(all, pattern(p))
	}
	return func(key string) bool {
		return slices.ContainsFunc(all, func(match func(string) bool) bool { return match(key) })
	}
}

func (r *Rules) checkGzip() (string, string) {
	for _, p := range r.As.Gzip {
		if what := badPattern("gzip", p); what != "" {
			return "as.gzip", what
		}
	}
	switch {
	case len(r.As.Gzip) == 0:
		return "", ""
	case r.Direction == TwoWay:
		return "as.gzip", "a two-way job cannot compress on the way: leave gzip out"
	case r.CompareBy == BySize || r.CompareBy == ByContent:
		return "compare-by", "what is compressed on the way has another size and content at the target: " +
			"compare-by is " +
			"\"size-and-time\" or \"all\""
	}
	return "", ""
}

func (r *Rules) checkTwoWay() (string, string) {
	if r.Direction != TwoWay {
		return "", ""
	}
	switch {
	case r.TargetOnly != KeepThere:
		return "target-only",
			"in a two-way job nothing is only at the target: what was deleted at one side is deleted at the " +
				"other; leave this out"
	case r.WhenDifferent != Replace:
		return "when-different", "a two-way job settles differences as conflicts: leave this out, and see conflicts"
	case r.CompareBy == SendAll:
		return "compare-by", "a two-way job cannot send everything both ways; compare-by is \"size-and-time\", " +
			"\"size\" or " +
			"\"content\""
	}
	return "", ""
}

// Safety are what holds a plan back until a person has looked. Numbers that
// are not set have their default.
type Safety struct {
	// EmptySource holds back a plan whose source holds nothing.
	EmptySource *bool `toml:"empty-source,omitempty"`
	// Deletions is the most objects a plan may remove, RemovalShare the most
	// in percent of what is at the target.
	Deletions     *int64 `toml:"deletions,omitempty" json:"Removals"`
	DeletionShare *int64 `toml:"deletion-share,omitempty" json:"RemovalShare"`
	// Shrink is by how many percent the source may have become smaller, in
	// objects, since both sides last agreed.
	Shrink *int64 `toml:"shrink,omitempty"`
	// Drift is how many percent of what both sides agreed on may have changed
	// or gone at the target behind the job's back.
	Drift *int64 `toml:"drift,omitempty"`
	// Races is what to do where a target cannot decide in the moment of writing that
	// nothing unseen is overwritten; "" is [AllowRaces].
	Races Races `toml:"races,omitempty"`
	// Unverified is what becomes of objects of which nothing could tell whether they
	// came or arrived whole; "" is [CountUnverified].
	Unverified Unverified `toml:"unverified,omitempty"`
	// Evidence is what has to show that a copy is right before something becomes of its
	// source, where the source vouches for nothing; "" is [TwoReadings].
	Evidence Evidence `toml:"evidence,omitempty"`
}

// Evidence is what shows that a copy is right, where its source vouches for nothing.
type Evidence string

// What can show it.
const (
	// TwoReadings: the source is read once more in full, and held against what the target holds.
	TwoReadings Evidence = "two-readings"
	// OneReading: the sum of the reading that made the copy. What was damaged on the way here is
	// then lost with the source.
	OneReading Evidence = "one-reading"
)

// Races is what to do where another writer could come between a look at the target
// and a write.
type Races string

// What can be done about races.
const (
	AllowRaces  Races = "allow"  // the target is looked at before and after
	RefuseRaces Races = "refuse" // the run does not begin
)

// Unverified is what becomes of objects that nothing vouched for.
type Unverified string

// What can become of them.
const (
	CountUnverified Unverified = "count" // they are done, and counted
	FailUnverified  Unverified = "fail"  // they have failed
)

// Defaults of [Safety].
const (
	DefaultRemovals     = 1000
	DefaultRemovalShare = 20
	DefaultShrink       = 50
	DefaultDrift        = 20
)

// Limit is a guard's number, or what holds when it is not set.
func Limit(set *int64, otherwise int64) int64 {
	if set != nil {
		return *set
	}
	return otherwise
}

// HoldsEmpty tells whether an empty source holds a plan back.
func (g *Safety) HoldsEmpty() bool { return g.EmptySource == nil || *g.EmptySource }

func (g *Safety) check() (string, string) {
	if g.Deletions != nil && *g.Deletions < 0 {
		return "safety.deletions",
			fmt.Sprintf("deletions is %d; it is a number of objects, 0 to hold back every deletion", *g.Deletions)
	}
	if setting, what := choice("safety.races", g.Races, "", AllowRaces, RefuseRaces); what != "" {
		return setting, strings.Replace(what, `"", `, "", 1)
	}
	if setting, what := choice("safety.unverified", g.Unverified, "", CountUnverified, FailUnverified); what != "" {
		return setting, strings.Replace(what, `"", `, "", 1)
	}
	if setting, what := choice("safety.evidence", g.Evidence, "", TwoReadings, OneReading); what != "" {
		return setting, strings.Replace(what, `"", `, "", 1)
	}
	for _, p := range []struct {
		name  string
		value *int64
	}{{"deletion-share", g.DeletionShare}, {"shrink", g.Shrink}, {"drift", g.Drift}} {
		if p.value != nil && (*p.value < 0 || *p.value > 100) {
			return "safety." + p.name,
				fmt.Sprintf("%s is %d; it is percent, between 0 and 100, where 100 never holds back", p.name, *p.value)
		}
	}
	return "", ""
}

// Guarded are what the guards look at.
type Guarded struct {
	// SourceObjects and TargetObjects are what the surveys found, Selected
	// what of the source the job takes.
	SourceObjects, TargetObjects, Selected int64
	// Removals are all that go, SourceRemovals those of them at the source, which
	// only a job both ways has.
	Removals, SourceRemovals int64
	// Agreed is what both sides last agreed on; Drifted how many of those are
	// other or gone at the target without the job having done it.
	Agreed, Drifted int64
	SourceName      string
	// Leaves tells that the job takes its objects away from the source, which is
	// then meant to be empty.
	Leaves bool
	// EmptyTarget names the target of a two-way job that holds nothing any
	// more; "" else.
	EmptyTarget string
}

// Hold tells in words each guard that the facts set off.
func (g *Safety) Hold(f Guarded) []string {
	var held []string
	say := func(format string, args ...any) { held = append(held, fmt.Sprintf(format, args...)) }
	if f.SourceObjects == 0 && !f.Leaves && g.HoldsEmpty() {
		say("%s holds nothing; is it the right place, and mounted?", f.SourceName)
	}
	if f.EmptyTarget != "" && f.Agreed > 0 && g.HoldsEmpty() {
		say("%s holds nothing, where there were %s at the last run; is it the right place, and mounted?",
			f.EmptyTarget, object.Count(f.Agreed, "object"))
	}
	if most := Limit(g.Deletions, DefaultRemovals); f.Removals > most {
		say("it deletes %s, more than the %d that the job's safety limit lets pass", object.Count(f.Removals,
			"object"), most)
	}
	for _, side := range []struct {
		name          string
		removals, all int64
	}{{"target", f.Removals - f.SourceRemovals, f.TargetObjects}, {"source", f.SourceRemovals, f.SourceObjects}} {
		if share := Limit(g.DeletionShare, DefaultRemovalShare); side.removals*100 > share*side.all {
			say("it deletes %d of %s at the %s, more than %d %%", side.removals, object.Count(side.all, "object"),
				side.name, share)
		}
	}
	if shrink := Limit(g.Shrink, DefaultShrink); !f.Leaves && f.Agreed > 0 && f.SourceObjects > 0 &&
		(f.Agreed-f.Selected)*100 > shrink*f.Agreed {
		say("the source has %s where there were %d: more than %d %% are gone", object.Count(f.Selected, "object"),
			f.Agreed, shrink)
	}
	if drift := Limit(g.Drift, DefaultDrift); f.Agreed > 0 && f.Drifted*100 > drift*f.Agreed {
		say("%d of %d objects at the target changed or went without this job, more than %d %%", f.Drifted, f.Agreed,
			drift)
	}
	return held
}
