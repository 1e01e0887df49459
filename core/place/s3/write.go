package s3

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/wire"
)

// CheckName refuses keys the S3 API does not allow: longer than 1,024 bytes
// with the prefix, or not UTF-8 ("Naming Amazon S3 objects").
func (p *Place) CheckName(key string) error {
	why := ""
	switch {
	case key == "":
		why = "the key is empty"
	case len(p.prefix)+len(key) > maxKey:
		why = fmt.Sprintf("longer than %d bytes with its prefix", maxKey)
	case !utf8.ValidString(key):
		why = "it is not valid UTF-8"
	default:
		return nil
	}
	return place.NewError(p.name, "check", key, place.BadName, errors.New(why))
}

// Write stores a whole object (PutObject).
func (p *Place) Write(ctx context.Context, key string, body io.Reader, size int64, opts place.WriteOptions) (object.Entry, error) {
	if err := p.CheckName(key); err != nil {
		return object.Entry{}, err
	}
	h := objectHeaders(opts)
	conditionHeaders(h, opts)
	resp, sum, err := p.put(ctx, request{method: http.MethodPut, op: "write", key: key, header: h}, body, size, opts.Sum)
	if err != nil {
		return object.Entry{}, err
	}
	e := headerEntry(key, resp)
	e.Size, e.Class, e.Sums = size, opts.Class, []object.Sum{sum}
	if opts.Digest.Kind != object.NoSum {
		e.Sums = append(e.Sums, opts.Digest)
	}
	return e, nil
}

// WritePart stores one part (UploadPart).
func (p *Place) WritePart(ctx context.Context, up place.Upload, number int, offset int64, body io.Reader, size int64, sum object.Sum) (place.Part, error) {
	r := request{method: http.MethodPut, op: "write part", key: up.Key,
		query:  url.Values{"partNumber": {strconv.Itoa(number)}, "uploadId": {up.ID}},
		header: make(http.Header, 8)}
	resp, sum, err := p.put(ctx, r, body, size, sum)
	if err != nil {
		return place.Part{}, err
	}
	return place.Part{Number: number, Size: size, ETag: strings.Trim(resp.Get("ETag"), `"`), Sum: sum}, nil
}

// small is the size up to which a body is read into memory and its checksum
// sent ahead of it, which costs a store less than a trailer.
const small = 64 << 10

// put sends a body with a checksum the store verifies and returns the answer's
// headers and that checksum.
func (p *Place) put(ctx context.Context, r request, body io.Reader, size int64, sum object.Sum) (http.Header, object.Sum, error) {
	if sum.Kind != object.NoSum && sumHeaders[sum.Kind] == "" {
		return nil, sum, place.NewError(p.name, r.op, r.key, place.Unsupported, fmt.Errorf("the store does not verify %s", sum.Kind))
	}
	if size <= small || p.store.signBodies {
		return p.putWhole(ctx, r, body, size, sum)
	}
	var trailer *trailing
	if sum.Kind != object.NoSum {
		r.payload, r.size = unsignedPayload, size
		r.header.Set(sumHeaders[sum.Kind], sum.Base64())
	} else {
		trailer = newTrailing(body, size)
		body, r.payload, r.size = trailer, unsignedTrailer, trailer.length()
		coding := "aws-chunked" // outermost, and taken off by the store
		if kept := r.header.Get("Content-Encoding"); kept != "" {
			coding += "," + kept
		}
		r.header.Set("Content-Encoding", coding)
		r.header.Set("X-Amz-Decoded-Content-Length", strconv.FormatInt(size, 10))
		r.header.Set("X-Amz-Trailer", trailerName)
	}
	guard := wire.NewFence(body)
	r.body = guard
	resp, err := p.do(ctx, r)
	if failed := guard.Down(); failed != nil {
		err = p.sourceError(ctx, r, failed)
	}
	if resp != nil {
		drain(resp)
	}
	if err != nil {
		return nil, sum, err
	}
	if trailer != nil {
		sum = trailer.checksum()
	}
	return p.verified(r, resp.Header, sum)
}

// putWhole sends a body that is read into memory first, so that its checksum,
// and where bodies are signed its digest, go ahead of it. The memory is not
// used again: the transport may hold it longer than the request lasts.
func (p *Place) putWhole(ctx context.Context, r request, body io.Reader, size int64, sum object.Sum) (http.Header, object.Sum, error) {
	data := make([]byte, size)
	if err := wire.ReadExactly(body, data); err != nil {
		return nil, sum, p.sourceError(ctx, r, err)
	}
	if sum.Kind == object.NoSum {
		sum = wire.SumOf(body, data)
	}
	r.payload = unsignedPayload
	if p.store.signBodies {
		digest := sha256.Sum256(data)
		r.payload = hex.EncodeToString(digest[:])
	}
	// A bytes.Reader as it is: net/http then sends it along with the headers.
	r.body, r.size = bytes.NewReader(data), size
	r.header.Set(sumHeaders[sum.Kind], sum.Base64())
	resp, err := p.do(ctx, r)
	if err != nil {
		return nil, sum, err
	}
	drain(resp)
	return p.verified(r, resp.Header, sum)
}

// drain reads what little a write's response holds, so that its connection can
// serve again.
func drain(resp *http.Response) {
	io.Copy(io.Discard, io.LimitReader(resp.Body, 64<<10))
	resp.Body.Close()
}

// verified holds the checksum the store answers with, if it does, against the
// one that was sent.
func (p *Place) verified(r request, answer http.Header, sum object.Sum) (http.Header, object.Sum, error) {
	kept, err := object.ParseSum(sum.Kind, answer.Get(sumHeaders[sum.Kind]))
	if err == nil && kept != sum {
		return nil, sum, place.NewError(p.name, r.op, r.key, place.Corrupt, fmt.Errorf("the store has %s, %s was sent", kept, sum))
	}
	return answer, sum, nil
}

// sourceError keeps a failure to read the body apart from one to send it.
func (p *Place) sourceError(ctx context.Context, r request, err error) error {
	if ctx.Err() != nil {
		return place.NewError(p.name, r.op, r.key, place.Cancelled, nil)
	}
	return p.fail(r.op, r.key, err)
}

// objectHeaders are those that say what lands beside the content.
func objectHeaders(opts place.WriteOptions) http.Header {
	h := make(http.Header, 12)
	if opts.Class != "" {
		h.Set("X-Amz-Storage-Class", opts.Class)
	}
	if opts.ContentType != "" {
		h.Set("Content-Type", opts.ContentType)
	}
	if opts.ContentEncoding != "" {
		h.Set("Content-Encoding", opts.ContentEncoding)
	}
	for name, value := range opts.Metadata {
		h.Set(metaPrefix+name, value)
	}
	for name, value := range ownMetadata(opts) {
		h[metaHeaders[name]] = []string{value}
	}
	return h
}

const metaPrefix = "X-Amz-Meta-"

// metaHeaders are the names of our own metadata as headers.
var metaHeaders = func() map[string]string {
	m := map[string]string{}
	for _, name := range []string{metaTime, metaMode, place.DigestTag(object.SHA256), place.DigestTag(object.BLAKE3)} {
		m[name] = http.CanonicalHeaderKey(metaPrefix + name)
	}
	return m
}()

// metadata is the owner's, with our own added.
func metadata(opts place.WriteOptions) map[string]string {
	m := ownMetadata(opts)
	for name, value := range opts.Metadata {
		if _, ours := m[name]; !ours {
			m[name] = value
		}
	}
	return m
}

// ownMetadata is the original time, the permissions and a digest, as far as they
// are known.
func ownMetadata(opts place.WriteOptions) map[string]string {
	m := make(map[string]string, 3)
	if !opts.Original.IsZero() {
		m[metaTime] = opts.Original.UTC().Format(time.RFC3339Nano)
	}
	if opts.Mode != 0 {
		m[metaMode] = strconv.FormatUint(uint64(opts.Mode&0o777), 8)
	}
	if opts.Digest.Kind != object.NoSum {
		m[place.DigestTag(opts.Digest.Kind)] = place.FormatDigest(opts.Digest, opts.Sum)
	}
	return m
}

// conditionHeaders make a write conditional (API Reference, "conditional writes").
func conditionHeaders(h http.Header, opts place.WriteOptions) {
	switch opts.Condition {
	case place.IfAbsent:
		h.Set("If-None-Match", "*")
	case place.IfStill:
		h.Set("If-Match", quoted(opts.Mark))
	}
}

func modeOf(bits uint64) fs.FileMode { return fs.FileMode(bits).Perm() }
