package job

import (
	"fmt"
	"strings"

	"lumtra/core/pack"
	"lumtra/core/place/kind"
	"lumtra/core/rule"
)

// IdlePacks are the names of settings in [packs] that mean nothing at the job's target: how several packs
// divide what is sent where there is one, or none, and how hard what is not compressed is compressed.
func (j *Job) IdlePacks() (names []string) {
	_, at := SplitPlace(j.Target)
	file, _, leads := pack.Split(at)
	form, _ := pack.FormOf(file)
	idle := func(set bool, name string) {
		if set {
			names = append(names, name)
		}
	}
	several := leads && (pack.IsSet(file) || pack.Mistaken(file) != "")
	idle(j.Packs.AtMost != "" && !several, "at-most")
	idle(j.Packs.Under != "" && !several, "under")
	idle(j.Packs.By != rule.InTurn && !several, "by")
	idle(j.Packs.Level != 0 && (!leads || form == pack.Plain), "level")
	idle(j.Packs.Attributes && !leads, "attributes")
	return names
}

// idlePack says what a setting in [packs] is for.
func idlePack(name string, leads bool) string {
	switch {
	case name == "level" && leads:
		return "a .tar is not compressed"
	case name == "level" || name == "attributes":
		return "the target is no pack; that of one ends in .tar.zst!, .tar.gz! or .tar!"
	}
	return "it is for several packs, whose name is " + pack.Each + ".tar.zst!, " + pack.Each + ".tar.gz! or " +
		pack.Each + ".tar!"
}

// checkPack finds what cannot be where the target is the inside of a pack.
func (j *Job) checkPack(d *document, to *kind.Kind) error {
	_, at := SplitPlace(j.Target)
	file, _, leads := pack.Split(at)
	for _, name := range j.IdlePacks() {
		return d.wrong(name+" says nothing here: "+idlePack(name, leads), "packs", name)
	}
	if !leads {
		return nil
	}
	form, _ := pack.FormOf(file)
	switch {
	case to.Buckets && !strings.Contains(file, "/"):
		return d.wrong("target names no bucket or container: write \"endpoint/bucket/name.tar.zst!\"", "target")
	case pack.Mistaken(file) != "":
		return d.wrong("target: "+pack.Mistaken(file), "target")
	case j.Direction == rule.TwoWay:
		return d.wrong("target is a pack, which is written one way: direction is \"one-way\"", "direction")
	case form == pack.Gzip && j.Packs.Level > 9:
		return d.wrong(fmt.Sprintf("level is %d; gzip has 1 to 9", j.Packs.Level), "packs", "level")
	case j.TargetOnly == rule.MoveToTrash:
		return d.wrong("target is a pack, which has no trash: target-only is \"keep\" or \"delete\"", "target-only")
	case j.WhenDifferent == rule.KeepBoth:
		return d.wrong("target is a pack, which keeps older versions by itself: when-different is \"replace\"",
			"when-different")
	case j.As.Tags:
		return d.wrong("target is a pack, in which nothing has tags", "as", "tags")
	case len(j.As.Gzip) > 0:
		return d.wrong("target is a pack, which is compressed by its name: .tar.zst or .tar.gz", "as", "gzip")
	}
	return nil
}
