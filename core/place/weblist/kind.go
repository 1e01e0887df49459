package weblist

import (
	"context"
	"strings"

	"lumtra/core/place"
	"lumtra/core/place/kind"
	"lumtra/core/place/wire"
)

// Kind describes endpoints that are lists of web addresses.
var Kind = kind.Kind{
	Name: "list", Speaks: "web addresses", Thing: "a list of web addresses", ReadOnly: true, Remote: true,
	Check: (*kind.Settings).CheckPath,
	Open: func(_ context.Context, s *kind.Settings, m kind.Means) (place.Endpoint, error) {
		return OpenEndpoint(s.Name, m.Path, wire.Options{CAFile: m.CAFile, Proxy: s.Proxy})
	},
	Read: func(text string) (p kind.Pasted, fit kind.Fit, err error) {
		lower := strings.ToLower(text)
		if kind.IsAddress(text) || !strings.HasSuffix(lower, ".csv") && !strings.HasSuffix(lower, ".txt") {
			return p, kind.No, nil
		}
		p.Endpoint = kind.Settings{Kind: "list", Path: text}
		return p, kind.Likely, nil
	},
}
