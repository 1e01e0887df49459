package kit

import (
	"fmt"
	"strings"

	"lumtra/core/handle"
)

// ColdText says how cold objects stand: asked for, readable, or neither.
func ColdText(s *handle.ColdStates) string {
	var parts []string
	for _, x := range []struct {
		n    handle.Count
		text string
	}{{s.Archived, "must be asked for"}, {s.Restoring, "being restored"}, {s.Readable, "can be read"}} {
		if x.n.Objects > 0 {
			parts = append(parts, fmt.Sprintf("%s (%s) %s", Count(x.n.Objects), Size(x.n.Bytes), x.text))
		}
	}
	if !s.Until.IsZero() {
		parts = append(parts, "the first until "+s.Until.Local().Format("2006-01-02 15:04"))
	}
	if len(parts) == 0 {
		return "None of them is in a cold class."
	}
	return "How they stand: " + strings.Join(parts, ", ") + "."
}
