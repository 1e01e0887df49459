package jobs

import (
	"cmp"
	"path"
	"strings"

	"lumtra/core/job"
	"lumtra/core/pack"
	"lumtra/core/place/kind"
	"lumtra/core/rule"
)

// divided says how hard packs are compressed, and how several share what is sent.
func divided(j *job.Job) (line []segment) {
	file, _, in := pack.Split(j.Target)
	if form, _ := pack.FormOf(file); in && form != pack.Plain {
		line = append(line, plain(" "), say(packsLevel))
	}
	if in {
		line = append(line, plain(" , "), say(packsAttributes))
	}
	if !pack.IsSet(file) {
		return line
	}
	line = append(line, plain(" , "), say(packsBy))
	if j.Packs.By == rule.InTurn {
		line = append(line, plain(" of "), say(packsAtMost))
	}
	return append(line, plain(" , "), say(packsUnder))
}

// fitting is the job's text without what it says of packs that means nothing at its target: it was for another.
func fitting(text string, j *job.Job) string {
	if j == nil {
		return text
	}
	for _, name := range j.IdlePacks() {
		if without, err := job.Set(text, nil, "packs", name); err == nil {
			text = without
		}
	}
	return text
}

// packs has a choice of forms change the target's name.
func packs(p *phrase) *phrase {
	p.into = func(j *job.Job, form string) string {
		end, at := job.SplitPlace(j.Target)
		if form, several := strings.CutPrefix(form, pack.Each); several {
			return end + "/" + pack.AsSet(at, pack.Form(form))
		}
		if at == "" || form != "" && !pack.Leads(at) && !strings.Contains(at, "/") && end != kind.Local {
			_, from := job.SplitPlace(j.Source) // a bucket, or nothing yet, is no name for a pack
			at = strings.Trim(at+"/"+cmp.Or(path.Base("/"+strings.Trim(from, "/")), "takes"), "/")
			at = strings.TrimSuffix(at, "/")
		}
		return end + "/" + pack.As(at, pack.Form(form))
	}
	return p
}

// The phrases about packs.
var (
	packing = packs(choose("target", "As they are, or in packs",
		func(j *job.Job) string {
			file, _, _ := pack.Split(j.Target)
			form, _ := pack.FormOf(file)
			if pack.IsSet(file) {
				return pack.Each + string(form)
			}
			return string(form)
		},
		choice{"", "as they are", "Each object is one at the target."},
		choice{string(pack.Zstd), "as one pack, zstd",
			"All of them are one object: an archive that plain tools take, with an index by which single ones are " +
				"read, and checksums of each. Later runs add what is new, and only that is sent."},
		choice{string(pack.Plain), "as one pack, not compressed",
			"The same, for what does not compress. `lumtra pack sample` tries it on a part of the files."},
		choice{string(pack.Gzip), "as one pack, gzip", "The same, for readers that know nothing newer."},
		choice{pack.Each + string(pack.Zstd), "as several packs, zstd",
			"As many packs in that folder as it takes: of a size, or one for each folder; with all in them, or small " +
				"files alone and the rest as they are."},
		choice{pack.Each + string(pack.Plain), "as several packs, not compressed",
			"The same, for what does not compress."},
		choice{pack.Each + string(pack.Gzip), "as several packs, gzip",
			"The same, for readers that know nothing newer."}))
	packsBy = choose("packs.by", "What shares a pack", func(j *job.Job) string { return string(j.Packs.By) },
		choice{"", "one after the other",
			"What is new goes into the last pack, until that is full; what changed, to where it lies."},
		choice{string(rule.ByFolder), "one for each folder",
			"Each folder at the top has a pack of its own, named by it."})
	packsAtMost = &phrase{path: []string{"packs", "at-most"}, how: byText, title: "How large a pack becomes",
		hint: "50GB; nothing for 10GB", value: func(j *job.Job) string { return j.Packs.AtMost },
		words: func(j *job.Job) string { return "at most " + cmp.Or(j.Packs.AtMost, "10GB") }}
	packsLevel = &phrase{path: []string{"packs", "level"}, how: byNumber, title: "How hard packs are compressed",
		hint: "zstd 1 to 22, gzip 1 to 9; nothing for the usual", value: func(j *job.Job) string {
			return number(int64(j.Packs.Level))
		}, words: func(j *job.Job) string {
			if j.Packs.Level == 0 {
				return "as usual"
			}
			return "at level " + number(int64(j.Packs.Level))
		}}
	packsAttributes = choose("packs.attributes", "Extended attributes",
		func(j *job.Job) string { return map[bool]string{true: "true", false: ""}[j.Packs.Attributes] },
		choice{"", "without extended attributes", "Permissions, owners, times and links are kept in any case."},
		choice{"true", "with extended attributes", "Those of files and folders that can be read are kept, too."})
	packsUnder = &phrase{path: []string{"packs", "under"}, how: byText, title: "How small files are that are packed",
		hint: "1MB; nothing to pack all", value: func(j *job.Job) string { return j.Packs.Under },
		words: func(j *job.Job) string {
			if j.Packs.Under == "" {
				return "with all in them"
			}
			return "with what is under " + j.Packs.Under + ", the rest as it is"
		}}
)
