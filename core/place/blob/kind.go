package blob

import (
	"cmp"
	"context"
	"net/url"
	"strings"
	"time"

	"lumtra/core/place"
	"lumtra/core/place/kind"
	"lumtra/core/secret"
)

var signs = kind.Signs{Who: "account", As: secret.AccountKey,
	Name: func(s *kind.Settings) *string { return &s.Account }, Access: true}

// Kind describes endpoints that speak the Azure Blob API.
var Kind = kind.Kind{
	Name: "blob", Speaks: "Azure Blob API", Thing: "a Blob store", Buckets: true, Bucket: "container", Remote: true,
	Encodes: true,
	StandIn: "blob", Signs: &signs,
	Asks:  []kind.Ask{kind.AskBucket, kind.AskCA, kind.AskProxy},
	Check: check,
	Open:  openKind,
	Read:  readAddress,
	Until: func(c secret.Credential) (until time.Time) {
		if c.Kind == secret.SignedAccess {
			until = accessOf(c.Secret.Reveal()).Until
		}
		return until
	},
}

func check(s *kind.Settings) (setting, what string) {
	if s.StandIn != "" && s.Account == "" {
		return "account", "a stand-in of this kind needs an account and its key"
	}
	if setting, what := s.CheckStore(); what != "" {
		return setting, what
	}
	return s.CheckSigning(&signs)
}

func openKind(_ context.Context, s *kind.Settings, m kind.Means) (place.Endpoint, error) {
	address := cmp.Or(m.Address, s.Address)
	if s.StandIn != "" { // which has no name of its own for each account
		address += "/" + m.Login.Name
	}
	return NewStore(Config{Known: m.Known, Name: s.Name, Address: address, Account: m.Login.Name, Key: m.Login.Secret,
		SAS:    m.Login.Access,
		Bucket: s.Bucket, CAFile: m.CAFile, Proxy: s.Proxy})
}

// readAddress takes a signed address apart, and any other of which the host says what is
// spoken there.
func readAddress(text string) (p kind.Pasted, fit kind.Fit, err error) {
	if strings.Contains(text, "sig=") && strings.Contains(text, "://") {
		base, query, access, err := ParseAccess(text)
		if err != nil {
			return p, kind.Surely, err
		}
		p.Endpoint = kind.Settings{Kind: "blob", Address: base, Bucket: access.Bucket}
		p.Credential = &secret.Credential{Kept: secret.Kept{Kind: secret.SignedAccess, Until: access.Until},
			Secret: secret.New(query)}
		p.Access = &access
		return p, kind.Surely, nil
	}
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || !kind.IsAddress(text) {
		return p, kind.No, nil
	}
	p.Endpoint = kind.Settings{Kind: "blob"}
	p.Endpoint.Address, p.Endpoint.Account, p.Endpoint.Bucket, _ = split(u)
	if strings.Contains(u.Hostname(), ".blob.") {
		return p, kind.Likely, nil
	}
	return p, kind.Maybe, nil
}
