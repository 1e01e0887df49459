package s3

import (
	"cmp"
	"context"
	"strings"

	"lumtra/core/place"
	"lumtra/core/place/kind"
	"lumtra/core/secret"
)

var signs = kind.Signs{Who: "access key", As: secret.KeyPair,
	Name: func(s *kind.Settings) *string { return &s.AccessKey }, Tokens: true, Shared: true}

// Kind describes endpoints that speak the S3 API.
var Kind = kind.Kind{
	Name: "s3", Speaks: "S3 API", Thing: "an S3 store", Buckets: true, Bucket: "bucket", Remote: true, Encodes: true,
	StandIn: "s3",
	Signs:   &signs,
	Asks: []kind.Ask{
		kind.AskBucket,
		{Label: "region", Hint: "us-east-1, as stores without regions take it",
			Of: func(s *kind.Settings) *string { return &s.Region }},
		{Label: "buckets in", Choices: []string{"path", "host"},
			Of: func(s *kind.Settings) *string { return &s.Addressing }},
		kind.AskCA, kind.AskProxy,
	},
	Check: func(s *kind.Settings) (setting, what string) {
		if setting, what := s.CheckStore(); what != "" {
			return setting, what
		}
		return s.CheckSigning(&signs)
	},
	Open: openKind,
	Read: readAddress,
}

func openKind(ctx context.Context, s *kind.Settings, m kind.Means) (place.Endpoint, error) {
	cfg := Config{Known: m.Known, Name: s.Name, Address: cmp.Or(m.Address, s.Address), Region: s.Region,
		VirtualHost: s.Addressing == "host", Bucket: s.Bucket,
		AccessKey: m.Login.Name, Secret: m.Login.Secret, Token: m.Login.Token, SignBodies: s.SignBodies,
		CAFile: m.CAFile, Proxy: s.Proxy}
	if m.Login.Shared {
		shared, region, err := SharedCredentials(ctx, m.Login.Profile)
		if err != nil {
			return nil, place.NewError(s.Name, "open", "", place.BadLogin, err)
		}
		cfg.Credentials, cfg.Region = shared, cmp.Or(s.Region, region)
	}
	return NewStore(cfg)
}

// readAddress takes an address apart, with the bucket that its path names.
func readAddress(text string) (p kind.Pasted, fit kind.Fit, err error) {
	scheme, rest, _ := strings.Cut(text, "://")
	if scheme = strings.ToLower(scheme); scheme != "http" && scheme != "https" {
		return p, kind.No, nil
	}
	host, path, _ := strings.Cut(rest, "/")
	p.Endpoint = kind.Settings{Kind: "s3", Address: scheme + "://" + host}
	p.Endpoint.Bucket, _, _ = strings.Cut(path, "/")
	return p, kind.Maybe, nil
}
