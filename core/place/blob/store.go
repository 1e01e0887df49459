package blob

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/Azure/azure-sdk-for-go/sdk/azcore"
	"github.com/Azure/azure-sdk-for-go/sdk/azcore/policy"
	"github.com/Azure/azure-sdk-for-go/sdk/azcore/runtime"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/blob"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/bloberror"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/container"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/service"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/wire"
	"lumtra/core/secret"
)

// Config says how to reach an account.
type Config struct {
	// Name is the endpoint's label.
	Name string
	// Address is the account's base URL, without a container:
	// "https://account.blob.example.net", or with the account as its path.
	Address string
	// Account and Key are the shared-key credentials. SAS is a signed access,
	// the query of a signed address, in their place. With neither, requests
	// are anonymous.
	Account  string
	Key, SAS secret.Text
	// CRC64 has the service verify pieces by CRC-64 rather than MD5. Not every
	// server does. It counts only without Known, which tells.
	CRC64 bool
	// Known is what is known about the store; nil takes what the API promises.
	Known *place.Known
	// Bucket is the only container a signed access opens; "" means the account.
	Bucket string
	// CAFile names a PEM file with the authority that signed the store's
	// certificate, when it is not a public one.
	CAFile string
	// Proxy is as in [wire.Options].
	Proxy string
}

// Store is an endpoint: an account, or what a signed access opens of it.
type Store struct {
	cfg   Config
	known *place.Known
	svc   *service.Client
	http  *http.Client
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
	if err != nil || base.Scheme != "http" && base.Scheme != "https" || base.Host == "" || base.RawQuery != "" {
		return bad(fmt.Errorf("the address %q is not like https://account.host", cfg.Address))
	}
	transport, err := wire.NewTransport(wire.Options{CAFile: cfg.CAFile, Proxy: cfg.Proxy})
	if err != nil {
		return bad(err)
	}
	s := &Store{cfg: cfg, known: cfg.Known, http: wire.NewClient(&answers{transport})}
	if s.known == nil {
		if s.known = place.Promised(); !cfg.CRC64 {
			s.known.Learn(place.SumAhead, place.Ignored)
		}
	}
	opts := &service.ClientOptions{ClientOptions: azcore.ClientOptions{
		Retry:     policy.RetryOptions{MaxRetries: -1}, // ours decides
		Telemetry: policy.TelemetryOptions{Disabled: true},
		Transport: s.http,
	}}
	address := strings.TrimRight(cfg.Address, "/") + "/"
	switch {
	case !cfg.SAS.Empty():
		s.svc, err = service.NewClientWithNoCredential(address+"?"+strings.TrimPrefix(cfg.SAS.Reveal(), "?"), opts)
	case cfg.Account != "":
		var key *service.SharedKeyCredential
		if key, err = service.NewSharedKeyCredential(cfg.Account, cfg.Key.Reveal()); err != nil {
			return bad(errors.New("the account key is not valid base64"))
		}
		s.svc, err = service.NewClientWithSharedKeyCredential(address, key, opts)
	default:
		s.svc, err = service.NewClientWithNoCredential(address, opts)
	}
	if err != nil {
		return bad(errors.New("the address or the credentials cannot be used"))
	}
	return s, nil
}

// answers bounds what the service answers where it is not asked for content, which
// the SDK reads whole.
type answers struct{ *http.Transport }

// RoundTrip makes one request.
func (a *answers) RoundTrip(req *http.Request) (*http.Response, error) {
	resp, err := a.Transport.RoundTrip(req)
	if err == nil && (resp.StatusCode >= 300 || req.URL.Query().Has("comp")) {
		resp.Body = wire.Limited(resp.Body, wire.MostAnswer)
	}
	return resp, err
}

// Name is the endpoint's label.
func (s *Store) Name() string { return s.cfg.Name }

// Close drops idle connections.
func (s *Store) Close() error {
	s.http.CloseIdleConnections()
	return nil
}

// Open gives the place at "container" or "container/prefix".
func (s *Store) Open(path string) (place.Place, error) {
	bucket, prefix, name, err := wire.SplitPath(s.cfg.Name, path)
	if err != nil {
		return nil, err
	}
	return &Place{store: s, client: s.svc.NewContainerClient(bucket), bucket: bucket, prefix: prefix, name: name}, nil
}

// Place is a container, or a prefix in it.
type Place struct {
	store  *Store
	client *container.Client
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

// Name is "endpoint/container/prefix".
func (p *Place) Name() string { return p.name }

// Limits of block blobs ("Scalability and performance targets for Blob storage").
const (
	maxWhole  = 5000 << 20
	maxBlock  = 4000 << 20
	maxBlocks = 50000
	maxObject = maxBlock * maxBlocks
	maxKey    = 1024 // characters
	maxParts  = 254  // path segments
)

// Abilities tells the limits of block blobs, and what is known of the store.
func (p *Place) Abilities() place.Abilities {
	k := p.store.known
	return place.Abilities{
		Protocol:  "Azure Blob API",
		MaxObject: maxObject, MaxWhole: maxWhole,
		MinPart: 1, MaxPart: maxBlock, MaxParts: maxBlocks,
		StoredSums:    object.CRC64NVME,
		TimeStep:      time.Second,
		Clock:         place.Clock{Early: time.Second, Late: time.Second}, // whole seconds, rounded either way
		KeepsMetadata: true, Conditions: !k.Lacks(place.PutIfAbsent) && !k.Lacks(place.PutIfStill), Encodings: true,
		ChecksAfter: !p.vouches(),
		MaxKey:      maxKey,
	}
}

func deref[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

func (p *Place) fail(ctx context.Context, op, key string, err error) error {
	return failure(ctx, p.name, op, key, err)
}

// failure sorts an error of the SDK by cause ("Blob service error codes").
func failure(ctx context.Context, name, op, key string, err error) error {
	if err == nil {
		return nil
	}
	var placeErr *place.Error
	var resp *azcore.ResponseError
	switch {
	case ctx.Err() != nil:
		return place.NewError(name, op, key, place.Cancelled, nil)
	case errors.As(err, &placeErr):
		return err // reading the source failed
	case !errors.As(err, &resp):
		var urlErr *url.Error
		if errors.As(err, &urlErr) {
			err = urlErr.Err // without the address: it may carry a signature
		}
		return place.NewError(name, op, key, place.Unreachable, err)
	}
	e := place.NewError(name, op, key, errorKind(resp.StatusCode, bloberror.Code(resp.ErrorCode)),
		fmt.Errorf("HTTP %d", resp.StatusCode))
	e.Code, e.Status = resp.ErrorCode, resp.StatusCode
	if said := said(resp); said != "" {
		e.Err = errors.New(said)
	}
	if at := expired(resp); !at.IsZero() {
		e.Kind = place.BadLogin
		e.Err = fmt.Errorf("the signed access expired on %s; ask for a new one (the service says: %w)",
			at.Local().Format("2006-01-02 15:04 MST"), e.Err)
	}
	if resp.RawResponse != nil {
		e.Request = resp.RawResponse.Header.Get("X-Ms-Request-Id")
		e.After = wire.RetryAfter(resp.RawResponse.Header)
	}
	return e
}

// expired is when the signature of a refused request ran out: zero where it has none, or one
// that was good by the service's clock. It is the first suspect, whatever the service says.
func expired(resp *azcore.ResponseError) time.Time {
	if resp.RawResponse == nil || resp.RawResponse.Request == nil ||
		resp.StatusCode != http.StatusForbidden && resp.StatusCode != http.StatusUnauthorized {
		return time.Time{}
	}
	until := accessOf(resp.RawResponse.Request.URL.RawQuery).Until
	now, err := http.ParseTime(resp.RawResponse.Header.Get("Date"))
	if err != nil {
		now = time.Now()
	}
	if until.After(now) {
		return time.Time{}
	}
	return until
}

// said is the message of an error's document ("Status and error codes"), of which
// the SDK keeps the text.
func said(resp *azcore.ResponseError) string {
	if resp.RawResponse == nil {
		return ""
	}
	raw, err := runtime.Payload(resp.RawResponse)
	var doc struct{ Message string }
	if err != nil || xml.Unmarshal(raw, &doc) != nil {
		return ""
	}
	message, _, _ := strings.Cut(doc.Message, "\n") // the rest has the request's name and time
	return strings.TrimSpace(message)
}

func errorKind(status int, code bloberror.Code) place.ErrorKind {
	switch code {
	case bloberror.BlobAlreadyExists, bloberror.ContainerAlreadyExists:
		return place.Exists
	case bloberror.ConditionNotMet, bloberror.InvalidRange, "SourceConditionNotMet", "CannotVerifyCopySource":
		if status == http.StatusNotFound {
			return place.NotFound
		}
		return place.Changed
	case bloberror.MD5Mismatch, bloberror.InvalidMD5, "Crc64Mismatch":
		return place.Corrupt
	case bloberror.AuthenticationFailed, bloberror.InvalidAuthenticationInfo, bloberror.NoAuthenticationInformation:
		return place.BadLogin
	case bloberror.RequestBodyTooLarge, bloberror.BlockCountExceedsLimit:
		return place.TooLarge
	case bloberror.InvalidResourceName, bloberror.InvalidURI, "OutOfRangeInput":
		return place.BadName
	case bloberror.BlobArchived, bloberror.BlobBeingRehydrated:
		return place.Archived
	case bloberror.AuthorizationPermissionMismatch, bloberror.AuthorizationFailure,
		bloberror.InsufficientAccountPermissions:
		return place.Denied
	case bloberror.ServerBusy:
		return place.Throttled
	case bloberror.InvalidBlockList, bloberror.InvalidXMLDocument, bloberror.InvalidXMLNodeValue,
		bloberror.MissingRequiredXMLNode, bloberror.UnsupportedXMLNode, "MalformedXML":
		return place.Corrupt // the list was damaged on the way, or the blocks are gone
	}
	return wire.StatusKind(status)
}

func (p *Place) blob(ref object.Ref) (*blob.Client, error) {
	c := p.client.NewBlobClient(p.prefix + ref.Key)
	if ref.Version == "" {
		return c, nil
	}
	if at, ok := strings.CutPrefix(ref.Version, snapshotMark); ok {
		return c.WithSnapshot(at)
	}
	return c.WithVersionID(ref.Version)
}

// ifMark makes a request conditional on a mark.
func ifMark(mark string) *blob.AccessConditions {
	if mark == "" {
		return nil
	}
	tag := azcore.ETag(`"` + mark + `"`)
	return &blob.AccessConditions{ModifiedAccessConditions: &blob.ModifiedAccessConditions{IfMatch: &tag}}
}

// writeConditions are those of a write.
func writeConditions(opts place.WriteOptions) *blob.AccessConditions {
	switch opts.Condition {
	case place.IfAbsent:
		star := azcore.ETagAny
		return &blob.AccessConditions{ModifiedAccessConditions: &blob.ModifiedAccessConditions{IfNoneMatch: &star}}
	case place.IfStill:
		return ifMark(opts.Mark)
	}
	return nil
}
