package s3

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
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
		e := place.NewError(name, op, key, errorKind(status, api.ErrorCode()), errors.New(api.ErrorMessage()))
		e.Code = api.ErrorCode()
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
	return place.NewError(name, op, key, kind, err)
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
	if len(batch) == 1 {
		errs[batch[0]] = p.removeOne(ctx, refs[batch[0]])
	} else if len(batch) > 1 {
		p.removeBatch(ctx, refs, batch, errs)
	}
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

func (p *Place) removeBatch(ctx context.Context, refs []object.Ref, batch []int, errs []error) {
	ids := make([]types.ObjectIdentifier, len(batch))
	at := make(map[[2]string]int, len(batch))
	for n, i := range batch {
		ids[n].Key = aws.String(p.prefix + refs[i].Key)
		if refs[i].Version != "" {
			ids[n].VersionId = aws.String(refs[i].Version)
		}
		at[[2]string{*ids[n].Key, refs[i].Version}] = i
	}
	out, err := p.store.sdk.DeleteObjects(ctx, &s3.DeleteObjectsInput{
		Bucket:            &p.bucket,
		ChecksumAlgorithm: types.ChecksumAlgorithmCrc32,
		Delete:            &types.Delete{Objects: ids, Quiet: aws.Bool(true)},
	})
	if err != nil {
		for _, i := range batch {
			errs[i] = p.sdkError(ctx, "remove", refs[i].Key, err)
		}
		return
	}
	for _, bad := range out.Errors {
		if i, ok := at[[2]string{aws.ToString(bad.Key), aws.ToString(bad.VersionId)}]; ok && aws.ToString(bad.Code) != "NoSuchKey" {
			code := aws.ToString(bad.Code)
			kind := errorKind(0, code)
			if code == "AccessDenied" {
				kind = place.Denied
			}
			e := place.NewError(p.name, "remove", refs[i].Key, kind, errors.New(aws.ToString(bad.Message)))
			e.Code = code
			errs[i] = e
		}
	}
}

// CanCopyFrom tells whether from is a place in the same account of the same store.
func (p *Place) CanCopyFrom(from place.Place) bool {
	src, ok := from.(*Place)
	return ok && (src.store == p.store || src.store.base == p.store.base && src.store.cfg.AccessKey != "" && src.store.cfg.AccessKey == p.store.cfg.AccessKey)
}

// copySource names an object as the source of a copy.
func (p *Place) copySource(src object.Ref) string {
	source := escapePath("/" + p.bucket + "/" + p.prefix + src.Key)
	if src.Version != "" {
		source += "?versionId=" + src.Version
	}
	return source
}

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
		in.CopySourceIfMatch = aws.String(quoted(src.IfMark))
	}
	out, err := p.store.sdk.UploadPartCopy(ctx, in)
	if err != nil {
		return place.Part{}, p.sdkError(ctx, "copy part", up.Key, err)
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
	source := other.copySource(src)
	in := &s3.CopyObjectInput{
		Bucket: &p.bucket, Key: aws.String(p.prefix + key), CopySource: &source,
		ChecksumAlgorithm: types.ChecksumAlgorithmCrc64nvme,
		StorageClass:      types.StorageClass(opts.Class),
	}
	if src.IfMark != "" {
		in.CopySourceIfMatch = aws.String(quoted(src.IfMark))
	}
	switch opts.Condition {
	case place.IfAbsent:
		in.IfNoneMatch = aws.String("*")
	case place.IfStill:
		in.IfMatch = aws.String(quoted(opts.Mark))
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
		if opts.Condition == place.IfAbsent && place.KindOf(err) == place.Changed {
			err.(*place.Error).Kind = place.Exists
		}
		return object.Entry{}, err
	}
	e := object.Entry{Key: key, Latest: true, Version: aws.ToString(out.VersionId), Class: opts.Class}
	if r := out.CopyObjectResult; r != nil {
		e.ETag, e.Modified = strings.Trim(aws.ToString(r.ETag), `"`), aws.ToTime(r.LastModified)
		if s, err := object.ParseSum(sumKind, aws.ToString(r.ChecksumCRC64NVME)); err == nil {
			e.Sums = []object.Sum{s}
		}
	}
	return e, nil
}

// Begin opens a multipart upload with a whole-object CRC-64/NVME (CreateMultipartUpload).
func (p *Place) Begin(ctx context.Context, key string, opts place.WriteOptions) (place.Upload, error) {
	if err := p.CheckName(key); err != nil {
		return place.Upload{}, err
	}
	in := &s3.CreateMultipartUploadInput{
		Bucket: &p.bucket, Key: aws.String(p.prefix + key),
		ChecksumAlgorithm: types.ChecksumAlgorithmCrc64nvme, ChecksumType: types.ChecksumTypeFullObject,
		Metadata: metadata(opts), StorageClass: types.StorageClass(opts.Class),
	}
	if opts.ContentType != "" {
		in.ContentType = &opts.ContentType
	}
	in.ContentEncoding = optional(opts.ContentEncoding)
	out, err := p.store.sdk.CreateMultipartUpload(ctx, in)
	if err != nil {
		return place.Upload{}, p.sdkError(ctx, "begin", key, err)
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
// holds the whole object against it.
func (p *Place) Finish(ctx context.Context, up place.Upload, parts []place.Part, opts place.WriteOptions) (object.Entry, error) {
	list := make([]types.CompletedPart, len(parts))
	var size int64
	for i, part := range parts {
		list[i] = types.CompletedPart{PartNumber: aws.Int32(int32(part.Number)), ETag: aws.String(quoted(part.ETag))}
		if part.Sum.Kind == sumKind {
			list[i].ChecksumCRC64NVME = aws.String(part.Sum.Base64())
		}
		size += part.Size
	}
	in := &s3.CompleteMultipartUploadInput{
		Bucket: &p.bucket, Key: aws.String(p.prefix + up.Key), UploadId: &up.ID,
		MultipartUpload: &types.CompletedMultipartUpload{Parts: list},
		ChecksumType:    types.ChecksumTypeFullObject,
	}
	if opts.Sum.Kind == sumKind {
		in.ChecksumCRC64NVME = aws.String(opts.Sum.Base64())
	}
	switch opts.Condition {
	case place.IfAbsent:
		in.IfNoneMatch = aws.String("*")
	case place.IfStill:
		in.IfMatch = aws.String(quoted(opts.Mark))
	}
	out, err := p.store.sdk.CompleteMultipartUpload(ctx, in)
	if err != nil {
		err = p.sdkError(ctx, "finish", up.Key, err)
		if opts.Condition == place.IfAbsent && place.KindOf(err) == place.Changed {
			err.(*place.Error).Kind = place.Exists
		}
		return object.Entry{}, err
	}
	e := object.Entry{Key: up.Key, Size: size, Latest: true, ETag: strings.Trim(aws.ToString(out.ETag), `"`), Version: aws.ToString(out.VersionId)}
	if s, err := object.ParseSum(sumKind, aws.ToString(out.ChecksumCRC64NVME)); err == nil {
		e.Sums = []object.Sum{s}
		if opts.Sum.Kind == sumKind && s != opts.Sum {
			return e, place.NewError(p.name, "finish", up.Key, place.Corrupt, errors.New(s.String()+", expected "+opts.Sum.String()))
		}
	}
	return e, nil
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
func (p *Place) Uploads(ctx context.Context) ([]place.Upload, error) {
	var found []place.Upload
	in := &s3.ListMultipartUploadsInput{Bucket: &p.bucket, Prefix: &p.prefix}
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
