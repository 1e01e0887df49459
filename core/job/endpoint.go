package job

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
)

// Kinds of endpoint.
const (
	KindFolder = "folder"
	KindS3     = "s3"
	KindBlob   = "blob"
)

// Endpoint is one entry of endpoints.toml. Which settings count depends on Kind.
type Endpoint struct {
	Name string `toml:"-"`
	Kind string `toml:"kind"`

	// Path is a folder's, relative to the workspace.
	Path string `toml:"path"`
	// Sync has every written file reach the disk before it counts.
	Sync bool `toml:"sync"`

	// Address is a store's base URL.
	Address string `toml:"address"`
	Region  string `toml:"region"`
	// Addressing is "path" (the default) or "host", where buckets stand.
	Addressing string `toml:"addressing"`
	// AccessKey is not secret; SecretFrom and TokenFrom say where the secrets
	// lie: "env:NAME" or "file:PATH".
	AccessKey  string `toml:"access-key"`
	SecretFrom string `toml:"secret-from"`
	TokenFrom  string `toml:"token-from"`
	// Account is a blob store's, with its key in SecretFrom; SignatureFrom says
	// where a signed access lies instead.
	Account       string `toml:"account"`
	SignatureFrom string `toml:"signature-from"`
	CAFile        string `toml:"ca-file"`
	SignBodies    *bool  `toml:"sign-bodies"`

	// StandIn is the folder of a stand-in store, which is started on loopback
	// when the endpoint is used; it takes the place of Address.
	StandIn string `toml:"stand-in"`
	// Speed and Latency slow a stand-in down to what a real line would do.
	Speed   string `toml:"speed"`
	Latency string `toml:"latency"`

	SpeedBytes int64         `toml:"-"` // a second; 0 means no limit
	Wait       time.Duration `toml:"-"`
}

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
	for _, name := range slices.Sorted(maps.Keys(file.Endpoint)) {
		e := file.Endpoint[name]
		e.Name = name
		if !names.MatchString(name) {
			return nil, d.wrong(fmt.Sprintf("endpoint %q: %s", name, nameRule), "endpoint", name)
		}
		if setting, what := e.check(); what != "" {
			return nil, d.wrong(fmt.Sprintf("endpoint %s: %s", name, what), "endpoint", name, setting)
		}
	}
	return file, nil
}

// check names the wrong setting and what is wrong with it.
func (e *Endpoint) check() (setting, what string) {
	switch e.Kind {
	case KindFolder:
		if e.Path == "" {
			return "path", "a folder needs its path"
		}
		return "", ""
	case KindS3, KindBlob:
	default:
		return "kind", fmt.Sprintf("kind is %q; it is \"folder\", \"s3\" or \"blob\"", e.Kind)
	}
	address, err := url.Parse(e.Address)
	switch {
	case e.Kind == KindBlob && e.StandIn != "" && e.Account == "":
		return "account", "a stand-in of this kind needs an account and its key"
	case e.Kind == KindBlob && e.Account != "" && e.SecretFrom == "":
		return "secret-from", "an account needs its key in secret-from: \"env:NAME\" or \"file:PATH\""
	case e.StandIn != "" && e.Address != "":
		return "address", "a stand-in has no address of its own choosing"
	case e.StandIn == "" && (err != nil || address.Host == "" || address.Scheme != "http" && address.Scheme != "https"):
		return "address", fmt.Sprintf("address is %q; it reads like \"https://host:port\"", e.Address)
	case address.User != nil:
		return "address", "no credentials in the address: it ends up on screens and in logs"
	case e.Addressing != "" && e.Addressing != "path" && e.Addressing != "host":
		return "addressing", fmt.Sprintf("addressing is %q; it is \"path\" or \"host\"", e.Addressing)
	case e.AccessKey != "" && e.SecretFrom == "":
		return "secret-from", "an access key needs secret-from: \"env:NAME\" or \"file:PATH\""
	}
	for _, ref := range []struct{ name, value string }{{"secret-from", e.SecretFrom}, {"token-from", e.TokenFrom}, {"signature-from", e.SignatureFrom}} {
		if ref.value != "" && !strings.HasPrefix(ref.value, "env:") && !strings.HasPrefix(ref.value, "file:") {
			return ref.name, ref.name + ` says where the secret lies, "env:NAME" or "file:PATH"; the secret itself does not belong in this file`
		}
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
