package folder

import (
	"context"

	"lumtra/core/place"
	"lumtra/core/place/kind"
)

// Kind describes endpoints that are folders.
var Kind = kind.Kind{
	Name: "folder", Speaks: "folder", Thing: "a folder", Files: true,
	Without: map[place.Skill]string{place.Tags: "files have no tags"},
	Check:   (*kind.Settings).CheckPath,
	Open: func(_ context.Context, s *kind.Settings, m kind.Means) (place.Endpoint, error) {
		return OpenEndpoint(s.Name, m.Path, Options{Sync: s.Sync})
	},
	Read: func(text string) (p kind.Pasted, fit kind.Fit, err error) {
		if kind.IsAddress(text) {
			return p, kind.No, nil
		}
		p.Endpoint = kind.Settings{Kind: "folder", Path: text}
		return p, kind.Maybe, nil
	},
}
