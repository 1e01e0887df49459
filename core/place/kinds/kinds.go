// Package kinds lists the kinds of endpoints there are. Adding one is a package of its own,
// with a [kind.Kind], and a line here; see docs/places.md.
package kinds

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"lumtra/core/place/blob"
	"lumtra/core/place/folder"
	"lumtra/core/place/kind"
	"lumtra/core/place/s3"
	"lumtra/core/place/weblist"
	"lumtra/core/secret"
)

// All are the kinds, in the order they are offered.
var All = []*kind.Kind{&folder.Kind, &s3.Kind, &blob.Kind, &weblist.Kind}

// unknown is what an endpoint is whose kind there is none of.
var unknown = &kind.Kind{Speaks: "unknown", Thing: "of no known kind", ReadOnly: true}

// Of is the kind of an endpoint's settings. Settings that were checked have one; nil, and what
// was not, are of an unknown one that can do nothing.
func Of(s *kind.Settings) *kind.Kind {
	if s != nil {
		for _, k := range All {
			if k.Name == s.Kind {
				return k
			}
		}
	}
	return unknown
}

// SignedBy names the kind whose endpoints sign with what the settings name, "" when they name
// nothing, or what more than one kind signs with.
func SignedBy(s *kind.Settings) (name string) {
	for _, k := range All {
		if k.Signs != nil && *k.Signs.Name(s) != "" {
			if name != "" {
				return ""
			}
			name = k.Name
		}
	}
	return name
}

// names are what settings call the kinds, as a sentence lists them.
func names() string {
	var names []string
	for _, k := range All {
		names = append(names, fmt.Sprintf("%q", k.Name))
	}
	return strings.Join(names[:len(names)-1], ", ") + " or " + names[len(names)-1]
}

// Check names the wrong setting of an endpoint and what is wrong with it, "" when all is
// well. It also reads the settings that have a form of their own, such as the hours.
func Check(s *kind.Settings) (setting, what string) {
	if setting, what := s.CheckLimits(); what != "" {
		return setting, what
	}
	k := Of(s)
	if k == unknown {
		return "kind", fmt.Sprintf("kind is %q; it is %s", s.Kind, names())
	}
	return k.Check(s)
}

// Read makes settings of what somebody typed or pasted to name an endpoint: the kind that
// fits best says how. The error never shows the text, which may hold a secret.
func Read(text string) (kind.Pasted, error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return kind.Pasted{}, errors.New("paste an address, or type the path of a folder")
	}
	signed := strings.Contains(text, "sig=")
	if !signed && strings.Contains(text, "://") && strings.Contains(text, "@") {
		return kind.Pasted{}, errors.New("no credentials in the address: they are asked for, and kept apart")
	}
	var best kind.Pasted
	var fits kind.Fit
	var failed error
	for _, k := range All {
		if p, fit, err := k.Read(text); fit > fits {
			best, fits, failed = p, fit, err
		}
	}
	if !signed {
		best.Text = text
	}
	return best, failed
}

// As is what was pasted, read as an endpoint of the kind of that name: which it is cannot be
// seen from every address. "", and a kind that it cannot be, leave it as it was guessed.
func As(p kind.Pasted, name string) kind.Pasted {
	k := Of(&kind.Settings{Kind: name})
	if k == unknown || name == p.Endpoint.Kind || p.Text == "" {
		return p
	}
	q, fit, err := k.Read(p.Text)
	if fit == kind.No || err != nil {
		return p
	}
	q.Text = p.Text
	return q
}

// Alike are the kinds that text which was pasted can name, the guessed one among them.
func Alike(p kind.Pasted) []*kind.Kind {
	var all []*kind.Kind
	for _, k := range All {
		if _, fit, _ := k.Read(p.Text); p.Text != "" && fit != kind.No || k.Name == p.Endpoint.Kind {
			all = append(all, k)
		}
	}
	return all
}

// Until is when a credential runs out by what it says of itself; zero where it does not say.
func Until(c secret.Credential) time.Time {
	for _, k := range All {
		if k.Until != nil {
			if until := k.Until(c); !until.IsZero() {
				return until
			}
		}
	}
	return time.Time{}
}
