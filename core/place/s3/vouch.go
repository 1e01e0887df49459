package s3

import (
	"context"
	"crypto/md5"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"lumtra/core/object"
	"lumtra/core/place"
)

// etagOf is an answer's ETag without its quotes.
func etagOf(h http.Header) string { return strings.Trim(h.Get("ETag"), `"`) }

// vouch finds out whether what was written arrived whole, after the store has not
// vouched for it: the ETag is held against the MD5 of what was sent, or what is
// there is read back. Where neither can be done the entry is marked unverified.
func (p *Place) vouch(ctx context.Context, op string, e *object.Entry, sum object.Sum, md5 string, parts int) error {
	k := p.store.known
	ask := place.MD5ETag
	if parts > 0 {
		ask = place.MD5PartETag
	}
	digest, of, isMD5 := object.ETagMD5(e.ETag)
	if isMD5 && of == parts && md5 != "" {
		if digest == md5 {
			k.Learn(ask, place.Works)
			return nil
		}
		if k.Does(ask) {
			return place.Damaged(p, op, e, fmt.Errorf("the store's ETag is %s, the MD5 of what was sent %s", e.ETag,
				hex.EncodeToString([]byte(md5))))
		}
	}
	err := place.ReadBack(ctx, p, op, e, sum, func() (io.ReadCloser, error) {
		r, _, err := p.read(ctx, e.Key, place.ReadOptions{IfMark: e.Mark()}, false)
		return r, err
	})
	if err == nil && !e.Unverified && isMD5 && of == parts && md5 != "" {
		k.Confirm(ask, place.Ignored) // the content is right, and the ETag another, in both answers
	}
	return err
}

// partsMD5 is the MD5 of the parts' MD5s, "" where one is not known.
func partsMD5(parts []place.Part) string {
	h := md5.New()
	for _, part := range parts {
		if len(part.MD5) != md5.Size {
			return ""
		}
		io.WriteString(h, part.MD5)
	}
	return string(h.Sum(nil))
}

// etagCheck holds content against an ETag that is, or looks like, its MD5.
type etagCheck struct {
	p    *Place
	key  string
	etag string
	want string
	ask  place.Ask
	sum  interface {
		io.Writer
	}
	take func() string
}

// Write takes content.
func (c *etagCheck) Write(b []byte) (int, error) { return c.sum.Write(b) }

// Verify compares. That the two agree proves the content, whatever was known of
// the store; that they do not is damage unless the store is known to make its
// ETags otherwise, in which case there is no check.
func (c *etagCheck) Verify() error {
	got := c.take()
	if got == c.want {
		c.p.store.known.Learn(c.ask, place.Works)
		return nil
	}
	why := fmt.Errorf("the MD5 is %s, the store's ETag %s", hex.EncodeToString([]byte(got)), c.etag)
	if !c.p.store.known.Does(c.ask) {
		why = fmt.Errorf("%w; if ETags are no MD5 here, a test of the endpoint that may write finds that out, or "+
			"its setting etag-is-md5 = false says so", why)
	}
	bad := place.NewError(c.p.name, "read", c.key, place.Corrupt, why)
	bad.Guess = !c.p.store.known.Does(c.ask)
	return bad
}

// encrypted tells of an object whose ETag is not made of its content: it is
// encrypted with a key of its owner's ("Common Response Headers", ETag).
func encrypted(h http.Header) bool {
	return strings.HasPrefix(h.Get("X-Amz-Server-Side-Encryption"), "aws:kms") ||
		h.Get("X-Amz-Server-Side-Encryption-Customer-Algorithm") != ""
}

// etagCheckOf makes the check for an object with this ETag; nil where it tells
// nothing.
func (p *Place) etagCheckOf(ctx context.Context, key, etag string, size int64, h http.Header) place.ContentCheck {
	want, parts, ok := object.ETagMD5(etag)
	ask := place.MD5ETag
	if parts > 0 {
		ask = place.MD5PartETag
	}
	if !ok || encrypted(h) || p.store.known.Lacks(ask) {
		return nil
	}
	c := &etagCheck{p: p, key: key, etag: etag, want: want, ask: ask}
	if parts == 0 {
		var sum hash.Hash = md5.New()
		c.sum, c.take = sum, func() string { return string(sum.Sum(nil)) }
		return c
	}
	partSize := size
	if parts > 1 {
		if partSize = p.partSize(ctx, key, etag, size, parts, h); partSize == 0 {
			return nil
		}
	}
	sum := object.NewPartsMD5(max(partSize, 1))
	c.sum, c.take = sum, sum.Sum
	return c
}

// partSize finds the size of the parts an object was joined from: as it is kept beside it, as the store tells it of
// the first one (HeadObject, partNumber), or the only usual one that makes so many of it; 0 where none is sure.
func (p *Place) partSize(ctx context.Context, key, etag string, size int64, parts int, h http.Header) int64 {
	fits := func(n int64) bool { return n > 0 && n < size && (size+n-1)/n == int64(parts) }
	if n, err := strconv.ParseInt(h.Get(metaPrefix+metaPart), 10, 64); err == nil && fits(n) {
		return n
	}
	resp, err := p.do(ctx, request{method: http.MethodHead, op: "stat", key: key,
		query: url.Values{"partNumber": {"1"}}})
	if err == nil {
		resp.Body.Close()
		if etagOf(resp.Header) == etag && fits(resp.ContentLength) {
			return resp.ContentLength
		}
	}
	only := int64(0)
	for _, n := range usualParts {
		if !fits(n) {
			continue
		}
		if only > 0 {
			return 0
		}
		only = n
	}
	return only
}

// usualParts are the sizes that programs mostly cut objects into.
var usualParts = func() (all []int64) {
	for _, unit := range []int64{1 << 20, 1e6} {
		for _, n := range []int64{5, 8, 10, 12, 15, 16, 20, 25, 30, 32, 40, 50, 60, 64, 80, 100, 128, 200, 250, 256,
			500, 512, 1000, 1024} {
			all = append(all, n*unit)
		}
	}
	return all
}()

// CheckFor makes the check of a whole object that is read in ranges.
func (p *Place) CheckFor(ctx context.Context, e object.Entry) (place.ContentCheck, object.Sum) {
	resp, err := p.do(ctx, request{method: http.MethodHead, op: "stat", key: e.Key, query: versionQuery(e.Version)})
	if err != nil {
		return nil, object.Sum{}
	}
	resp.Body.Close()
	if etag := etagOf(resp.Header); etag != e.ETag {
		return nil, object.Sum{}
	}
	if c := p.etagCheckOf(ctx, e.Key, e.ETag, e.Size, resp.Header); c != nil {
		return c, object.Sum{}
	}
	there := p.headerEntry(e.Key, resp.Header)
	there.Size = e.Size
	return nil, p.wrote(&there)
}

func versionQuery(version string) url.Values {
	if version == "" {
		return nil
	}
	return url.Values{"versionId": {version}}
}
