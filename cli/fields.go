package cli

import (
	"strings"

	"lumtra/core/place"
	"lumtra/core/plan"
	"lumtra/core/price"
	"lumtra/core/proof"
	"lumtra/core/transfer"
	"lumtra/service/workroom"
)

// What is nested in events has names of its own here: those of Go's fields are not for
// programs to read, and may change.

func totalFields(t plan.Total) map[string]any {
	return map[string]any{"objects": t.Count, "bytes": t.Bytes}
}

func totalsFields(t *plan.Totals) map[string]any {
	all := map[string]any{}
	for kind, total := range t.Map() {
		all[kindName(kind)] = totalFields(total)
	}
	return all
}

// kindName is what an effect is called in events: its words with "-" between them.
func kindName(k plan.Kind) string { return dashed(k.String()) }

func waysFields(w plan.Ways) []map[string]any {
	all := []map[string]any{}
	for _, side := range []struct {
		name     string
		promises []place.Promise
	}{{"source", w.Source}, {"target", w.Target}} {
		for _, p := range side.promises {
			all = append(all, map[string]any{"side": side.name, "promise": p.Name, "way": p.Way, "weak": p.Weak})
		}
	}
	return all
}

func problemFields(list []transfer.Problem) []map[string]any {
	all := []map[string]any{}
	for _, p := range list {
		all = append(all, map[string]any{"cause": p.Cause, "advice": p.Advice, "count": p.Count, "keys": p.Keys,
			"detail": p.Detail})
	}
	return all
}

func requestFields(r price.Requests) map[string]any {
	return map[string]any{"lists": r.Lists, "reads": r.Reads, "writes": r.Writes, "copies": r.Copies,
		"deletes": r.Removes, "all": r.All()}
}

func costFields(list []price.Cost) []map[string]any {
	all := []map[string]any{}
	for _, c := range list {
		all = append(all, map[string]any{"side": c.Side, "what": c.What, "amount": c.Amount, "monthly": c.Monthly})
	}
	return all
}

// verdictFields are counts by what a proof found.
func verdictFields(counts map[proof.Verdict]int64) map[string]any {
	all := map[string]any{}
	for v, n := range counts {
		all[dashed(string(v))] = n
	}
	return all
}

func checkFields(c *workroom.Check) map[string]any {
	return map[string]any{"name": c.Name, "weight": c.Weigh, "found": c.Found, "mend": c.Mend, "blocks": c.Blocks}
}

func dashed(words string) string { return strings.ReplaceAll(words, " ", "-") }
