package s3

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/aws/aws-sdk-go-v2/service/s3/types"
	"github.com/aws/smithy-go"
	smithyhttp "github.com/aws/smithy-go/transport/http"

	"lumtra/core/object"
	"lumtra/core/place"
)

// newSDK makes the SDK's client over the same connections, with its retries
// switched off: one call is one request.
func (s *Store) newSDK() *s3.Client {
	base := s.base.String()
	return s3.New(s3.Options{
		BaseEndpoint: &base,
		Region:       s.cfg.Region,
		UsePathStyle: !s.cfg.VirtualHost,
		HTTPClient:   s.http,
		Retryer:      aws.NopRetryer{},
		// Options made by hand get no checksum unless asked to.
		RequestChecksumCalculation: aws.RequestChecksumCalculationWhenRequired,
	}, func(o *s3.Options) {
		if o.Credentials = s.creds; s.creds == nil {
			o.Credentials = aws.AnonymousCredentials{}
		}
	})
}

// sdkError sorts an error of the SDK by cause.
func sdkError(ctx context.Context, name, op, key string, err error) error {
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return place.NewError(name, op, key, place.Cancelled, nil)
	}
	status := 0
	var resp *smithyhttp.ResponseError
	if errors.As(err, &resp) {
		status = resp.HTTPStatusCode()
	}
	var api smithy.APIError
	if errors.As(err, &api) {
		e := place.NewError(name, op, key, errorKind(status, api.ErrorCode()),
			errors.New(cmp.Or(api.ErrorMessage(), "HTTP "+strconv.Itoa(status))))
		e.Code, e.Status, e.Request = api.ErrorCode(), status, requestID(err)
		return e
	}
	kind := errorKind(status, "")
	if status < 300 { // no answer, or one that broke off
		kind = place.Unreachable
	}
	// What lies beneath "operation error S3: …", which says nothing more.
	var sent *smithyhttp.RequestSendError
	if errors.As(err, &sent) {
		err = sent.Err
	}
	var urlErr *url.Error
	if errors.As(err, &urlErr) {
		err = urlErr.Err // without the address: it may carry a signature
	}
	e := place.NewError(name, op, key, kind, err)
	e.Status = status
	return e
}

// requestID is the store's name for the request that an error answers.
func requestID(err error) string {
	var named interface{ ServiceRequestID() string }
	if errors.As(err, &named) {
		return named.ServiceRequestID()
	}
	return ""
}

func (p *Place) sdkError(ctx context.Context, op, key string, err error) error {
	return sdkError(ctx, p.name, op, key, err)
}

// Remove deletes up to a thousand keys a request (DeleteObjects). In a bucket
// with versions a Ref without a version leaves a delete marker.
//
// The API cannot make a batch conditional, so an object with IfMark is looked
// at just before; what changes in between is lost to nobody where versions are
// kept.
func (p *Place) Remove(ctx context.Context, refs ...object.Ref) []error {
	errs := make([]error, len(refs))
	var batch []int
	for i, ref := range refs {
		if ref.IfMark != "" {
			if _, err := p.Stat(ctx, ref); err != nil {
				switch place.KindOf(err) {
				case place.NotFound:
				case place.Changed:
					errs[i] = place.NewError(p.name, "delete", ref.Key, place.Changed, nil)
				default:
					errs[i] = err
				}
				continue
			}
		}
		if !inXML(ref.Key) {
			errs[i] = p.removeOne(ctx, ref)
			continue
		}
		if batch = append(batch, i); len(batch) == 1000 {
			p.removeBatch(ctx, refs, batch, errs)
			batch = batch[:0]
		}
	}
	p.removeBatch(ctx, refs, batch, errs)
	return errs
}

// inXML tells whether a document can name a key: what it has no way to write would come out as another one (XML 1.0,
// section 2.2).
func inXML(key string) bool {
	for _, r := range key {
		if unicode.IsControl(r) || r == utf8.RuneError || r == 0xfffe || r == 0xffff {
			return false
		}
	}
	return true
}

func (p *Place) removeOne(ctx context.Context, ref object.Ref) error {
	r := request{method: http.MethodDelete, op: "delete", key: ref.Key}
	if ref.Version != "" {
		r.query = map[string][]string{"versionId": {ref.Version}}
	}
	resp, err := p.do(ctx, r)
	if err != nil {
		if place.KindOf(err) == place.NotFound && codeOf(err) != "NoSuchBucket" {
			return nil
		}
		return err
	}
	return resp.Body.Close()
}

func codeOf(err error) string {
	var e *place.Error
	if errors.As(err, &e) {
		return e.Code
	}
	return ""
}

// CanCopyFrom tells whether from is a place in the same account of the same store,
// which is not known to copy nothing.
func (p *Place) CanCopyFrom(from place.Place) bool {
	src, ok := from.(*Place)
	return ok && !p.store.known.Lacks(place.CopyWhole) && (src.store == p.store || src.store.base == p.store.base &&
		src.store.cfg.AccessKey != "" && src.store.cfg.AccessKey == p.store.cfg.AccessKey)
}

// copySource names an object as the source of a copy.
func (p *Place) copySource(src object.Ref) string {
	source := escapePath("/" + p.bucket + "/" + p.prefix + src.Key)
	if src.Version != "" {
		source += "?versionId=" + src.Version
	}
	return source
}

// CanCopyParts tells whether the store is not known to copy no ranges.
func (p *Place) CanCopyParts() bool { return !p.store.known.Lacks(place.CopyRange) }

// CopyPart copies a range inside the store (UploadPartCopy).
func (p *Place) CopyPart(ctx context.Context, up place.Upload, number int, from place.Place, src object.Ref, offset,
	size int64) (place.Part, error) {
	other, ok := from.(*Place)
	if !ok || !p.CanCopyFrom(from) {
		return place.Part{}, place.NewError(p.name, "copy part", up.Key, place.Unsupported,
			errors.New("the source lies in another service"))
	}
	in := &s3.UploadPartCopyInput{
		Bucket: &p.bucket, Key: aws.String(p.prefix + up.Key), UploadId: &up.ID, PartNumber: aws.Int32(int32(number)),
		CopySource:      aws.String(other.copySource(src)),
		CopySourceRange: aws.String(fmt.Sprintf("bytes=%d-%d", offset, offset+size-1)),
	}
	in.CopySourceIfMatch = p.sourceMatch(src.IfMark)
	if err := p.still(ctx, other, src); err != nil {
		return place.Part{}, err
	}
	out, err := p.store.sdk.UploadPartCopy(ctx, in)
	if err != nil {
		err = p.adapt(p.sdkError(ctx, "copy part", up.Key, err), place.CopyRange)
		return place.Part{}, p.misread(ctx, err, other, src, "", place.WriteOptions{})
	}
	if err := p.still(ctx, other, src); err != nil {
		return place.Part{}, err
	}
	part := place.Part{Number: number, Size: size}
	if r := out.CopyPartResult; r != nil {
		part.ETag = strings.Trim(aws.ToString(r.ETag), `"`)
		part.Sum, _ = object.ParseSum(sumKind, aws.ToString(r.ChecksumCRC64NVME))
	}
	return part, nil
}

// CopyFrom copies inside the store (CopyObject: up to 5 GiB).
func (p *Place) CopyFrom(ctx context.Context, from place.Place, src object.Ref, key string,
	opts place.WriteOptions) (object.Entry, error) {
	other, ok := from.(*Place)
	if !ok || !p.CanCopyFrom(from) {
		return object.Entry{}, place.NewError(p.name, "copy", key, place.Unsupported,
			errors.New("the source lies in another service"))
	}
	for {
		e, err := p.copyOnce(ctx, other, src, key, opts)
		if err != nil && place.KindOf(err) == place.Otherwise && p.CanCopyFrom(from) {
			continue
		}
		return e, err
	}
}

func (p *Place) copyOnce(ctx context.Context, other *Place, src object.Ref, key string,
	opts place.WriteOptions) (object.Entry, error) {
	g, err := p.guard(ctx, "copy", key, opts)
	if err != nil {
		return object.Entry{}, err
	}
	in := &s3.CopyObjectInput{
		Bucket: &p.bucket, Key: aws.String(p.prefix + key), CopySource: aws.String(other.copySource(src)),
		StorageClass: types.StorageClass(opts.Class),
	}
	if !p.store.known.Lacks(place.SumAhead) {
		in.ChecksumAlgorithm = types.ChecksumAlgorithmCrc64nvme
	}
	in.CopySourceIfMatch = p.sourceMatch(src.IfMark)
	if err := p.still(ctx, other, src); err != nil {
		return object.Entry{}, err
	}
	switch {
	case !g.Sends:
	case opts.Condition == place.IfAbsent:
		in.IfNoneMatch = aws.String("*")
	case opts.Condition == place.IfStill:
		in.IfMatch = aws.String(p.match(opts.Mark))
	}
	if m := metadata(opts); len(m) > 0 {
		in.Metadata, in.MetadataDirective = m, types.MetadataDirectiveReplace
		if opts.ContentType != "" {
			in.ContentType = &opts.ContentType
		}
	}
	out, err := p.store.sdk.CopyObject(ctx, in)
	if err != nil {
		err = p.sdkError(ctx, "copy", key, err)
		asks := append(g.Asks(), place.CopyWhole)
		if in.ChecksumAlgorithm != "" {
			asks = append([]place.Ask{place.SumAhead}, asks...)
		}
		if adapted := p.adapt(err, asks...); place.KindOf(adapted) == place.Otherwise {
			return object.Entry{}, adapted
		}
		return object.Entry{}, p.misread(ctx, err, other, src, key, opts)
	}
	if err := p.still(ctx, other, src); err != nil {
		return object.Entry{}, err
	}
	e := object.Entry{Key: key, Latest: true, Version: aws.ToString(out.VersionId), Class: opts.Class}
	if r := out.CopyObjectResult; r != nil {
		e.ETag, e.Modified = strings.Trim(aws.ToString(r.ETag), `"`), aws.ToTime(r.LastModified)
		if s, err := object.ParseSum(sumKind, aws.ToString(r.ChecksumCRC64NVME)); err == nil {
			e.Sums = []object.Sum{s}
		}
	}
	if e.ETag == "" || g.Looks { // neither tells the size
		there, err := p.Stat(ctx, object.Ref{Key: key})
		if err != nil {
			return object.Entry{}, err
		}
		if e.ETag != "" && there.ETag != e.ETag {
			return object.Entry{}, place.NewError(p.name, "copy", key, place.Changed,
				errors.New("another writer came between; look at both before planning again"))
		}
		e.ETag, e.Version, e.Modified, e.Size = there.ETag, there.Version, there.Modified, there.Size
	}
	return e, p.marked(ctx, &e)
}

// sourceMatch is the condition on the source of a copy, nil where the store takes
// none.
func (p *Place) sourceMatch(mark string) *string {
	if k := p.store.known; mark == "" || k.Of(place.CopySourceStill) == place.Refused || k.Lacks(place.ListsETags) {
		return nil
	}
	return aws.String(p.match(mark))
}

// misread looks into a copy whose conditions do not hold, as the store says, which
// does not tell the one on the source from the one on what is replaced. Where both
// hold, by a look at each, the store reads them in another way.
func (p *Place) misread(ctx context.Context, err error, from *Place, src object.Ref, key string,
	opts place.WriteOptions) error {
	if src.IfMark == "" || place.KindOf(err) != place.Changed {
		return p.asExists(err, opts)
	}
	k := p.store.known
	lists := k.Lacks(place.ListsETags)
	if _, changed := from.Stat(ctx, object.Ref{Key: src.Key, Version: src.Version,
		IfMark: src.IfMark}); changed != nil {
		return changed
	}
	if !lists && k.Lacks(place.ListsETags) { // learned by that look: it goes by the listing's then
		return otherwise(err)
	}
	if opts.Condition != place.Always {
		ref := object.Ref{Key: key}
		if opts.Condition == place.IfStill {
			ref.IfMark = opts.Mark
		}
		_, gone := p.Stat(ctx, ref)
		kind := place.KindOf(gone)
		switch {
		case gone != nil && kind != place.NotFound && kind != place.Changed:
			return gone
		case opts.Condition == place.IfAbsent && gone == nil, opts.Condition == place.IfStill && gone != nil:
			return p.asExists(err, opts)
		}
	}
	switch {
	case k.Of(place.QuotedMatch) != place.Refused:
		k.Learn(place.QuotedMatch, place.Refused)
	case k.Of(place.CopySourceStill) != place.Refused:
		k.Learn(place.CopySourceStill, place.Refused)
	case k.Of(place.CopyIfStill) != place.Refused:
		k.Learn(place.CopyIfStill, place.Refused)
	default:
		return err
	}
	return otherwise(err)
}

// otherwise is an error that says that the same is to be asked in another way.
func otherwise(err error) error {
	var e *place.Error
	errors.As(err, &e)
	other := *e
	other.Kind = place.Otherwise
	return &other
}

// still looks whether the source of a copy is what was asked for, where the store is
// not known to see to that.
func (p *Place) still(ctx context.Context, from *Place, src object.Ref) error {
	k := p.store.known
	if src.IfMark == "" || src.Version != "" || k.Does(place.CopySourceStill) && !k.Lacks(place.ListsETags) {
		return nil
	}
	_, err := from.Stat(ctx, object.Ref{Key: src.Key, IfMark: src.IfMark})
	return err
}

// asExists is a condition that did not hold by the name of the one that was asked.
func (p *Place) asExists(err error, opts place.WriteOptions) error {
	var e *place.Error
	if opts.Condition == place.IfAbsent && errors.As(err, &e) && e.Kind == place.Changed &&
		e.Code != "CopySourceConditionFailed" {
		e.Kind = place.Exists
	}
	return err
}
