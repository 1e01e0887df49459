package main

import (
	"net/http"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	v4 "github.com/aws/aws-sdk-go-v2/aws/signer/v4"
)

// newSigner signs a request as the engine does, payload left out.
func newSigner() func(*http.Request) error {
	signer := v4.NewSigner(func(o *v4.SignerOptions) { o.DisableURIPathEscaping = true })
	creds := aws.Credentials{AccessKeyID: "bench", SecretAccessKey: "bench"}
	const payload = "UNSIGNED-PAYLOAD"
	return func(r *http.Request) error {
		r.Header.Set("X-Amz-Content-Sha256", payload)
		return signer.SignHTTP(r.Context(), creds, r, payload, "s3", "us-east-1", time.Now().UTC())
	}
}
