package s3

import (
	"context"
	"iter"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/aws/aws-sdk-go-v2/service/s3/types"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/wire"
)

// Versions lists versions and delete markers (ListObjectVersions).
func (p *Place) Versions(ctx context.Context, prefix string, shallow bool) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		all := p.prefix + prefix
		in := &s3.ListObjectVersionsInput{Bucket: &p.bucket, Prefix: &all, EncodingType: types.EncodingTypeUrl}
		if shallow {
			in.Delimiter = aws.String("/")
		}
		var round wire.Round
		for {
			out, err := p.store.sdk.ListObjectVersions(ctx, in)
			if err != nil {
				yield(object.Entry{}, p.sdkError(ctx, "list versions", prefix, err))
				return
			}
			for _, e := range p.versionPage(out) {
				if err := e.Sane(); err != nil {
					yield(object.Entry{}, place.NewError(p.name, "list versions", prefix, place.ServerFault, err))
					return
				}
				if e.Key != "" && strings.HasPrefix(e.Key, prefix) && !yield(e, nil) {
					return
				}
			}
			if !aws.ToBool(out.IsTruncated) {
				return
			}
			// The markers come encoded like the keys, and must go back plain.
			key := plain(out, aws.ToString(out.NextKeyMarker))
			in.KeyMarker, in.VersionIdMarker = &key, out.NextVersionIdMarker
			if round.Again(key + "\x00" + aws.ToString(in.VersionIdMarker)) {
				yield(object.Entry{}, p.circles("list versions", prefix))
				return
			}
		}
	}
}

// plain undoes the encoding a listing was asked for, if it says that it has it.
func plain(out *s3.ListObjectVersionsOutput, key string) string {
	if s, err := url.QueryUnescape(key); err == nil && out.EncodingType == types.EncodingTypeUrl {
		return s
	}
	return key
}

// versionPage puts the two lists of an answer into one, each being in order.
func (p *Place) versionPage(out *s3.ListObjectVersionsOutput) []object.Entry {
	var versions, markers []object.Entry
	entry := func(key, id *string, latest *bool, when *time.Time) object.Entry {
		return object.Entry{Key: strings.TrimPrefix(plain(out, aws.ToString(key)), p.prefix),
			Version: aws.ToString(id), Latest: aws.ToBool(latest), Modified: aws.ToTime(when)}
	}
	for _, v := range out.Versions {
		e := entry(v.Key, v.VersionId, v.IsLatest, v.LastModified)
		e.Size, e.ETag, e.Class = aws.ToInt64(v.Size), strings.Trim(aws.ToString(v.ETag), `"`),
			class(string(v.StorageClass))
		versions = append(versions, e)
	}
	for _, m := range out.DeleteMarkers {
		e := entry(m.Key, m.VersionId, m.IsLatest, m.LastModified)
		e.Kind = object.Marker
		markers = append(markers, e)
	}
	for _, g := range out.CommonPrefixes {
		markers = append(markers, object.Entry{Key: strings.TrimPrefix(plain(out, aws.ToString(g.Prefix)), p.prefix),
			Kind: object.Prefix})
	}
	slices.SortStableFunc(markers, func(a, b object.Entry) int { return strings.Compare(a.Key, b.Key) })
	before := func(a, b object.Entry) bool {
		switch {
		case a.Key != b.Key:
			return a.Key < b.Key
		case a.Latest != b.Latest:
			return a.Latest
		}
		return a.Modified.After(b.Modified)
	}
	all := make([]object.Entry, 0, len(versions)+len(markers))
	for len(versions) > 0 && len(markers) > 0 {
		if before(markers[0], versions[0]) {
			all, markers = append(all, markers[0]), markers[1:]
		} else {
			all, versions = append(all, versions[0]), versions[1:]
		}
	}
	return append(append(all, versions...), markers...)
}

// Undelete removes the delete markers on top of the object's newest content.
func (p *Place) Undelete(ctx context.Context, key string) error {
	var tops []object.Ref
	for e, err := range p.Versions(ctx, key, false) {
		if err != nil {
			return err
		}
		if e.Key != key {
			break // longer keys sort behind
		}
		if e.Kind != object.Marker {
			for _, err := range p.Remove(ctx, tops...) {
				if err != nil {
					return err
				}
			}
			return nil
		}
		tops = append(tops, object.Ref{Key: key, Version: e.Version})
	}
	return place.NewError(p.name, "undelete", key, place.NotFound, nil)
}
