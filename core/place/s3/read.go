package s3

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/wire"
)

// sumKind is the checksum Lumtra has the store verify and keep.
const sumKind = object.CRC64NVME

// Metadata names under which the original time and permissions travel along.
const (
	metaTime = "lumtra-mtime"
	metaMode = "lumtra-mode"
)

// Metadata by which an object is verified where the store keeps nothing itself: its checksum with its size, and the
// size of the parts it was joined from.
const (
	metaSum  = "lumtra-crc64nvme"
	metaPart = "lumtra-part-size"
)

// Stat asks for an object's facts (HeadObject).
func (p *Place) Stat(ctx context.Context, ref object.Ref) (object.Entry, error) {
	r := request{method: http.MethodHead, op: "stat", key: ref.Key,
		header: http.Header{"X-Amz-Checksum-Mode": {"ENABLED"}}}
	if ref.Version != "" {
		r.query = url.Values{"versionId": {ref.Version}}
	}
	resp, err := p.do(ctx, r)
	if kind := place.KindOf(err); err != nil && (kind == place.Denied || kind == place.Other) {
		if why := p.why(ctx, r); why != nil {
			return object.Entry{}, why
		}
		resp, err = p.do(ctx, r) // what it was has passed
	}
	if err != nil {
		return object.Entry{}, err
	}
	resp.Body.Close()
	e := p.headerEntry(ref.Key, resp.Header)
	e.Size = resp.ContentLength // below nothing where the store does not say
	if err := e.Sane(); err != nil {
		return object.Entry{}, place.NewError(p.name, "stat", ref.Key, place.ServerFault, err)
	}
	// What If-Match would ask the store, its answer tells: not every store reads
	// that header as another does.
	if ref.IfMark != "" && ref.IfMark != e.Mark() {
		if ref.Version != "" || !p.listedAs(ctx, &e, ref.IfMark) {
			return object.Entry{}, place.NewError(p.name, "stat", ref.Key, place.Changed, nil)
		}
		e.ETag = ref.IfMark
	}
	return e, nil
}

// listedAs tells whether an object that is there has, in a listing, the ETag that a listing told of it before:
// some stores list what was copied inside them with another than they tell of it alone. Theirs is the one that
// counts then, since all that is planned goes by it.
func (p *Place) listedAs(ctx context.Context, e *object.Entry, mark string) bool {
	if p.store.known.Does(place.ListsETags) {
		return false
	}
	listed, err := p.listed(ctx, e.Key)
	if err != nil || listed.ETag != mark || listed.Size != e.Size {
		return false
	}
	p.store.known.Learn(place.ListsETags, place.Ignored)
	return true
}

// marked gives what was made by a copy inside the store the ETag that a listing tells, where that is another.
func (p *Place) marked(ctx context.Context, e *object.Entry) error {
	if !p.store.known.Lacks(place.ListsETags) {
		return nil
	}
	listed, err := p.listed(ctx, e.Key)
	if err == nil {
		e.ETag, e.Size = listed.ETag, listed.Size
	}
	return err
}

// listed is what a listing tells of a key.
func (p *Place) listed(ctx context.Context, key string) (object.Entry, error) {
	for e, err := range p.paged(ctx, key, place.ListOptions{}) {
		if err != nil {
			return object.Entry{}, err
		}
		if e.Key == key {
			return e, nil
		}
		break // longer ones come behind
	}
	return object.Entry{}, place.NewError(p.name, "list", key, place.NotFound, nil)
}

// why finds out what a HEAD was refused for, since such an answer has no body to
// say so: whether credentials have expired or lack a right makes all the
// difference. It asks for the object's first byte, which an empty one has not.
func (p *Place) why(ctx context.Context, r request) error {
	r.method, r.header = http.MethodGet, r.header.Clone()
	r.header.Set("Range", "bytes=0-0")
	resp, err := p.do(ctx, r)
	if err == nil {
		resp.Body.Close()
	}
	var e *place.Error
	if errors.As(err, &e) && (e.Kind == place.Changed || e.Status == http.StatusRequestedRangeNotSatisfiable) {
		return nil
	}
	return err
}

// Read opens an object or a range of it (GetObject). A whole object is held
// against the store's own checksum as it passes, or the MD5 in its ETag.
func (p *Place) Read(ctx context.Context, key string, opts place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	return p.read(ctx, key, opts, true)
}

// read is Read, with the content held against what the store keeps or not.
func (p *Place) read(ctx context.Context, key string, opts place.ReadOptions, checked bool) (io.ReadCloser,
	object.Entry, error) {
	r := request{method: http.MethodGet, op: "read", key: key,
		header: http.Header{"X-Amz-Checksum-Mode": {"ENABLED"}}, query: versionQuery(opts.Version)}
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
	e := p.headerEntry(key, resp.Header)
	e.Size = resp.ContentLength
	no := func(err error) (io.ReadCloser, object.Entry, error) {
		resp.Body.Close()
		return nil, e, err
	}
	// Asked of the answer rather than by If-Match, see Stat.
	told := e.ETag
	if opts.IfMark != "" && e.ETag != "" && e.ETag != opts.IfMark {
		if opts.Version != "" || ranged && !p.store.known.Lacks(place.ListsETags) || !p.listedAs(ctx, &e, opts.IfMark) {
			return no(place.NewError(p.name, "read", key, place.Changed, nil))
		}
		e.ETag = opts.IfMark
	}
	body := &wire.Body{Place: p.name, Key: key,
		Fail: func(err error) error { return p.transportError(ctx, "read", key, err) }}
	switch {
	case ranged && resp.StatusCode == http.StatusOK: // all of it
		return p.cut(body.Check(resp.Body, resp.ContentLength, object.Sum{}), e, opts)
	case ranged:
		_, total, _ := strings.Cut(resp.Header.Get("Content-Range"), "/")
		if e.Size, err = strconv.ParseInt(total, 10, 64); err != nil || resp.StatusCode != http.StatusPartialContent {
			return no(place.NewError(p.name, "read", key, place.Unsupported,
				errors.New("the store does not serve ranges")))
		}
	}
	var want object.Sum
	if !ranged && checked {
		for _, s := range e.Sums {
			if sumHeaders[s.Kind] != "" {
				want = s
				break
			}
		}
		if want.Kind == object.NoSum {
			if c := p.etagCheckOf(ctx, key, told, e.Size, resp.Header); c != nil {
				body.Also(c)
			} else if want = p.wrote(&e); want.Kind == object.NoSum {
				e.Unverified = true
			}
		}
	}
	return body.Check(resp.Body, resp.ContentLength, want), e, nil
}

// wrote is the checksum that whoever wrote an object has kept beside it; zero where none is, or where metadata may
// be of content that was overwritten.
func (p *Place) wrote(e *object.Entry) object.Sum {
	if !p.store.known.Does(place.MetaReplaced) {
		return object.Sum{}
	}
	return place.ParseWrote(e.Metadata[metaSum], e.Size)
}

// cut makes a range of the whole that a store without ranges gave.
func (p *Place) cut(whole io.ReadCloser, e object.Entry, opts place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	p.store.known.Learn(place.ReadRange, place.Ignored)
	r, err := wire.Cut(whole, opts.Offset, opts.Length)
	return r, e, p.fail("read", e.Key, err)
}

var sumHeaders = map[object.SumKind]string{
	object.CRC64NVME: "X-Amz-Checksum-Crc64nvme",
	object.CRC32C:    "X-Amz-Checksum-Crc32c",
	object.SHA256:    "X-Amz-Checksum-Sha256",
}

// sumOrder is the order in which an entry has its checksums.
var sumOrder = [...]object.SumKind{object.CRC64NVME, object.CRC32C, object.SHA256}

// headerEntry reads what a response's headers say of an object; the size is
// the caller's to find.
func (p *Place) headerEntry(key string, h http.Header) object.Entry {
	e := object.Entry{
		Key: key, Latest: true,
		ETag:        etagOf(h),
		Version:     h.Get("X-Amz-Version-Id"),
		Class:       class(h.Get("X-Amz-Storage-Class")),
		ContentType: h.Get("Content-Type"), ContentEncoding: h.Get("Content-Encoding"),
	}
	if when := h.Get("Last-Modified"); when != "" {
		e.Modified, _ = http.ParseTime(when)
	}
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
	archive(&e, h)
	for _, kind := range sumOrder {
		name := sumHeaders[kind]
		// A sum over part sums ends in "-N" and fails to parse: it is not one
		// of the content.
		if value := h[name]; len(value) == 1 {
			if s, err := object.ParseSum(kind, value[0]); err == nil {
				e.Sums = append(e.Sums, s)
			}
		}
	}
	if digest, parts, ok := object.ETagMD5(e.ETag); ok && parts == 0 && p.store.known.Does(place.MD5ETag) &&
		!encrypted(h) {
		e.Sums = append(e.Sums, object.Sum{Kind: object.MD5, Value: digest})
	}
	if e.Metadata != nil {
		crc, _ := e.Sum(sumKind)
		for _, kind := range place.Digests {
			if d := place.ParseDigest(e.Metadata[place.DigestTag(kind)], kind, crc); d.Kind != object.NoSum {
				e.Sums = append(e.Sums, d)
			}
		}
	}
	return e
}
