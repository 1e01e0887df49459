package rule

import (
	"fmt"
	"slices"
	"strings"
)

// Afterwards is what becomes of a source object once its copy at the target is
// proven.
type Afterwards string

// What can become of the source.
const (
	KeepSource Afterwards = "keep"
	// DeleteSource makes the job a move.
	DeleteSource Afterwards = "delete"
	// ArchiveSource moves it below the archive prefix of the source.
	ArchiveSource Afterwards = "archive"
	// TagSource adds the source tags to it.
	TagSource Afterwards = "tag"
)

// DefaultArchive is where sources go when the job does not say.
const DefaultArchive = "_sent"

// Leaves tells that objects leave their place at the source.
func (a Afterwards) Leaves() bool { return a == DeleteSource || a == ArchiveSource }

// Becomes is what becomes of the source, as the end of "they are …".
func (a Afterwards) Becomes() string {
	return map[Afterwards]string{DeleteSource: "deleted at the source", ArchiveSource: "archived at the source",
		TagSource: "tagged at the source"}[a]
}

// badPrefix tells that a text is no path below a place.
func badPrefix(path string) bool {
	return path == "" || strings.HasPrefix(path, "/") || strings.HasSuffix(path, "/") ||
		slices.ContainsFunc(strings.Split(path, "/"), func(p string) bool { return p == "" || p == "." || p == ".." })
}

func (r *Rules) checkAfterwards() (string, string) {
	if badPrefix(r.ArchivePath) {
		return "archive",
			fmt.Sprintf("archive is %q; it is a path below the source such as %q, without \"/\" at its ends",
				r.ArchivePath, DefaultArchive)
	}
	switch {
	case r.Afterwards == KeepSource:
		return "", ""
	case r.Direction == TwoWay:
		return "afterwards", "a two-way job needs both sides to stay: afterwards is \"keep\""
	case r.Afterwards.Leaves() && r.TargetOnly != KeepThere:
		// The next plan would find the target's copies to be only there, and take
		// them away too.
		return "target-only",
			fmt.Sprintf("what leaves the source would be only at the target the next time, and with "+
				"target-only = %q be gone: target-only is \"keep\"", string(r.TargetOnly))
	case r.Afterwards == TagSource && len(r.SourceTags) == 0:
		return "afterwards",
			"afterwards is \"tag\", but there are no tags to set: write source-tags = { sent = \"yes\" }"
	case len(r.SourceTags) > 10: // S3 API Reference, "PutObjectTagging": 10 an object
		return "source-tags", fmt.Sprintf("source-tags has %d tags; an object can have 10", len(r.SourceTags))
	}
	return "", ""
}
