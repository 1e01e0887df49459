package kind

import (
	"strings"
	"time"

	"lumtra/core/pace"
)

// Local is the name of the endpoint that needs no settings: the files of this machine, whose
// places are written as absolute paths. No endpoint of a workspace can have it.
const Local = ""

// Settings are one entry of endpoints.toml. Which settings count depends on Kind.
type Settings struct {
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
	// Runs is how many starts of jobs that name the endpoint may be at work at once; 0 is no limit.
	Runs int `toml:"runs,omitempty"`

	// StandIn is the folder of a stand-in store, which is started on loopback
	// when the endpoint is used; it takes the place of Address.
	StandIn string `toml:"stand-in,omitempty"`
	// Speed and Latency slow a stand-in down to what a real line would do.
	Speed   string `toml:"speed,omitempty"`
	Latency string `toml:"latency,omitempty"`

	SpeedBytes int64         `toml:"-"` // a second; 0 means no limit
	Wait       time.Duration `toml:"-"`
}

// TestNever is [Settings.Test] of one that is tested only when a person asks for it.
const TestNever = "never"

// Beginnings of [Settings.Credential], and the one that has no name behind it.
const (
	KeptCredential    = "kept:"
	ProfileCredential = "profile:"
	ChainCredential   = "chain"
)

// Kept is the label of the kept credential the endpoint uses, "" if none.
func (e *Settings) Kept() string {
	label, ok := strings.CutPrefix(e.Credential, KeptCredential)
	if !ok {
		return ""
	}
	return label
}
