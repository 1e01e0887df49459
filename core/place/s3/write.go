package s3

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"strconv"
	"time"
	"unicode/utf8"

	"lumtra/core/object"
	"lumtra/core/place"
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
		if why = p.store.known.HeldName(key); why == "" {
			return nil
		}
	}
	return place.NewError(p.name, "check", key, place.BadName, errors.New(why))
}

// Write stores a whole object (PutObject).
func (p *Place) Write(ctx context.Context, key string, body io.Reader, size int64,
	opts place.WriteOptions) (object.Entry, error) {
	if err := p.CheckName(key); err != nil {
		return object.Entry{}, err
	}
	c, err := p.take(ctx, bodyRequest{op: "write", key: key}, body, size, opts.Sum)
	if err != nil {
		return object.Entry{}, err
	}
	defer c.drop()
	for {
		e, err := p.writeOnce(ctx, key, c, opts)
		if err != nil && place.KindOf(err) == place.Otherwise && c.again() {
			continue // each time something is learned, so that this ends
		}
		if !c.again() {
			p.suspectFraming(err)
		}
		return e, err
	}
}

// suspectFraming takes content that arrived as another, after it was streamed to a
// store that was never tried, for one whose framing was stored along with it.
func (p *Place) suspectFraming(err error) {
	if k := p.store.known; err != nil && place.KindOf(err) == place.Corrupt && k.Of(place.SumBehind) == place.Untold {
		k.Learn(place.SumBehind, place.Refused)
	}
}

func (p *Place) writeOnce(ctx context.Context, key string, c *content, opts place.WriteOptions) (object.Entry, error) {
	g, err := p.guard(ctx, "write", key, opts)
	if err != nil {
		return object.Entry{}, err
	}
	h := objectHeaders(&opts)
	p.vouching(h, c.sum, c.size, 0)
	g.header(h)
	s, err := p.put(ctx, bodyRequest{op: "write", key: key, header: h, asks: g.Asks()}, c)
	if err != nil {
		return object.Entry{}, g.refused(ctx, err)
	}
	e := object.Entry{Key: key, Latest: true, ETag: etagOf(s.answer), Version: s.answer.Get("X-Amz-Version-Id"),
		Size: c.size, Class: opts.Class, Sums: []object.Sum{s.sum}}
	if err := g.After(ctx, &e); err != nil {
		return object.Entry{}, err
	}
	if !s.vouched {
		if err := p.told(ctx, &e); err != nil {
			return object.Entry{}, err
		}
		if err := p.vouch(ctx, "write", &e, s.sum, s.md5, 0); err != nil {
			return object.Entry{}, err
		}
	}
	if opts.Digest.Kind != object.NoSum {
		e.Sums = append(e.Sums, opts.Digest)
	}
	return e, nil
}

// told asks for what an answer did not tell of an object that was written.
func (p *Place) told(ctx context.Context, e *object.Entry) error {
	if e.ETag != "" {
		return nil
	}
	there, err := p.Stat(ctx, object.Ref{Key: e.Key})
	if err != nil {
		return err
	}
	return place.Told(p, "write", e, &there)
}

// WritePart stores one part (UploadPart).
func (p *Place) WritePart(ctx context.Context, up place.Upload, number int, offset int64, body io.Reader, size int64,
	sum object.Sum) (place.Part, error) {
	b := bodyRequest{op: "write part", key: up.Key, query: url.Values{"partNumber": {strconv.Itoa(number)},
		"uploadId": {up.ID}}}
	c, err := p.take(ctx, b, body, size, sum)
	if err != nil {
		return place.Part{}, err
	}
	defer c.drop()
	for {
		b.header = make(http.Header, 8)
		s, err := p.put(ctx, b, c)
		if err != nil && place.KindOf(err) == place.Otherwise && c.again() {
			continue
		}
		if err != nil {
			return place.Part{}, err
		}
		part := place.Part{Number: number, Size: size, ETag: etagOf(s.answer), Sum: s.sum, MD5: s.md5,
			Unverified: !s.vouched}
		if part.Unverified {
			err = p.vouchPart(up.Key, &part)
		}
		return part, err
	}
}

// vouchPart holds a part's ETag against its MD5. Where that tells nothing, the
// joined object is looked at.
func (p *Place) vouchPart(key string, part *place.Part) error {
	k := p.store.known
	digest, of, ok := object.ETagMD5(part.ETag)
	switch {
	case !ok || of != 0 || part.MD5 == "":
	case digest == part.MD5:
		k.Learn(place.MD5ETag, place.Works)
		part.Unverified = false
	case k.Does(place.MD5ETag):
		return place.NewError(p.name, "write part", key, place.Corrupt,
			fmt.Errorf("the store's ETag of part %d is not the MD5 of what was sent", part.Number))
	}
	return nil
}

// objectHeaders are those that say what lands beside the content.
func objectHeaders(opts *place.WriteOptions) http.Header {
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
		if name != metaPart && name != metaSum { // of another place's
			h.Set(metaPrefix+name, value)
		}
	}
	ownMetadata(opts, func(name, value string) { h[metaHeaders[name]] = []string{value} })
	return h
}

// vouching adds, to what lies beside an object, what it can be verified by when it is read, where the store is not
// known to keep a checksum itself: that of the whole, if it is known beforehand, and how large its parts are.
func (p *Place) vouching(h http.Header, sum object.Sum, size, partSize int64) {
	k := p.store.known
	if k.Does(place.KeepsSum) && (partSize == 0 || p.joinsSummed()) || k.Lacks(place.KeepsMeta) {
		return
	}
	if sum.Kind == sumKind {
		h[metaHeaders[metaSum]] = []string{place.FormatWrote(sum, size)}
	}
	if partSize > 0 {
		h[metaHeaders[metaPart]] = []string{strconv.FormatInt(partSize, 10)}
	}
}

const metaPrefix = "X-Amz-Meta-"

// metaHeaders are the names of our own metadata as headers.
var metaHeaders = func() map[string]string {
	m := map[string]string{}
	for _, name := range []string{metaTime, metaMode, metaSum, metaPart,
		place.DigestTag(object.SHA256), place.DigestTag(object.BLAKE3)} {
		m[name] = http.CanonicalHeaderKey(metaPrefix + name)
	}
	return m
}()

// metadata is the owner's, with our own added.
func metadata(opts place.WriteOptions) map[string]string {
	m := make(map[string]string, len(opts.Metadata)+3)
	ownMetadata(&opts, func(name, value string) { m[name] = value })
	for name, value := range opts.Metadata {
		if _, ours := m[name]; !ours {
			m[name] = value
		}
	}
	return m
}

// ownMetadata is the original time, the permissions and a digest, as far as they
// are known.
func ownMetadata(opts *place.WriteOptions, set func(name, value string)) {
	if !opts.Original.IsZero() {
		set(metaTime, opts.Original.UTC().Format(time.RFC3339Nano))
	}
	if opts.Mode != 0 {
		set(metaMode, strconv.FormatUint(uint64(opts.Mode&0o777), 8))
	}
	if opts.Digest.Kind != object.NoSum {
		set(place.DigestTag(opts.Digest.Kind), place.FormatDigest(opts.Digest, opts.Sum))
	}
}

func modeOf(bits uint64) fs.FileMode { return object.ModeOf(uint32(bits)) }
