// Package plantest holds a planner that one can check by reading: a key at a
// time, over maps, with no files, no order and no regard for speed. Tests hold
// the real one against it. It shares no code with it but the nouns.
package plantest

import (
	"maps"
	"regexp"
	"slices"
	"strings"

	"lumtra/core/agreed"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/rule"
)

// Tree is what lies at one side: entries by key.
type Tree map[string]object.Entry

// Agreed is what both sides last agreed on, by key: source and target. Nil is for a job that never ran.
type Agreed map[string][2]object.Entry

// World is all a plan follows from.
type World struct {
	// Doubts are about keys whose agreement is none.
	Doubts         map[string]agreed.Doubt
	Source, Target Tree
	Agreed         Agreed
	// Later are the keys whose agreement rests on a later time alone; ByContents has such compared.
	Later      map[string]bool
	ByContents bool
	Rules      rule.Rules
	// SourceClock and TargetClock are how far times may be off.
	SourceClock, TargetClock place.Clock
	// KeepsTimes and IsTree are the target's abilities, Bad names it refuses.
	KeepsTimes, IsTree bool
	SourceIsTree       bool
	Bad                func(key string) bool
	// Gaps tells that a survey was not whole.
	Gaps bool
	// Same compares contents. Stored tells that what was touched alone is compared too.
	Same   func(source, target object.Entry) bool
	Stored bool

	sourceFolders, targetFolders map[string]bool
}

// Outcome is the essence of an effect.
type Outcome struct {
	Kind  plan.Kind
	Back  bool
	Aside bool
	// Later: nothing but size and a later time says that it is the same.
	Later bool
}

// Plan says what is to become of every key.
func (w *World) Plan() map[string]Outcome {
	keys := map[string]bool{}
	for k := range w.Source {
		keys[k] = true
	}
	for k := range w.Target {
		keys[k] = true
	}
	out := map[string]Outcome{}
	stands := map[string]bool{} // keys that will be objects at the target
	twoWay := w.Rules.Direction == rule.TwoWay
	w.sourceFolders, w.targetFolders = folders(w.Source), folders(w.Target)
	for _, k := range slices.Sorted(maps.Keys(keys)) {
		below := false
		for i := range k {
			below = below || k[i] == '/' && stands[k[:i]]
		}
		out[k] = w.key(k, below)
		_, here := w.Source[k]
		_, there := w.Target[k]
		switch o := out[k]; {
		case strings.HasPrefix(k, w.Rules.TrashPath+"/"):
		case twoWay, !here, o.Kind == plan.LeftOut && there:
			stands[k] = !below || !twoWay && !w.IsTree
		case o.Kind == plan.LeftOut, below && w.IsTree, w.Source[k].Kind == object.Special, w.Bad(k), !there &&
			w.IsTree && w.targetFolders[k]:
		default:
			stands[k] = true
		}
	}
	return out
}

// Leaves says whether a source object is to leave its place, if its copy holds.
func (w *World) Leaves(key string, o Outcome) bool {
	_, here := w.Source[key]
	return here && w.Rules.Afterwards != rule.KeepSource && (o.Kind == plan.Add || o.Kind == plan.Change ||
		o.Kind == plan.Meta || o.Kind == plan.Same)
}

// folders are all names that keys lie below.
func folders(side Tree) map[string]bool {
	all := map[string]bool{}
	for k := range side {
		for i := range k {
			if k[i] == '/' {
				all[k[:i]] = true
			}
		}
	}
	return all
}

func (w *World) key(k string, below bool) Outcome {
	src, here := w.Source[k]
	dst, there := w.Target[k]
	was, agreed := w.Agreed[k]
	doubt, any := w.Doubts[k]
	doubted := any && there && (doubt.Kind == 'u' || doubt.Kind == 'd' && alike(dst, doubt.Target))
	if any {
		agreed = false
	}
	twoWay := w.Rules.Direction == rule.TwoWay
	unsure := any || agreed && here && there && !alike(src, was[0]) && !alike(dst, was[1]) ||
		twoWay && !agreed && !(w.KeepsTimes && src.Modified.Equal(dst.Modified)) ||
		!twoWay && !agreed && w.Agreed != nil && !w.KeepsTimes
	srcMoved := !agreed || !here || !alike(src, was[0])
	dstMoved := !agreed || !there || !alike(dst, was[1])
	switch {
	case strings.HasPrefix(k, w.Rules.TrashPath+"/"),
		here && w.Rules.Afterwards == rule.ArchiveSource && strings.HasPrefix(k, w.Rules.ArchivePath+"/"):
		return Outcome{Kind: plan.LeftOut}
	case !here && twoWay:
		return w.goneHere(k, below, agreed, dstMoved)
	case !here:
		return w.extra(k, dst, was[0], agreed)
	case src.Kind != object.Special && !w.takes(src):
		return Outcome{Kind: plan.LeftOut}
	case twoWay && !there && agreed && src.Kind != object.Special:
		switch {
		case srcMoved:
			return w.clashing(k, below, w.conflict(src, here, dst, there))
		case w.Gaps:
			return Outcome{Kind: plan.Blocked}
		}
		return Outcome{Kind: plan.Remove, Back: true}
	case src.Kind == object.Special, w.Bad(k), there && dst.Kind == object.Special,
		w.IsTree && (below && !(twoWay && there) || !there && w.targetFolders[k]):
		return Outcome{Kind: plan.Blocked}
	case !there:
		return Outcome{Kind: plan.Add}
	case doubted && twoWay:
		return w.conflict(src, here, dst, there)
	case doubted:
		return Outcome{Kind: plan.Change}
	case w.same(k, src, dst, agreed, srcMoved, dstMoved, unsure):
		late := w.late(k, src, dst, agreed, srcMoved || dstMoved, unsure)
		byContent := w.Rules.CompareBy == rule.ByContent || unsure || late && w.ByContents
		meta := w.KeepsTimes && !twoWay && (w.Rules.CompareBy == rule.BySize || byContent) &&
			!src.Modified.Equal(dst.Modified) ||
			!w.KeepsTimes && !twoWay && byContent && agreed && !was[0].Modified.Equal(src.Modified)
		if meta {
			return Outcome{Kind: plan.Meta}
		}
		return Outcome{Kind: plan.Same, Later: late && !w.ByContents}
	case twoWay && agreed && srcMoved && !dstMoved:
		return Outcome{Kind: plan.Change}
	case twoWay && agreed && dstMoved && !srcMoved:
		return Outcome{Kind: plan.Change, Back: true}
	case twoWay:
		return w.conflict(src, here, dst, there)
	}
	o := w.different(src, dst)
	if o.Kind == plan.Change && w.Stored && w.Rules.CompareBy == rule.BySizeAndTime && src.Size == dst.Size &&
		!(agreed && dstMoved) && w.Same(src, dst) {
		o = Outcome{Kind: plan.Meta}
	}
	return o
}

// goneHere is the outcome of a two-way job for a key that only the target has.
func (w *World) goneHere(k string, below, agreed, moved bool) Outcome {
	dst := w.Target[k]
	switch {
	case !w.takes(dst):
		return Outcome{Kind: plan.LeftOut}
	case !agreed && (dst.Kind == object.Special || w.SourceIsTree && (below || w.sourceFolders[k])):
		return Outcome{Kind: plan.Blocked, Back: true}
	case !agreed:
		return Outcome{Kind: plan.Add, Back: true}
	case moved:
		return w.clashing(k, below, w.conflict(object.Entry{}, false, dst, true))
	case w.Gaps:
		return Outcome{Kind: plan.Extra}
	}
	return Outcome{Kind: plan.Remove}
}

func (w *World) different(src, dst object.Entry) Outcome {
	switch w.Rules.WhenDifferent {
	case rule.Skip:
		return Outcome{Kind: plan.LeftOut}
	case rule.IfNewer:
		if !src.Modified.After(dst.Modified) {
			return Outcome{Kind: plan.LeftOut}
		}
	case rule.KeepBoth:
		return Outcome{Kind: plan.Change, Aside: true}
	}
	return Outcome{Kind: plan.Change}
}

func alike(a, b object.Entry) bool {
	if a.ETag+b.ETag != "" {
		return a.ETag == b.ETag
	}
	return a.Size == b.Size && a.Modified.Equal(b.Modified)
}

// late tells of objects that nothing but their size and a later time at the target calls the same.
func (w *World) late(k string, src, dst object.Entry, agreed, moved, unsure bool) bool {
	switch {
	case unsure, src.Size != dst.Size, w.Rules.CompareBy != rule.BySizeAndTime:
		return false
	case agreed:
		return !moved && w.Later[k]
	}
	return !w.KeepsTimes && !src.Modified.Add(w.SourceClock.Early).After(dst.Modified.Add(-w.TargetClock.Late))
}

func (w *World) same(k string, src, dst object.Entry, agreed, srcMoved, dstMoved, unsure bool) bool {
	switch {
	case w.ByContents && w.late(k, src, dst, agreed, srcMoved || dstMoved, unsure):
		return w.Same(src, dst)
	case w.Rules.CompareBy == rule.SendAll, src.Size != dst.Size:
		return false
	case unsure:
		return w.Same(src, dst)
	case w.Rules.CompareBy == rule.BySize:
		return true
	case w.Rules.CompareBy == rule.ByContent:
		return w.Same(src, dst)
	case agreed && srcMoved != dstMoved:
		return false
	case agreed && !srcMoved:
		return true
	case w.KeepsTimes:
		return src.Modified.Equal(dst.Modified)
	}
	switch {
	case src.Modified.Add(-w.SourceClock.Late).After(dst.Modified.Add(w.TargetClock.Early)):
		return false
	case src.Modified.Add(w.SourceClock.Early).After(dst.Modified.Add(-w.TargetClock.Late)):
		return w.Same(src, dst)
	}
	return true
}

func (w *World) extra(k string, dst, was object.Entry, agreed bool) Outcome {
	judged, sure := dst, agreed || w.Rules.Select.NewerThan == "" && w.Rules.Select.OlderThan == ""
	if agreed {
		judged = was
		judged.Key = k
	}
	switch {
	case w.Rules.TargetOnly == rule.KeepThere || dst.Kind == object.Special:
		return Outcome{Kind: plan.Extra}
	case !w.takesBut(judged, !agreed):
		return Outcome{Kind: plan.LeftOut}
	case w.Rules.WhenDifferent == rule.KeepBoth && strings.Contains(k, "(20"), !sure, w.Gaps:
		return Outcome{Kind: plan.Extra}
	}
	return Outcome{Kind: plan.Remove, Aside: w.Rules.TargetOnly == rule.MoveToTrash}
}

// clashing is a decision that cannot be carried out where a tree holds something
// else under the name by now.
func (w *World) clashing(k string, below bool, o Outcome) Outcome {
	switch {
	case o.Kind != plan.Add:
	case o.Back && w.SourceIsTree && (below || w.sourceFolders[k]), !o.Back && w.IsTree &&
		(below || w.targetFolders[k]):
		o.Kind = plan.Blocked
	}
	return o
}

func (w *World) conflict(src object.Entry, here bool, dst object.Entry, there bool) Outcome {
	how := w.Rules.Conflicts
	if how == rule.Ask {
		return Outcome{Kind: plan.Conflict}
	}
	target := how == rule.TargetWins
	if how == rule.NewerWins || how == rule.BothStay {
		target = !here || how == rule.NewerWins && here && there && dst.Modified.After(src.Modified)
	}
	switch {
	case target && !there:
		return Outcome{Kind: plan.Remove, Back: true}
	case target && !here:
		return Outcome{Kind: plan.Add, Back: true}
	case target:
		return Outcome{Kind: plan.Change, Back: true}
	case !here:
		return Outcome{Kind: plan.Remove}
	case !there:
		return Outcome{Kind: plan.Add}
	}
	return Outcome{Kind: plan.Change, Aside: how == rule.BothStay}
}

func (w *World) takes(e object.Entry) bool { return w.takesBut(e, false) }

// takesBut is the selection, without its rules about time where those cannot
// be held against the entry.
func (w *World) takesBut(e object.Entry, timeless bool) bool {
	s := w.Rules.Select
	if len(s.Include) > 0 && !slices.ContainsFunc(s.Include, func(p string) bool { return glob(p, e.Key) }) {
		return false
	}
	if slices.ContainsFunc(s.Exclude, func(p string) bool { return glob(p, e.Key) }) {
		return false
	}
	if !strings.HasPrefix(e.Key, s.Prefix) || !strings.HasSuffix(e.Key, s.Suffix) {
		return false
	}
	if s.Smallest == "1B" && e.Size < 1 || s.Largest == "1B" && e.Size > 1 {
		return false
	}
	return timeless || s.NewerThan == "" || !e.Modified.Before(Now.Add(-Age))
}

// glob matches the few forms of patterns that tests use.
func glob(pattern, key string) bool {
	x := regexp.QuoteMeta(pattern)
	x = strings.ReplaceAll(x, `\*\*/`, `(.*/)?`)
	x = strings.ReplaceAll(x, `/\*\*`, `(/.*)?`)
	x = strings.ReplaceAll(x, `\*`, `[^/]*`)
	return regexp.MustCompile(`(?s)^` + x + `$`).MatchString(key)
}
