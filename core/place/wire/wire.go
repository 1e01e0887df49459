// Package wire is what places reached over HTTP have in common: connections,
// and bodies that are held against their length and checksum as they pass. It
// speaks no protocol and makes no request.
package wire

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"hash"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"lumtra/core/object"
	"lumtra/core/place"
)

// Dial opens a connection, as [net.Dialer.DialContext] does.
type Dial func(ctx context.Context, network, addr string) (net.Conn, error)

// Options are how an endpoint is reached.
type Options struct {
	// CAFile names a PEM file with the authority of its certificate, "" for the
	// system's.
	CAFile string
	// Proxy is the address of a proxy, "none" for none whatever the
	// environment says, "" for what it says (HTTPS_PROXY and the like).
	Proxy string
	// Dial, when not nil, replaces the network's dialer.
	Dial Dial
}

// NewTransport makes the connections of one endpoint.
func NewTransport(opts Options) (*http.Transport, error) {
	dial, caFile, proxy := opts.Dial, opts.CAFile, http.ProxyFromEnvironment
	switch opts.Proxy {
	case "":
	case "none":
		proxy = nil
	default:
		u, err := url.Parse(opts.Proxy)
		if err != nil || u.Host == "" {
			return nil, errors.New("the proxy's address is not like http://host:port")
		}
		proxy = http.ProxyURL(u)
	}
	if dial == nil {
		dial = (&net.Dialer{Timeout: 10 * time.Second, KeepAlive: 30 * time.Second}).DialContext
	}
	t := &http.Transport{
		Proxy:       proxy,
		DialContext: dial,
		// Many streams to one host are the normal case here.
		MaxIdleConnsPerHost: 512,
		IdleConnTimeout:     60 * time.Second,
		TLSHandshakeTimeout: 20 * time.Second,
		// Content must arrive as it is stored, or its checksum means nothing.
		DisableCompression: true,
		// What a server says of an object fits; what is larger is meant to fill us.
		MaxResponseHeaderBytes: 256 << 10,
		WriteBufferSize:        128 << 10,
		ReadBufferSize:         128 << 10,
	}
	if caFile == "" {
		return t, nil
	}
	pem, err := os.ReadFile(caFile)
	if err != nil {
		return nil, fmt.Errorf("the CA file cannot be read: %w", err)
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM(pem) {
		return nil, fmt.Errorf("the CA file %s holds no certificate", caFile)
	}
	t.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	return t, nil
}

// Body is the content of a response.
type Body struct {
	// Place and Key are for errors; Fail makes a place's error of what reading
	// the connection failed with.
	Place, Key string
	Fail       func(error) error

	body io.ReadCloser
	left int64
	want object.Sum
	sum  hash.Hash // nil when there is nothing to compare with
	// check, when not nil, is what the content is held against beside the sum.
	check place.ContentCheck
}

// Also has the content held against another check, which may be nil.
func (b *Body) Also(c place.ContentCheck) *Body {
	b.check = c
	return b
}

// Check has the body return, in place of io.EOF, an error when it ends before
// length bytes or, with a want that is not zero, does not have that checksum.
func (b *Body) Check(body io.ReadCloser, length int64, want object.Sum) *Body {
	b.body, b.left, b.want = body, length, want
	if want.Kind != object.NoSum {
		b.sum = want.Kind.New()
	}
	return b
}

func (b *Body) Read(p []byte) (int, error) {
	n, err := b.body.Read(p)
	b.left -= int64(n)
	if b.sum != nil {
		b.sum.Write(p[:n])
	}
	if b.check != nil {
		b.check.Write(p[:n])
	}
	switch {
	case err == io.EOF && b.left > 0:
		err = b.Fail(io.ErrUnexpectedEOF)
	case err == io.EOF && b.check != nil:
		if bad := b.check.Verify(); bad != nil {
			err = bad
		}
	case err == io.EOF && b.sum != nil:
		if got := object.SumOf(b.want.Kind, b.sum); got != b.want {
			err = place.NewError(b.Place, "read", b.Key, place.Corrupt,
				fmt.Errorf("%s, the store keeps %s", got, b.want))
		}
	case err != nil && err != io.EOF:
		err = b.Fail(err)
	}
	return n, err
}

// Sum is the checksum of what was read so far, where one is kept to compare: see
// [place.Summed]. It is zero where none is.
func (b *Body) Sum() object.Sum {
	if b.sum == nil || b.want.Kind != object.CRC64NVME {
		return object.Sum{}
	}
	return object.SumOf(b.want.Kind, b.sum)
}

// Close closes the response.
func (b *Body) Close() error { return b.body.Close() }

// Cut makes a range of a whole content, from a server that gives nothing less:
// length 0 is to the end.
func Cut(whole io.ReadCloser, offset, length int64) (io.ReadCloser, error) {
	if _, err := io.CopyN(io.Discard, whole, offset); err != nil {
		whole.Close()
		return nil, err
	}
	if length == 0 {
		return whole, nil
	}
	return struct {
		io.Reader
		io.Closer
	}{io.LimitReader(whole, length), whole}, nil
}

// SumOf is the CRC-64/NVME of data, which is all that was read from body: its
// own, if it sums itself up.
func SumOf(body io.Reader, data []byte) object.Sum {
	if s := place.SumsItself(body); s != nil {
		return s.Sum()
	}
	h := object.CRC64NVME.New()
	h.Write(data)
	return object.SumOf(object.CRC64NVME, h)
}

// ReadExactly fills data from r and sees to it that r ends there, so that a
// source that tells of trouble at its end is heard.
func ReadExactly(r io.Reader, data []byte) error {
	if len(data) > 0 {
		if _, err := io.ReadFull(r, data); err == io.EOF {
			return io.ErrUnexpectedEOF
		} else if err != nil {
			return err
		}
	}
	var more [1]byte
	n, err := io.ReadFull(r, more[:])
	if n > 0 {
		return errors.New("the content is longer than was said")
	}
	if err == io.EOF {
		return nil
	}
	return err
}

// StatusKind sorts an HTTP status by cause, for answers that name none.
func StatusKind(status int) place.ErrorKind {
	switch status {
	case http.StatusNotFound:
		return place.NotFound
	case http.StatusUnauthorized:
		return place.BadLogin
	case http.StatusForbidden:
		return place.Denied
	case http.StatusPreconditionFailed, http.StatusRequestedRangeNotSatisfiable:
		return place.Changed
	case http.StatusTooManyRequests, http.StatusServiceUnavailable:
		return place.Throttled
	case http.StatusInsufficientStorage:
		return place.NoRoom
	case http.StatusNotImplemented, http.StatusMethodNotAllowed:
		return place.Unsupported
	}
	if status >= 500 {
		return place.ServerFault
	}
	return place.Other
}

// SplitPath parts "bucket/prefix" of a place at an endpoint: the prefix comes
// back ending in "/", or empty, and name is what the place is called.
func SplitPath(endpoint, path string) (bucket, prefix, name string, err error) {
	bucket, prefix, _ = strings.Cut(strings.TrimLeft(path, "/"), "/")
	if bucket == "" {
		return "", "", "", place.NewError(endpoint, "open", "", place.NotFound,
			errors.New("the path names no bucket or container"))
	}
	name = endpoint + "/" + bucket
	if prefix = strings.TrimSuffix(prefix, "/"); prefix != "" {
		name += "/" + prefix
		prefix += "/"
	}
	return bucket, prefix, name, nil
}
