package frame

import (
	"strconv"

	"lumtra/tui/jobs"
	"lumtra/tui/kit"
	"lumtra/tui/now"
	"lumtra/tui/places"
	"lumtra/tui/plan"
	"lumtra/tui/proof"
	"lumtra/tui/run"
	"lumtra/tui/settings"
)

// views are all there are, in the order of the digits that open them.
var views = []kit.ViewKind{
	now.View,
	places.View,
	jobs.View,
	plan.View,
	run.View,
	proof.View,
	settings.View,
}

// viewKeys are the keys that open views.
func viewKeys() (keys []kit.Key) {
	for i, v := range views {
		keys = append(keys, kit.Key{Press: strconv.Itoa(i + 1), Does: string(v.View) + ": " + v.Does})
	}
	return keys
}

// viewOf is what the view that is shown tells of itself.
func (m *model) viewOf() kit.ViewKind {
	for _, v := range views {
		if v.View == m.view {
			return v
		}
	}
	return views[0]
}
