package s3

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"lumtra/core/place"
	"lumtra/core/place/wire"
)

// Payload hashes that stand in place of a body's SHA-256 in the signature
// (API Reference, "Authenticating Requests: Using the Authorization Header").
const (
	emptySHA256     = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"
	unsignedPayload = "UNSIGNED-PAYLOAD"
	unsignedTrailer = "STREAMING-UNSIGNED-PAYLOAD-TRAILER"
)

// request is one hot call before it is sent.
type request struct {
	method, op string
	key        string // relative to the place, for errors
	query      url.Values
	header     http.Header
	body       io.Reader // nil for none
	size       int64     // of body
	payload    string    // the hash to sign; "" for an empty body
	bucket     bool      // it is about the bucket, not about an object
}

// do signs and sends one request. A status of 300 and above becomes an error
// and the response is closed; else the caller closes it.
func (p *Place) do(ctx context.Context, r request) (*http.Response, error) {
	req, err := p.build(ctx, r)
	if err != nil {
		return nil, p.fail(r.op, r.key, err)
	}
	// Straight to the transport: no redirects, no cookies, no second thoughts.
	resp, err := p.store.http.Transport.RoundTrip(req)
	if err != nil {
		return nil, p.transportError(ctx, r.op, r.key, err)
	}
	if resp.StatusCode >= 300 {
		defer resp.Body.Close()
		return nil, p.responseError(r, resp)
	}
	return resp, nil
}

// address makes the unsigned request.
func (p *Place) address(ctx context.Context, r request) *http.Request {
	s := p.store
	u := s.base
	path := "/"
	if s.cfg.VirtualHost {
		u.Host = p.bucket + "." + u.Host
	} else {
		path = "/" + p.bucket
	}
	if !r.bucket && (r.method != http.MethodGet || r.query.Get("list-type") == "") {
		path = strings.TrimSuffix(path, "/") + "/" + p.prefix + r.key
	}
	u.Path, u.RawPath = path, escapePath(path)
	u.RawQuery = strings.ReplaceAll(r.query.Encode(), "+", "%20")
	req := new(http.Request).WithContext(ctx)
	req.Method, req.URL, req.Host, req.Header = r.method, &u, u.Host, r.header
	req.Proto, req.ProtoMajor, req.ProtoMinor = "HTTP/1.1", 1, 1
	if req.Header == nil {
		req.Header = make(http.Header, 8)
	}
	if r.body != nil && r.size > 0 {
		req.Body, req.ContentLength = io.NopCloser(r.body), r.size
		if body, ok := r.body.(*bytes.Reader); ok { // as [http.NewRequest] does: it lies in memory
			whole := *body
			req.GetBody = func() (io.ReadCloser, error) {
				again := whole
				return io.NopCloser(&again), nil
			}
		}
	} else if r.method == http.MethodPut {
		req.Body = http.NoBody
	}
	return req
}

func (p *Place) build(ctx context.Context, r request) (*http.Request, error) {
	s, req := p.store, p.address(ctx, r)
	if r.payload == "" {
		r.payload = emptySHA256
	}
	req.Header.Set("X-Amz-Content-Sha256", r.payload)
	creds, err := s.credentials(ctx)
	if err != nil || creds.AccessKeyID == "" {
		return req, err
	}
	s.signing.sign(req, creds, s.cfg.Region, r.payload, time.Now())
	return req, nil
}

// escapePath percent-encodes every byte but unreserved ones and "/" (RFC 3986,
// section 2.3), as the signature demands. Keys such as "a//b" and "../a" pass
// as they are: the wire has no folders.
func escapePath(path string) string {
	const hex = "0123456789ABCDEF"
	n := 0
	for i := 0; i < len(path); i++ {
		if !unreserved(path[i]) {
			n++
		}
	}
	if n == 0 {
		return path
	}
	out := make([]byte, 0, len(path)+2*n)
	for i := 0; i < len(path); i++ {
		if c := path[i]; unreserved(c) {
			out = append(out, c)
		} else {
			out = append(out, '%', hex[c>>4], hex[c&15])
		}
	}
	return string(out)
}

func unreserved(c byte) bool {
	return 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' ||
		c == '/' || c == '-' || c == '_' || c == '.' || c == '~'
}

// transportError names a request that got no response.
func (p *Place) transportError(ctx context.Context, op, key string, err error) error {
	var urlErr *url.Error
	if errors.As(err, &urlErr) {
		err = urlErr.Err // without the address: it may carry a signature
	}
	kind := place.Unreachable
	var placeErr *place.Error
	switch {
	case ctx.Err() != nil:
		kind, err = place.Cancelled, nil
	case errors.As(err, &placeErr):
		return placeErr // reading the source failed
	}
	return place.NewError(p.name, op, key, kind, err)
}

func (p *Place) fail(op, key string, err error) error { return place.Wrap(p.name, op, key, err) }

// responseError reads an error document (API Reference, "Error Responses").
func (p *Place) responseError(r request, resp *http.Response) error {
	raw, _ := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	code, message := string(unescape(between(raw, "Code"))), string(unescape(between(raw, "Message")))
	e := place.NewError(p.name, r.op, r.key, errorKind(resp.StatusCode, code), nil)
	e.Code, e.Status, e.Request = code, resp.StatusCode, resp.Header.Get("X-Amz-Request-Id")
	if e.Request == "" {
		e.Request = string(unescape(between(raw, "RequestId")))
	}
	if message == "" {
		message = "HTTP " + resp.Status
	}
	e.Err = errors.New(message)
	if e.Kind == place.Changed && r.header.Get("If-None-Match") != "" {
		e.Kind = place.Exists
	}
	if e.Kind == place.NotFound && code != "NoSuchBucket" && (r.op == "write" || r.op == "begin") &&
		len(place.NameClasses(r.key)) > 0 {
		// Nobody can miss what is being written: some answer so to names that they do not take.
		e.Kind = place.BadName
	}
	if code == "NoSuchBucket" {
		e.Err = errors.New("there is no bucket " + strconv.Quote(p.bucket))
	}
	e.After = wire.RetryAfter(resp.Header)
	return e
}

// errorKind sorts a status and the store's error code by cause. The code is ""
// where there was no body, as with HEAD.
func errorKind(status int, code string) place.ErrorKind {
	switch code {
	case "InvalidAccessKeyId", "SignatureDoesNotMatch", "RequestTimeTooSkewed", "ExpiredToken", "InvalidToken",
		"AuthorizationHeaderMalformed":
		return place.BadLogin
	case "BadDigest", "InvalidDigest", "XAmzContentChecksumMismatch", "XAmzContentSHA256Mismatch",
		"MalformedXML", "InvalidPart", "InvalidPartOrder": // a list damaged on the way
		return place.Corrupt
	case "SlowDown", "TooManyRequests", "RequestLimitExceeded":
		return place.Throttled
	case "InvalidObjectState":
		return place.Archived
	case "EntityTooLarge":
		return place.TooLarge
	case "KeyTooLongError", "InvalidURI":
		return place.BadName
	case "RequestTimeout", "IncompleteBody":
		return place.Unreachable
	case "QuotaExceeded", "StorageFull":
		return place.NoRoom
	case "NoSuchKey", "NoSuchBucket", "NoSuchUpload", "NoSuchVersion":
		return place.NotFound
	case "ConditionalRequestConflict", "OperationAborted":
		return place.ServerFault // worth another try, says the reference
	}
	return wire.StatusKind(status)
}

// between is the raw text of the first element with this name.
func between(xml []byte, name string) []byte {
	_, rest, ok := bytes.Cut(xml, []byte("<"+name+">"))
	if !ok {
		return nil
	}
	text, _, _ := bytes.Cut(rest, []byte("</"+name+">"))
	return text
}

func sha256Hex(b []byte) string {
	digest := sha256.Sum256(b)
	return hex.EncodeToString(digest[:])
}

func quoted(etag string) string { return strconv.Quote(etag) }
