package kind

import (
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"lumtra/core/pace"
)

// CheckSigning looks at how an endpoint signs that can sign in these ways.
func (e *Settings) CheckSigning(ways *Signs) (setting, what string) {
	kept, profile := strings.HasPrefix(e.Credential, KeptCredential), strings.HasPrefix(e.Credential, ProfileCredential)
	switch {
	case e.Credential == "" || kept:
	case ways.Shared && (profile || e.Credential == ChainCredential):
	default:
		return "credential",
			fmt.Sprintf("credential is %q; it is \"kept:LABEL\", or for the S3 API \"profile:NAME\" or \"chain\"",
				e.Credential)
	}
	if e.Credential != "" && (e.AccessKey != "" || e.SecretFrom != "" || e.SignatureFrom != "" || e.TokenFrom != "") {
		return "credential", "either credential, or access-key and the settings that end in -from; not both"
	}
	if *ways.Name(e) != "" && e.SecretFrom == "" && !kept {
		return "secret-from", fmt.Sprintf("an %s needs secret-from: \"env:NAME\" or \"file:PATH\"", ways.Who)
	}
	for _, ref := range []struct{ name, value string }{{"secret-from", e.SecretFrom}, {"token-from", e.TokenFrom},
		{"signature-from", e.SignatureFrom}} {
		if ref.value != "" && !strings.HasPrefix(ref.value, "env:") && !strings.HasPrefix(ref.value, "file:") {
			return ref.name, ref.name +
				` says where the secret lies, "env:NAME" or "file:PATH"; the secret itself does not belong in this file`
		}
	}
	return "", ""
}

// CheckLimits reads what all runs at the endpoint share.
func (e *Settings) CheckLimits() (setting, what string) {
	var err error
	if e.Hours, err = pace.ParseHours(e.Bandwidth, e.Zone); err != nil {
		return pace.HoursSetting(e.Zone, err), err.Error()
	}
	if e.Runs < 0 || e.Runs > 1000 {
		return "runs", fmt.Sprintf("runs is %d; it is between 1 and 1000", e.Runs)
	}
	if e.Streams < 0 || e.Streams > 1024 {
		return "streams", fmt.Sprintf("streams is %d; it is between 1 and 1024", e.Streams)
	}
	return "", ""
}

// CheckPath looks at what is found by its path.
func (e *Settings) CheckPath() (setting, what string) {
	if e.Path == "" {
		return "path", "a " + e.Kind + " needs its path"
	}
	return "", ""
}

// IsAddress tells that text is a web address, not a path.
func IsAddress(text string) bool {
	lower := strings.ToLower(text)
	return strings.HasPrefix(lower, "http://") || strings.HasPrefix(lower, "https://")
}

// CheckStore looks at where a store is.
func (e *Settings) CheckStore() (setting, what string) {
	address, err := url.Parse(e.Address)
	switch {
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
