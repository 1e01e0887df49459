package job

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"lumtra/core/pace"
)

// Kinds of endpoint.
const (
	KindFolder = "folder"
	KindS3     = "s3"
	KindBlob   = "blob"
	KindList   = "list"
)

// Endpoint is one entry of endpoints.toml. Which settings count depends on Kind.
type Endpoint struct {
	Name string `toml:"-"`
	Kind string `toml:"kind"`

	// Path is a folder's, or that of a list of web addresses, relative to the
	// workspace.
	Path string `toml:"path,omitempty"`
	// Sync has every written file reach the disk before it counts.
	Sync bool `toml:"sync,omitempty"`

	// Address is a store's base URL.
	Address string `toml:"address,omitempty"`
	// Bucket is the only one the credentials open, "" for the whole account.
	Bucket string `toml:"bucket,omitempty"`
	Region string `toml:"region,omitempty"`
	// Addressing is "path" (the default) or "host", where buckets stand.
	Addressing string `toml:"addressing,omitempty"`

	// Credential says what to sign with: "kept:LABEL" for one that Lumtra
	// keeps, "profile:NAME" or "chain" for those the SDKs of the S3 API share.
	Credential string `toml:"credential,omitempty"`
	// AccessKey and Account are not secret; SecretFrom, TokenFrom and
	// SignatureFrom say where the secrets lie: "env:NAME" or "file:PATH".
	AccessKey     string `toml:"access-key,omitempty"`
	Account       string `toml:"account,omitempty"`
	SecretFrom    string `toml:"secret-from,omitempty"`
	TokenFrom     string `toml:"token-from,omitempty"`
	SignatureFrom string `toml:"signature-from,omitempty"`

	CAFile     string `toml:"ca-file,omitempty"`
	Proxy      string `toml:"proxy,omitempty"`
	SignBodies *bool  `toml:"sign-bodies,omitempty"`
	// ETagIsMD5 says, where no test can find it out, whether ETags are the MD5 of the
	// content.
	ETagIsMD5 *bool `toml:"etag-is-md5,omitempty"`
	// Test is "" for an endpoint that is tested, small and cheap, before the first run
	// writes to it, or [TestNever].
	Test string `toml:"test,omitempty"`

	// MaxObjects is the most objects a bucket there may hold; 0 means no limit.
	MaxObjects int64 `toml:"max-objects,omitempty"`

	// Bandwidth are lines of [pace.ParseHours] and Zone their time zone; Streams
	// is how many requests may be under way. All runs at the endpoint share them.
	Bandwidth []string    `toml:"bandwidth,omitempty"`
	Zone      string      `toml:"zone,omitempty"`
	Streams   int         `toml:"streams,omitempty"`
	Hours     *pace.Hours `toml:"-"`

	// StandIn is the folder of a stand-in store, which is started on loopback
	// when the endpoint is used; it takes the place of Address.
	StandIn string `toml:"stand-in,omitempty"`
	// Speed and Latency slow a stand-in down to what a real line would do.
	Speed   string `toml:"speed,omitempty"`
	Latency string `toml:"latency,omitempty"`

	SpeedBytes int64         `toml:"-"` // a second; 0 means no limit
	Wait       time.Duration `toml:"-"`
}

// TestNever is [Endpoint.Test] of one that is tested only when a person asks for it.
const TestNever = "never"

// Beginnings of Endpoint.Credential, and the one that has no name behind it.
const (
	KeptCredential    = "kept:"
	ProfileCredential = "profile:"
	ChainCredential   = "chain"
)

// Kept is the label of the kept credential the endpoint uses, "" if none.
func (e *Endpoint) Kept() string {
	label, ok := strings.CutPrefix(e.Credential, KeptCredential)
	if !ok {
		return ""
	}
	return label
}

// HasBuckets tells whether buckets lie at the endpoint's top.
func (e *Endpoint) HasBuckets() bool { return e.Kind == KindS3 || e.Kind == KindBlob }

// EndpointsFile is what endpoints.toml holds.
type EndpointsFile struct {
	// Title is what the workspace is called on screens.
	Title    string               `toml:"title"`
	Endpoint map[string]*Endpoint `toml:"endpoint"`
}

// LoadEndpoints reads endpoints.toml.
func LoadEndpoints(path, shown string) (*EndpointsFile, error) {
	d, err := readDocument(path, shown)
	if err != nil {
		return nil, err
	}
	file := &EndpointsFile{}
	if err := d.decode(file); err != nil {
		return nil, err
	}
	return file, file.check(d)
}

func (f *EndpointsFile) check(d *document) error {
	for _, name := range slices.Sorted(maps.Keys(f.Endpoint)) {
		e := f.Endpoint[name]
		e.Name = name
		if !names.MatchString(name) {
			return d.wrong(fmt.Sprintf("endpoint %q: %s", name, nameRule), "endpoint", name)
		}
		if name == "tray" {
			return d.wrong("no endpoint can be called tray: that is what is gathered in the interface", "endpoint", name)
		}
		if setting, what := e.Check(); what != "" {
			return d.wrong(fmt.Sprintf("endpoint %s: %s", name, what), "endpoint", name, setting)
		}
	}
	return nil
}

// Check names the wrong setting and what is wrong with it, "" when all is well.
func (e *Endpoint) Check() (setting, what string) {
	if setting, what := e.checkLimits(); what != "" {
		return setting, what
	}
	switch e.Kind {
	case KindFolder, KindList:
		if e.Path == "" {
			return "path", "a " + e.Kind + " needs its path"
		}
		return "", ""
	case KindS3, KindBlob:
	default:
		return "kind", fmt.Sprintf("kind is %q; it is \"folder\", \"s3\", \"blob\" or \"list\"", e.Kind)
	}
	if setting, what := e.checkStore(); what != "" {
		return setting, what
	}
	return e.checkCredential()
}

// checkCredential looks at how the endpoint signs.
func (e *Endpoint) checkCredential() (setting, what string) {
	kept, profile := strings.HasPrefix(e.Credential, KeptCredential), strings.HasPrefix(e.Credential, ProfileCredential)
	switch {
	case e.Credential == "" || kept:
	case e.Kind == KindS3 && (profile || e.Credential == ChainCredential):
	default:
		return "credential", fmt.Sprintf("credential is %q; it is \"kept:LABEL\", or for the S3 API \"profile:NAME\" or \"chain\"", e.Credential)
	}
	if e.Credential != "" && (e.AccessKey != "" || e.SecretFrom != "" || e.SignatureFrom != "" || e.TokenFrom != "") {
		return "credential", "either credential, or access-key and the settings that end in -from; not both"
	}
	switch {
	case e.Kind == KindBlob && e.Account != "" && e.SecretFrom == "" && !kept:
		return "secret-from", "an account needs its key in secret-from: \"env:NAME\" or \"file:PATH\""
	case e.AccessKey != "" && e.SecretFrom == "":
		return "secret-from", "an access key needs secret-from: \"env:NAME\" or \"file:PATH\""
	}
	for _, ref := range []struct{ name, value string }{{"secret-from", e.SecretFrom}, {"token-from", e.TokenFrom}, {"signature-from", e.SignatureFrom}} {
		if ref.value != "" && !strings.HasPrefix(ref.value, "env:") && !strings.HasPrefix(ref.value, "file:") {
			return ref.name, ref.name + ` says where the secret lies, "env:NAME" or "file:PATH"; the secret itself does not belong in this file`
		}
	}
	return "", ""
}

// checkLimits reads what all runs at the endpoint share.
func (e *Endpoint) checkLimits() (setting, what string) {
	if e.Hours, what = hours(e.Bandwidth, e.Zone); what != "" {
		return hoursSetting(e.Zone, what), what
	}
	if e.Streams < 0 || e.Streams > 1024 {
		return "streams", fmt.Sprintf("streams is %d; it is between 1 and 1024", e.Streams)
	}
	return "", ""
}

// checkStore looks at where a store is.
func (e *Endpoint) checkStore() (setting, what string) {
	address, err := url.Parse(e.Address)
	switch {
	case e.Kind == KindBlob && e.StandIn != "" && e.Account == "":
		return "account", "a stand-in of this kind needs an account and its key"
	case e.StandIn != "" && e.Address != "":
		return "address", "a stand-in has no address of its own choosing"
	case e.StandIn == "" && (err != nil || address.Host == "" || address.Scheme != "http" && address.Scheme != "https"):
		return "address", fmt.Sprintf("address is %q; it reads like \"https://host:port\"", e.Address)
	case address.User != nil:
		return "address", "no credentials in the address: it ends up on screens and in logs"
	case e.Test != "" && e.Test != TestNever:
		return "test", fmt.Sprintf("test is %q; it is \"never\", or left out", e.Test)
	case e.Addressing != "" && e.Addressing != "path" && e.Addressing != "host":
		return "addressing", fmt.Sprintf("addressing is %q; it is \"path\" or \"host\"", e.Addressing)
	}
	if e.Speed != "" {
		n, err := humanize.ParseBytes(e.Speed)
		if err != nil {
			return "speed", fmt.Sprintf("speed is %q; it reads like \"40MB\", a second", e.Speed)
		}
		e.SpeedBytes = int64(n)
	}
	if e.Latency != "" {
		if e.Wait, err = time.ParseDuration(e.Latency); err != nil {
			return "latency", fmt.Sprintf("latency is %q; it reads like \"4ms\"", e.Latency)
		}
	}
	return "", ""
}
