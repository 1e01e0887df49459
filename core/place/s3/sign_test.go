package s3

import (
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	v4 "github.com/aws/aws-sdk-go-v2/aws/signer/v4"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/testkit"
)

// Requests are signed as the SDK signs them.
func TestSign(t *testing.T) {
	testkit.Heavy(t)
	var own signing
	testkit.Check(t, func(t *rapid.T) {
		// A new one each time: it takes an access key to have one secret for ever.
		sdk := v4.NewSigner(func(o *v4.SignerOptions) { o.DisableURIPathEscaping = true })
		text := rapid.StringMatching(`[ -~]{0,12}`)
		creds := aws.Credentials{AccessKeyID: "marsh", SecretAccessKey: text.Draw(t, "secret"),
			SessionToken: rapid.StringMatching(`[a-z]{0,5}`).Draw(t, "token")}
		path := "/bucket/" + rapid.String().Draw(t, "key")
		now := time.Unix(rapid.Int64Range(0, 4e9).Draw(t, "now"), 0).UTC()
		make := func() *http.Request {
			q := url.Values{"partNumber": {"3"}, "uploadId": {"a+b/c ~"}}
			r := &http.Request{Method: http.MethodPut, Host: "store:9000", Header: http.Header{},
				URL: &url.URL{Scheme: "http", Host: "store:9000", Path: path, RawPath: escapePath(path)}}
			r.URL.RawQuery = strings.ReplaceAll(q.Encode(), "+", "%20") // as address writes it
			r.Header.Set("X-Amz-Content-Sha256", unsignedPayload)
			return r
		}
		a, b := make(), make()
		for range rapid.IntRange(0, 4).Draw(t, "headers") {
			name, value := "X-Amz-Meta-"+rapid.StringMatching(`[A-Za-z0-9-]{1,5}`).Draw(t, "name"),
				rapid.StringMatching(`[!-~]{0,3}( {1,3}[!-~]{1,3})?`).Draw(t, "value")
			a.Header.Set(name, value)
			b.Header.Set(name, value)
		}
		require.NoError(t, sdk.SignHTTP(t.Context(), creds, a, unsignedPayload, "s3", "eu-north-1", now))
		own.sign(b, creds, "eu-north-1", unsignedPayload, now)
		require.Equal(t, a.Header.Get("Authorization"), b.Header.Get("Authorization"))
	})
}
