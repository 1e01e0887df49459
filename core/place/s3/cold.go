package s3

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

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
		e := place.NewError(name, op, key, errorKind(status, api.ErrorCode()), errors.New(cmp.Or(api.ErrorMessage(), "HTTP "+strconv.Itoa(status))))
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
			e, err := p.Stat(ctx, object.Ref{Key: ref.Key, Version: ref.Version})
			if err == nil && e.Mark() != ref.IfMark {
				err = place.NewError(p.name, "remove", ref.Key, place.Changed, nil)
			}
			if err != nil {
				if place.KindOf(err) != place.NotFound {
					errs[i] = err
				}
				continue
			}
		}
		if strings.ContainsFunc(ref.Key, unicode.IsControl) {
			errs[i] = p.removeOne(ctx, ref) // XML cannot name it
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

func (p *Place) removeOne(ctx context.Context, ref object.Ref) error {
	r := request{method: http.MethodDelete, op: "remove", key: ref.Key}
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
	return ok && !p.store.known.Lacks(place.CopyWhole) && (src.store == p.store || src.store.base == p.store.base && src.store.cfg.AccessKey != "" && src.store.cfg.AccessKey == p.store.cfg.AccessKey)
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
func (p *Place) CopyPart(ctx context.Context, up place.Upload, number int, from place.Place, src object.Ref, offset, size int64) (place.Part, error) {
	other, ok := from.(*Place)
	if !ok || !p.CanCopyFrom(from) {
		return place.Part{}, place.NewError(p.name, "copy part", up.Key, place.Unsupported, errors.New("the source lies in another service"))
	}
	in := &s3.UploadPartCopyInput{
		Bucket: &p.bucket, Key: aws.String(p.prefix + up.Key), UploadId: &up.ID, PartNumber: aws.Int32(int32(number)),
		CopySource: aws.String(other.copySource(src)), CopySourceRange: aws.String(fmt.Sprintf("bytes=%d-%d", offset, offset+size-1)),
	}
	if src.IfMark != "" {
		in.CopySourceIfMatch = aws.String(p.match(src.IfMark))
	}
	out, err := p.store.sdk.UploadPartCopy(ctx, in)
	if err != nil {
		return place.Part{}, p.adapt(p.sdkError(ctx, "copy part", up.Key, err), place.CopyRange)
	}
	part := place.Part{Number: number, Size: size}
	if r := out.CopyPartResult; r != nil {
		part.ETag = strings.Trim(aws.ToString(r.ETag), `"`)
		part.Sum, _ = object.ParseSum(sumKind, aws.ToString(r.ChecksumCRC64NVME))
	}
	return part, nil
}

// CopyFrom copies inside the store (CopyObject: up to 5 GiB).
func (p *Place) CopyFrom(ctx context.Context, from place.Place, src object.Ref, key string, opts place.WriteOptions) (object.Entry, error) {
	other, ok := from.(*Place)
	if !ok || !p.CanCopyFrom(from) {
		return object.Entry{}, place.NewError(p.name, "copy", key, place.Unsupported, errors.New("the source lies in another service"))
	}
	for {
		e, err := p.copyOnce(ctx, other, src, key, opts)
		if err != nil && place.KindOf(err) == place.Otherwise && p.CanCopyFrom(from) {
			continue
		}
		return e, err
	}
}

func (p *Place) copyOnce(ctx context.Context, other *Place, src object.Ref, key string, opts place.WriteOptions) (object.Entry, error) {
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
	if src.IfMark != "" {
		in.CopySourceIfMatch = aws.String(p.match(src.IfMark))
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
		return object.Entry{}, p.asExists(err, opts)
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
			return object.Entry{}, place.NewError(p.name, "copy", key, place.Changed, errors.New("another writer came between; look at both before planning again"))
		}
		e.ETag, e.Version, e.Modified = there.ETag, there.Version, there.Modified
	}
	return e, nil
}

// asExists is a condition that did not hold by the name of the one that was asked.
func (p *Place) asExists(err error, opts place.WriteOptions) error {
	var e *place.Error
	if opts.Condition == place.IfAbsent && errors.As(err, &e) && e.Kind == place.Changed && e.Code != "CopySourceConditionFailed" {
		e.Kind = place.Exists
	}
	return err
}

// Begin opens a multipart upload with a whole-object CRC-64/NVME (CreateMultipartUpload).
func (p *Place) Begin(ctx context.Context, key string, opts place.WriteOptions) (place.Upload, error) {
	if err := p.CheckName(key); err != nil {
		return place.Upload{}, err
	}
	in := &s3.CreateMultipartUploadInput{
		Bucket: &p.bucket, Key: aws.String(p.prefix + key),
		Metadata: metadata(opts), StorageClass: types.StorageClass(opts.Class),
	}
	if p.joinsSummed() {
		in.ChecksumAlgorithm, in.ChecksumType = types.ChecksumAlgorithmCrc64nvme, types.ChecksumTypeFullObject
	}
	if opts.ContentType != "" {
		in.ContentType = &opts.ContentType
	}
	in.ContentEncoding = optional(opts.ContentEncoding)
	out, err := p.store.sdk.CreateMultipartUpload(ctx, in)
	if err != nil {
		err = p.sdkError(ctx, "begin", key, err)
		if in.ChecksumAlgorithm != "" {
			if adapted := p.adapt(err, place.JoinWhole); place.KindOf(adapted) == place.Otherwise {
				return p.Begin(ctx, key, opts)
			}
		}
		return place.Upload{}, err
	}
	return place.Upload{Key: key, ID: aws.ToString(out.UploadId), Begun: time.Now()}, nil
}

// Parts lists an upload's parts (ListParts).
func (p *Place) Parts(ctx context.Context, up place.Upload) ([]place.Part, error) {
	var found []place.Part
	pages := s3.NewListPartsPaginator(p.store.sdk, &s3.ListPartsInput{
		Bucket: &p.bucket, Key: aws.String(p.prefix + up.Key), UploadId: &up.ID,
	})
	for pages.HasMorePages() {
		out, err := pages.NextPage(ctx)
		if err != nil {
			return found, p.sdkError(ctx, "list parts", up.Key, err)
		}
		for _, x := range out.Parts {
			part := place.Part{Number: int(aws.ToInt32(x.PartNumber)), Size: aws.ToInt64(x.Size), ETag: strings.Trim(aws.ToString(x.ETag), `"`)}
			if s, err := object.ParseSum(sumKind, aws.ToString(x.ChecksumCRC64NVME)); err == nil {
				part.Sum = s
			}
			found = append(found, part)
		}
	}
	return found, nil
}

// Finish joins the parts (CompleteMultipartUpload). With opts.Sum the store
// holds the whole object against it, or it is held against what is there.
func (p *Place) Finish(ctx context.Context, up place.Upload, parts []place.Part, opts place.WriteOptions) (object.Entry, error) {
	for {
		e, err := p.finishOnce(ctx, up, parts, opts)
		if err != nil && place.KindOf(err) == place.Otherwise {
			continue // each time something is learned, so that this ends
		}
		return e, err
	}
}

func (p *Place) finishOnce(ctx context.Context, up place.Upload, parts []place.Part, opts place.WriteOptions) (object.Entry, error) {
	g, err := p.guard(ctx, "finish", up.Key, opts)
	if err != nil {
		return object.Entry{}, err
	}
	in, asks := p.joining(up, parts, opts)
	switch {
	case !g.Sends:
	case opts.Condition == place.IfAbsent:
		in.IfNoneMatch = aws.String("*")
	case opts.Condition == place.IfStill:
		in.IfMatch = aws.String(p.match(opts.Mark))
	}
	out, err := p.store.sdk.CompleteMultipartUpload(ctx, in)
	if err != nil {
		err = p.sdkError(ctx, "finish", up.Key, err)
		if adapted := p.adapt(err, append(asks, g.Asks()...)...); place.KindOf(adapted) == place.Otherwise {
			return object.Entry{}, adapted
		}
		return object.Entry{}, p.asExists(g.refused(ctx, err), opts)
	}
	e := object.Entry{Key: up.Key, Latest: true, ETag: strings.Trim(aws.ToString(out.ETag), `"`), Version: aws.ToString(out.VersionId)}
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
	if s, err := object.ParseSum(sumKind, aws.ToString(out.ChecksumCRC64NVME)); err == nil {
		if e.Sums = []object.Sum{s}; opts.Sum.Kind == sumKind && s != opts.Sum {
			return object.Entry{}, place.Damaged(p, "finish", &e, errors.New(s.String()+", expected "+opts.Sum.String()))
		}
	}
	if opts.Sum.Kind == sumKind {
		e.Sums = []object.Sum{opts.Sum}
	}
	if unverified && (in.ChecksumCRC64NVME == nil || !p.store.known.Does(place.JoinWhole)) {
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

// joining makes the request that joins parts, and tells what of it a store may not
// take.
func (p *Place) joining(up place.Upload, parts []place.Part, opts place.WriteOptions) (*s3.CompleteMultipartUploadInput, []place.Ask) {
	k, summed := p.store.known, p.joinsSummed()
	list := make([]types.CompletedPart, len(parts))
	var asks []place.Ask
	names := summed && !k.Lacks(place.JoinSums)
	for i, part := range parts {
		list[i] = types.CompletedPart{PartNumber: aws.Int32(int32(part.Number)), ETag: aws.String(quoted(part.ETag))}
		if names && part.Sum.Kind == sumKind {
			list[i].ChecksumCRC64NVME = aws.String(part.Sum.Base64())
		}
	}
	if names {
		asks = append(asks, place.JoinSums)
	}
	in := &s3.CompleteMultipartUploadInput{
		Bucket: &p.bucket, Key: aws.String(p.prefix + up.Key), UploadId: &up.ID,
		MultipartUpload: &types.CompletedMultipartUpload{Parts: list},
	}
	if summed {
		in.ChecksumType = types.ChecksumTypeFullObject
		asks = append(asks, place.JoinWhole)
		if opts.Sum.Kind == sumKind {
			in.ChecksumCRC64NVME = aws.String(opts.Sum.Base64())
		}
	}
	return in, asks
}

// Abort drops an upload (AbortMultipartUpload).
func (p *Place) Abort(ctx context.Context, up place.Upload) error {
	_, err := p.store.sdk.AbortMultipartUpload(ctx, &s3.AbortMultipartUploadInput{
		Bucket: &p.bucket, Key: aws.String(p.prefix + up.Key), UploadId: &up.ID,
	})
	if err = p.sdkError(ctx, "abort", up.Key, err); err != nil && place.KindOf(err) == place.NotFound {
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
	in := &s3.ListMultipartUploadsInput{Bucket: &p.bucket, Prefix: &prefix}
	for {
		out, err := p.store.sdk.ListMultipartUploads(ctx, in)
		if err != nil {
			return found, p.sdkError(ctx, "list uploads", "", err)
		}
		for _, u := range out.Uploads {
			found = append(found, place.Upload{
				Key: strings.TrimPrefix(aws.ToString(u.Key), p.prefix), ID: aws.ToString(u.UploadId), Begun: aws.ToTime(u.Initiated),
			})
		}
		if !aws.ToBool(out.IsTruncated) {
			return found, nil
		}
		in.KeyMarker, in.UploadIdMarker = out.NextKeyMarker, out.NextUploadIdMarker
	}
}
