package s3

import (
	"context"
	"errors"
	"fmt"
	"hash"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"lumtra/core/object"
	"lumtra/core/place"
)

// sumKind is the checksum Lumtra has the store verify and keep.
const sumKind = object.CRC64NVME

// Metadata names under which the original time and permissions travel along.
const (
	metaTime = "lumtra-mtime"
	metaMode = "lumtra-mode"
)

// Stat asks for an object's facts (HeadObject).
func (p *Place) Stat(ctx context.Context, ref object.Ref) (object.Entry, error) {
	r := request{method: http.MethodHead, op: "stat", key: ref.Key, header: http.Header{"X-Amz-Checksum-Mode": {"ENABLED"}}}
	if ref.Version != "" {
		r.query = url.Values{"versionId": {ref.Version}}
	}
	if ref.IfMark != "" {
		r.header.Set("If-Match", quoted(ref.IfMark))
	}
	resp, err := p.do(ctx, r)
	if err != nil {
		return object.Entry{}, err
	}
	resp.Body.Close()
	e := headerEntry(ref.Key, resp.Header)
	e.Size = resp.ContentLength
	return e, nil
}

// Read opens an object or a range of it (GetObject). A whole object is held
// against the store's own checksum as it passes.
func (p *Place) Read(ctx context.Context, key string, opts place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	r := request{method: http.MethodGet, op: "read", key: key, header: http.Header{"X-Amz-Checksum-Mode": {"ENABLED"}}}
	if opts.Version != "" {
		r.query = url.Values{"versionId": {opts.Version}}
	}
	if opts.IfMark != "" {
		r.header.Set("If-Match", quoted(opts.IfMark))
	}
	ranged := opts.Offset > 0 || opts.Length > 0
	if ranged {
		// RFC 9110, section 14.1.2.
		span := fmt.Sprintf("bytes=%d-", opts.Offset)
		if opts.Length > 0 {
			span += strconv.FormatInt(opts.Offset+opts.Length-1, 10)
		}
		r.header.Set("Range", span)
	}
	resp, err := p.do(ctx, r)
	if err != nil {
		return nil, object.Entry{}, err
	}
	e := headerEntry(key, resp.Header)
	e.Size = resp.ContentLength
	if ranged {
		_, total, _ := strings.Cut(resp.Header.Get("Content-Range"), "/")
		if e.Size, err = strconv.ParseInt(total, 10, 64); err != nil || resp.StatusCode != http.StatusPartialContent {
			resp.Body.Close()
			return nil, e, place.NewError(p.name, "read", key, place.Unsupported, errors.New("the store does not serve ranges"))
		}
	}
	body := &reader{p: p, ctx: ctx, key: key, body: resp.Body, left: resp.ContentLength}
	if want, ok := e.Sum(sumKind); ok && !ranged {
		body.want, body.sum = want, sumKind.New()
	}
	return body, e, nil
}

// reader passes a response body on and checks its length and checksum.
type reader struct {
	p    *Place
	ctx  context.Context
	key  string
	body io.ReadCloser
	left int64
	want object.Sum
	sum  hash.Hash // nil when there is nothing to compare with
}

func (r *reader) Read(b []byte) (int, error) {
	n, err := r.body.Read(b)
	r.left -= int64(n)
	if r.sum != nil {
		r.sum.Write(b[:n])
	}
	switch {
	case err == io.EOF && r.left > 0:
		err = r.p.transportError(r.ctx, "read", r.key, io.ErrUnexpectedEOF)
	case err == io.EOF && r.sum != nil && object.SumOf(r.want.Kind, r.sum) != r.want:
		err = place.NewError(r.p.name, "read", r.key, place.Corrupt, fmt.Errorf("%s, the store keeps %s", object.SumOf(r.want.Kind, r.sum), r.want))
	case err != nil && err != io.EOF:
		err = r.p.transportError(r.ctx, "read", r.key, err)
	}
	return n, err
}

func (r *reader) Close() error { return r.body.Close() }

var sumHeaders = map[object.SumKind]string{
	object.CRC64NVME: "X-Amz-Checksum-Crc64nvme",
	object.CRC32C:    "X-Amz-Checksum-Crc32c",
	object.SHA256:    "X-Amz-Checksum-Sha256",
}

// headerEntry reads what a response's headers say of an object; the size is
// the caller's to find.
func headerEntry(key string, h http.Header) object.Entry {
	e := object.Entry{
		Key: key, Latest: true,
		ETag:        strings.Trim(h.Get("ETag"), `"`),
		Version:     h.Get("X-Amz-Version-Id"),
		Class:       class(h.Get("X-Amz-Storage-Class")),
		ContentType: h.Get("Content-Type"),
	}
	e.Modified, _ = http.ParseTime(h.Get("Last-Modified"))
	for name, values := range h {
		if short, ok := strings.CutPrefix(name, "X-Amz-Meta-"); ok {
			if e.Metadata == nil {
				e.Metadata = map[string]string{}
			}
			e.Metadata[strings.ToLower(short)] = values[0]
		}
	}
	if e.Metadata != nil {
		if when, err := time.Parse(time.RFC3339Nano, e.Metadata[metaTime]); err == nil {
			e.Original = when
		}
		if mode, err := strconv.ParseUint(e.Metadata[metaMode], 8, 9); err == nil {
			e.Mode = modeOf(mode)
		}
	}
	for kind, name := range sumHeaders {
		// A sum over part sums ends in "-N" and fails to parse: it is not one
		// of the content.
		if value := h[name]; len(value) == 1 {
			if s, err := object.ParseSum(kind, value[0]); err == nil {
				e.Sums = append(e.Sums, s)
			}
		}
	}
	return e
}
