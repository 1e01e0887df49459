package s3

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	v4 "github.com/aws/aws-sdk-go-v2/aws/signer/v4"
	"github.com/aws/aws-sdk-go-v2/service/s3"

	"lumtra/core/place"
	"lumtra/core/place/wire"
	"lumtra/core/secret"
)

// Config says how to reach a store.
type Config struct {
	// Name is the endpoint's label.
	Name string
	// Address is the store's base URL, without a bucket: "https://host:port".
	Address string
	// Region is what requests are signed for; "" means "us-east-1", which
	// stores without regions take.
	Region string
	// VirtualHost puts the bucket into the host name rather than the path.
	VirtualHost bool
	// AccessKey, Secret and Token are the credentials. Without an access key
	// requests go unsigned; Token is for temporary credentials.
	AccessKey     string
	Secret, Token secret.Text
	// Credentials, when not nil, is asked for them in place of the three, each
	// time they are needed; it keeps what it has while that is good. See
	// [SharedCredentials].
	Credentials aws.CredentialsProvider
	// Bucket is the only one the credentials open; "" means the account.
	Bucket string
	// CAFile names a PEM file with the authority that signed the store's
	// certificate, when it is not a public one.
	CAFile string
	// Proxy is as in [wire.Options].
	Proxy string
	// SignBodies covers contents by the signature. nil means: where neither
	// TLS protects the wire nor the store is on this machine.
	SignBodies *bool
	// Known is what is known about the store; nil takes what the API promises.
	Known *place.Known
	// Dial replaces the network's dialer, in tests.
	Dial wire.Dial
}

// Store is an endpoint: an account at one store.
type Store struct {
	cfg        Config
	base       url.URL
	signBodies bool
	known      *place.Known
	http       *http.Client
	signing    signing
	signer     *v4.Signer              // of links
	creds      aws.CredentialsProvider // nil without any
	sdk        *s3.Client
}

var (
	_ place.Endpoint = (*Store)(nil)
	_ place.Buckets  = (*Store)(nil)
)

// NewStore prepares an endpoint. It does not touch the network.
func NewStore(cfg Config) (*Store, error) {
	bad := func(err error) (*Store, error) {
		return nil, place.NewError(cfg.Name, "open", "", place.Other, err)
	}
	base, err := url.Parse(cfg.Address)
	switch {
	case err != nil:
		return bad(fmt.Errorf("the address cannot be read: %w", err))
	case base.Scheme != "http" && base.Scheme != "https" || base.Host == "":
		return bad(fmt.Errorf("the address %q is not like https://host:port", cfg.Address))
	case strings.Trim(base.Path, "/") != "" || base.RawQuery != "":
		return bad(errors.New("the address must end after host and port; the bucket goes into the path of the job"))
	case cfg.AccessKey != "" && cfg.Secret.Empty():
		return bad(errors.New("there is an access key but no secret"))
	}
	if cfg.Region == "" {
		cfg.Region = "us-east-1"
	}
	transport, err := wire.NewTransport(wire.Options{CAFile: cfg.CAFile, Proxy: cfg.Proxy, Dial: cfg.Dial})
	if err != nil {
		return bad(err)
	}
	s := &Store{
		cfg:    cfg,
		base:   url.URL{Scheme: base.Scheme, Host: base.Host},
		http:   wire.NewClient(transport),
		signer: v4.NewSigner(func(o *v4.SignerOptions) { o.DisableURIPathEscaping = true }),
		creds:  cfg.Credentials,
		known:  cfg.Known,
	}
	if s.known == nil {
		s.known = place.Promised()
	}
	if s.creds == nil && cfg.AccessKey != "" {
		fixed := aws.Credentials{AccessKeyID: cfg.AccessKey, SecretAccessKey: cfg.Secret.Reveal(),
			SessionToken: cfg.Token.Reveal()}
		s.creds = aws.CredentialsProviderFunc(func(context.Context) (aws.Credentials, error) { return fixed, nil })
	}
	if cfg.SignBodies != nil {
		s.signBodies = *cfg.SignBodies
	} else {
		ip := net.ParseIP(base.Hostname())
		s.signBodies = base.Scheme == "http" && base.Hostname() != "localhost" && (ip == nil || !ip.IsLoopback())
	}
	s.sdk = s.newSDK()
	return s, nil
}

// credentials are those to sign with now; empty ones mean not to sign.
func (s *Store) credentials(ctx context.Context) (aws.Credentials, error) {
	if s.creds == nil {
		return aws.Credentials{}, nil
	}
	creds, err := s.creds.Retrieve(ctx)
	if err != nil {
		err = place.NewError(s.cfg.Name, "sign", "", place.BadLogin, errors.New("the credentials could not be had: "+
			err.Error()))
	}
	return creds, err
}

// Name is the endpoint's label.
func (s *Store) Name() string { return s.cfg.Name }

// Close drops idle connections.
func (s *Store) Close() error {
	s.http.CloseIdleConnections()
	return nil
}

// Open gives the place at "bucket" or "bucket/prefix". A prefix stands for a
// folder: keys below it follow after a "/".
func (s *Store) Open(path string) (place.Place, error) {
	bucket, prefix, name, err := wire.SplitPath(s.cfg.Name, path)
	if err != nil {
		return nil, err
	}
	return &Place{store: s, bucket: bucket, prefix: prefix, name: name}, nil
}

// Place is a bucket, or a prefix in it.
type Place struct {
	store  *Store
	bucket string
	prefix string // "" or ending in "/"
	name   string
}

var (
	_ place.Place        = (*Place)(nil)
	_ place.PartWriter   = (*Place)(nil)
	_ place.ServerCopier = (*Place)(nil)
	_ place.NameChecker  = (*Place)(nil)
)

// Name is "endpoint/bucket/prefix".
func (p *Place) Name() string { return p.name }

// Limits of the S3 API ("Amazon S3 multipart upload limits").
const (
	maxWhole  = 5 << 30
	minPart   = 5 << 20
	maxParts  = 10000
	maxObject = 5 << 40
	maxKey    = 1024
)

// Abilities tells the limits of the S3 API, and what is known of the store.
func (p *Place) Abilities() place.Abilities {
	k := p.store.known
	a := place.Abilities{
		Protocol:  "S3 API",
		MaxObject: maxObject, MaxWhole: maxWhole, MaxCopy: maxWhole,
		MinPart: minPart, MaxPart: maxWhole, MaxParts: maxParts,
		StoredSums: p.keeps(),
		// Listings tell milliseconds at some stores, headers seconds at all.
		TimeStep:      time.Second,
		Clock:         place.Clock{Early: time.Second, Late: time.Second}, // whole seconds, rounded either way
		KeepsMetadata: true, DigestsAfter: true, Conditions: !k.Lacks(place.PutIfAbsent) &&
			!k.Lacks(place.PutIfStill), Encodings: true,
		ChecksAfter: !p.vouches(p.wayOf(p.holds(small+1, false), false)) || !p.vouches(p.aheadOf()),
		MaxKey:      maxKey,
	}
	if keeps := !k.Lacks(place.KeepsMeta); keeps {
		a.PartsSumFirst = !p.keepsVouching(true)
		if !p.keepsVouching(false) {
			a.SumFirst = memory
		}
	}
	if k.Lacks(place.CopyWhole) {
		a.MaxCopy = 1
	}
	return a
}
