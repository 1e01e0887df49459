package s3

import (
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/wire"
)

// Multipart uploads are asked for by hand, as listings are: names may hold what XML
// cannot write, some servers answer it all the same, and a decoder that minds the
// standard would take a good answer for a broken one.

// answer is a small document with what came with it.
type answer struct {
	header http.Header
	raw    []byte
}

// text is the content of the first element with a name.
func (a *answer) text(name string) string { return string(unescape(between(a.raw, name))) }

// etag is an ETag among it, without its quotes.
func (a *answer) etag(name string) string { return strings.Trim(a.text(name), `"`) }

// each is the raw content of every element with a name.
func (a *answer) each(name string) (all []answer) {
	for rest := a.raw; ; {
		_, after, ok := bytes.Cut(rest, []byte("<"+name+">"))
		if !ok {
			return all
		}
		inner, next, _ := bytes.Cut(after, []byte("</"+name+">"))
		all, rest = append(all, answer{raw: inner}), next
	}
}

// mostAnswer bounds what an answer may take in memory.
const mostAnswer = 16 << 20

// ask sends a request and reads the document it is answered with. A refusal may
// come under a good status (API Reference, CompleteMultipartUpload).
func (p *Place) ask(ctx context.Context, r request) (*answer, error) {
	resp, err := p.do(ctx, r)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(resp.Body, mostAnswer))
	if err != nil {
		return nil, p.transportError(ctx, r.op, r.key, err)
	}
	if bytes.Contains(raw, []byte("<Error>")) {
		resp.StatusCode, resp.Body = 0, io.NopCloser(bytes.NewReader(raw))
		return nil, p.responseError(r, resp)
	}
	return &answer{resp.Header, raw}, nil
}

// Begin opens a multipart upload, with a whole-object CRC-64/NVME where the store
// takes one (CreateMultipartUpload).
func (p *Place) Begin(ctx context.Context, key string, opts place.WriteOptions) (place.Upload, error) {
	if err := p.CheckName(key); err != nil {
		return place.Upload{}, err
	}
	h, summed := objectHeaders(&opts), p.joinsSummed()
	p.vouching(h, opts.Sum, opts.Size, opts.PartSize)
	if summed {
		h.Set("X-Amz-Checksum-Algorithm", "CRC64NVME")
		h.Set("X-Amz-Checksum-Type", "FULL_OBJECT")
	}
	out, err := p.ask(ctx, request{method: http.MethodPost, op: "begin", key: key, query: url.Values{"uploads": {""}},
		header: h})
	if err != nil {
		if summed {
			if err = p.adapt(err, place.JoinWhole); place.KindOf(err) == place.Otherwise {
				return p.Begin(ctx, key, opts)
			}
		}
		return place.Upload{}, err
	}
	up := place.Upload{Key: key, ID: out.text("UploadId"), Begun: time.Now()}
	if up.ID == "" {
		return up, place.NewError(p.name, "begin", key, place.ServerFault, errors.New("the answer names no upload"))
	}
	return up, p.begun(ctx, up)
}

// begun makes sure that an upload has the name that the answer told, where nothing guards answers
// on their way here: one with a bit turned over names none, to which no part can ever be sent, and
// the upload itself would stay. Whoever begins again finds that and drops it; see [place.Strays].
func (p *Place) begun(ctx context.Context, up place.Upload) error {
	if p.store.base.Scheme == "https" {
		return nil
	}
	_, err := p.ask(ctx, request{method: http.MethodGet, op: "list parts", key: up.Key,
		query: url.Values{"uploadId": {up.ID}, "max-parts": {"1"}}})
	switch kind := place.KindOf(err); {
	case err != nil && kind == place.Cancelled:
		return err
	case err != nil && kind == place.NotFound:
		return place.NewError(p.name, "begin", up.Key, place.Corrupt,
			errors.New("there is no upload of the name that the answer tells: it was damaged on its way"))
	}
	return nil // what else the question meets with says nothing about the name
}

// Parts lists an upload's parts (ListParts).
func (p *Place) Parts(ctx context.Context, up place.Upload) ([]place.Part, error) {
	var found []place.Part
	var round wire.Round
	query := url.Values{"uploadId": {up.ID}}
	for {
		out, err := p.ask(ctx, request{method: http.MethodGet, op: "list parts", key: up.Key, query: query})
		if err != nil {
			return found, err
		}
		for _, x := range out.each("Part") {
			number, err1 := strconv.Atoi(x.text("PartNumber"))
			size, err2 := strconv.ParseInt(x.text("Size"), 10, 64)
			if err1 != nil || err2 != nil {
				return found, place.NewError(p.name, "list parts", up.Key, place.ServerFault,
					errors.New("a part without number or size"))
			}
			part := place.Part{Number: number, Size: size, ETag: x.etag("ETag")}
			part.Sum, _ = object.ParseSum(sumKind, x.text("ChecksumCRC64NVME"))
			found = append(found, part)
		}
		next := out.text("NextPartNumberMarker")
		if out.text("IsTruncated") != "true" || next == "" || next == query.Get("part-number-marker") {
			return found, nil
		}
		if round.Again(next) {
			return found, p.circles("list parts", up.Key)
		}
		query.Set("part-number-marker", next)
	}
}

// Finish joins the parts (CompleteMultipartUpload). With opts.Sum the store
// holds the whole object against it, or it is held against what is there.
func (p *Place) Finish(ctx context.Context, up place.Upload, parts []place.Part,
	opts place.WriteOptions) (object.Entry, error) {
	for {
		e, err := p.finishOnce(ctx, up, parts, opts)
		if err != nil && place.KindOf(err) == place.Otherwise {
			continue // each time something is learned, so that this ends
		}
		p.suspectFraming(err)
		return e, err
	}
}

// wholeSum is the checksum of what the parts make together; zero where that of one is
// not known.
func wholeSum(parts []place.Part) object.Sum {
	var whole object.Sum
	for i, part := range parts {
		switch {
		case part.Sum.Kind != sumKind:
			return object.Sum{}
		case i == 0:
			whole = part.Sum
		default:
			whole = object.CombineCRC64(whole, part.Sum, part.Size)
		}
	}
	return whole
}

func (p *Place) finishOnce(ctx context.Context, up place.Upload, parts []place.Part,
	opts place.WriteOptions) (object.Entry, error) {
	// not every store looks
	if sum := wholeSum(parts); sum.Kind == sumKind && opts.Sum.Kind == sumKind && sum != opts.Sum {
		return object.Entry{}, place.NewError(p.name, "finish", up.Key, place.Corrupt,
			errors.New(sum.String()+", expected "+opts.Sum.String()))
	}
	g, err := p.guard(ctx, "finish", up.Key, opts)
	if err != nil {
		return object.Entry{}, err
	}
	doc, h, asks := p.joining(parts, opts)
	g.header(h)
	raw, err := xml.Marshal(doc)
	if err != nil {
		return object.Entry{}, p.fail("finish", up.Key, err)
	}
	out, err := p.ask(ctx, request{method: http.MethodPost, op: "finish", key: up.Key,
		query: url.Values{"uploadId": {up.ID}}, header: h,
		body: bytes.NewReader(raw), size: int64(len(raw)), payload: sha256Hex(raw)})
	if err != nil {
		if adapted := p.adapt(err, append(asks, g.Asks()...)...); place.KindOf(adapted) == place.Otherwise {
			return object.Entry{}, adapted
		}
		return object.Entry{}, p.asExists(g.refused(ctx, err), opts)
	}
	e := object.Entry{Key: up.Key, Latest: true, ETag: out.etag("ETag"), Version: out.header.Get("X-Amz-Version-Id")}
	unverified := false
	for _, part := range parts {
		e.Size += part.Size
		unverified = unverified || part.Unverified
	}
	if err := g.After(ctx, &e); err != nil {
		return object.Entry{}, err
	}
	if err := p.told(ctx, &e); err != nil {
		return object.Entry{}, err
	}
	if s, err := object.ParseSum(sumKind, out.text("ChecksumCRC64NVME")); err == nil {
		if e.Sums = []object.Sum{s}; opts.Sum.Kind == sumKind && s != opts.Sum {
			return object.Entry{},
				place.Damaged(p, "finish", &e, errors.New(s.String()+", expected "+opts.Sum.String()))
		}
	}
	if opts.Sum.Kind == sumKind {
		e.Sums = []object.Sum{opts.Sum}
	}
	if unverified && (h.Get(sumHeaders[sumKind]) == "" || !p.store.known.Does(place.JoinWhole)) {
		if opts.Sum.Kind != sumKind {
			e.Unverified = true
			return e, nil
		}
		if err := p.vouch(ctx, "finish", &e, opts.Sum, partsMD5(parts), len(parts)); err != nil {
			return object.Entry{}, err
		}
	}
	return e, nil
}

// joining is the document that names the parts to join.
type joining struct {
	XMLName xml.Name `xml:"http://s3.amazonaws.com/doc/2006-03-01/ CompleteMultipartUpload"`
	Part    []joinedPart
}

type joinedPart struct {
	ChecksumCRC64NVME string `xml:",omitempty"`
	ETag              string
	PartNumber        int
}

// joining makes the request that joins parts, and tells what of it a store may not
// take.
func (p *Place) joining(parts []place.Part, opts place.WriteOptions) (joining, http.Header, []place.Ask) {
	k, summed := p.store.known, p.joinsSummed()
	doc, h := joining{Part: make([]joinedPart, len(parts))}, http.Header{"Content-Type": {"application/xml"}}
	var asks []place.Ask
	names := summed && !k.Lacks(place.JoinSums)
	for i, part := range parts {
		doc.Part[i] = joinedPart{ETag: quoted(part.ETag), PartNumber: part.Number}
		if names && part.Sum.Kind == sumKind {
			doc.Part[i].ChecksumCRC64NVME = part.Sum.Base64()
		}
	}
	if names {
		asks = append(asks, place.JoinSums)
	}
	if summed {
		h.Set("X-Amz-Checksum-Type", "FULL_OBJECT")
		asks = append(asks, place.JoinWhole)
		if opts.Sum.Kind == sumKind {
			h.Set(sumHeaders[sumKind], opts.Sum.Base64())
		}
	}
	return doc, h, asks
}

// Abort drops an upload (AbortMultipartUpload).
func (p *Place) Abort(ctx context.Context, up place.Upload) error {
	_, err := p.ask(ctx, request{method: http.MethodDelete, op: "abort", key: up.Key,
		query: url.Values{"uploadId": {up.ID}}})
	if err != nil && place.KindOf(err) == place.NotFound {
		return nil
	}
	return err
}

// Uploads lists unfinished uploads under the place (ListMultipartUploads).
func (p *Place) Uploads(ctx context.Context) ([]place.Upload, error) { return p.uploads(ctx, p.prefix) }

// UploadsOf lists those of one key: what some servers list at all.
func (p *Place) UploadsOf(ctx context.Context, key string) ([]place.Upload, error) {
	all, err := p.uploads(ctx, p.prefix+key)
	return slices.DeleteFunc(all, func(up place.Upload) bool { return up.Key != key }), err
}

func (p *Place) uploads(ctx context.Context, prefix string) ([]place.Upload, error) {
	var found []place.Upload
	// Names come as they are: some servers encode them without saying so when asked
	// to, and the scanner minds nothing they hold.
	query := url.Values{"uploads": {""}, "prefix": {prefix}}
	var round wire.Round
	for {
		out, err := p.ask(ctx, request{bucket: true, method: http.MethodGet, op: "list uploads", query: query})
		if err != nil {
			return found, err
		}
		for _, x := range out.each("Upload") {
			up := place.Upload{ID: x.text("UploadId")}
			key, ok := strings.CutPrefix(x.text("Key"), p.prefix)
			if up.Key = key; !ok || up.ID == "" {
				continue
			}
			up.Begun, _ = time.Parse(time.RFC3339, x.text("Initiated"))
			found = append(found, up)
		}
		key, id := out.text("NextKeyMarker"), out.text("NextUploadIdMarker")
		if out.text("IsTruncated") != "true" || key == query.Get("key-marker") && id == query.Get("upload-id-marker") {
			return found, nil
		}
		if round.Again(key + "\x00" + id) {
			return found, p.circles("list uploads", prefix)
		}
		query.Set("key-marker", key)
		query.Set("upload-id-marker", id)
	}
}
