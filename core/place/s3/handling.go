package s3

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/aws/aws-sdk-go-v2/service/s3/types"

	"lumtra/core/object"
	"lumtra/core/place"
)

var (
	_ place.Versioned      = (*Place)(nil)
	_ place.Tagger         = (*Place)(nil)
	_ place.MetadataWriter = (*Place)(nil)
	_ place.Linker         = (*Place)(nil)
	_ place.Restorer       = (*Place)(nil)
	_ place.FolderMaker    = (*Place)(nil)
	_ place.Limited        = (*Place)(nil)
)

// Without tells that links need credentials to sign with.
func (p *Place) Without() map[place.Skill]string {
	var without map[place.Skill]string
	if p.store.cfg.AccessKey == "" && p.store.cfg.Credentials == nil {
		without = map[place.Skill]string{place.Links: "without credentials there is nothing to sign a link with"}
	}
	if is := p.store.known.Of(place.CopyWhole); p.store.known.Lacks(place.CopyWhole) {
		if without == nil {
			without = map[place.Skill]string{}
		}
		without[place.Metadata] = "they are changed by a copy inside the store, and copies are " + string(is) + " by it"
	}
	return without
}

func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// Tags reads an object's tags (GetObjectTagging).
func (p *Place) Tags(ctx context.Context, ref object.Ref) (map[string]string, error) {
	out, err := p.store.sdk.GetObjectTagging(ctx, &s3.GetObjectTaggingInput{Bucket: &p.bucket,
		Key: aws.String(p.prefix + ref.Key), VersionId: optional(ref.Version)})
	if err != nil {
		return nil, p.sdkError(ctx, "read tags", ref.Key, err)
	}
	tags := map[string]string{}
	for _, t := range out.TagSet {
		tags[aws.ToString(t.Key)] = aws.ToString(t.Value)
	}
	return tags, nil
}

// SetTags replaces an object's tags (PutObjectTagging, DeleteObjectTagging).
func (p *Place) SetTags(ctx context.Context, ref object.Ref, tags map[string]string) error {
	key := p.prefix + ref.Key
	if len(tags) == 0 {
		_, err := p.store.sdk.DeleteObjectTagging(ctx, &s3.DeleteObjectTaggingInput{Bucket: &p.bucket, Key: &key,
			VersionId: optional(ref.Version)})
		return p.sdkError(ctx, "set tags", ref.Key, err)
	}
	type tag struct{ Key, Value string }
	doc := struct {
		XMLName xml.Name `xml:"http://s3.amazonaws.com/doc/2006-03-01/ Tagging"`
		Tag     []tag    `xml:"TagSet>Tag"`
	}{}
	for _, name := range slices.Sorted(maps.Keys(tags)) {
		doc.Tag = append(doc.Tag, tag{name, tags[name]})
	}
	query := url.Values{"tagging": {""}}
	if ref.Version != "" {
		query.Set("versionId", ref.Version)
	}
	return p.tell(ctx, request{method: http.MethodPut, op: "set tags", key: ref.Key, query: query}, doc)
}

// SetMetadata copies the object onto itself with other metadata, the one way
// the API has (CopyObject, "Working with object metadata"). Where versions are
// kept this makes a new one. Tags, class, headers and encryption stay; an
// access list of the object's own does not, as the API copies none.
func (p *Place) SetMetadata(ctx context.Context, ref object.Ref, change place.MetadataChange) (object.Entry, error) {
	no := func(err error) (object.Entry, error) {
		return object.Entry{}, p.sdkError(ctx, "set metadata", ref.Key, err)
	}
	key := p.prefix + ref.Key
	head, err := p.store.sdk.HeadObject(ctx, &s3.HeadObjectInput{Bucket: &p.bucket, Key: &key})
	if err != nil {
		return no(err)
	}
	switch {
	case ref.IfMark != "" && strings.Trim(aws.ToString(head.ETag), `"`) != ref.IfMark && !p.listedAs(ctx,
		&object.Entry{Key: ref.Key, Size: aws.ToInt64(head.ContentLength)}, ref.IfMark):
		return object.Entry{}, place.NewError(p.name, "set metadata", ref.Key, place.Changed, nil)
	case aws.ToInt64(head.ContentLength) > maxWhole:
		return object.Entry{}, place.NewError(p.name, "set metadata", ref.Key, place.TooLarge,
			errors.New("the API copies up to 5 GiB at once"))
	}
	source := escapePath("/" + p.bucket + "/" + key)
	if change.Class == "" {
		change.Class = string(head.StorageClass)
	}
	in := &s3.CopyObjectInput{Bucket: &p.bucket, Key: &key, CopySource: &source,
		CopySourceIfMatch: p.sourceMatch(strings.Trim(aws.ToString(head.ETag), `"`)),
		MetadataDirective: types.MetadataDirectiveReplace, Metadata: travelling(change, change.Apply(head.Metadata)),
		StorageClass: types.StorageClass(change.Class),
		ContentType:  head.ContentType, CacheControl: head.CacheControl, ContentDisposition: head.ContentDisposition,
		ContentEncoding: head.ContentEncoding, ContentLanguage: head.ContentLanguage}
	if !p.store.known.Lacks(place.SumAhead) {
		in.ChecksumAlgorithm = types.ChecksumAlgorithmCrc64nvme
	}
	in.ServerSideEncryption, in.SSEKMSKeyId, in.BucketKeyEnabled = head.ServerSideEncryption, head.SSEKMSKeyId,
		head.BucketKeyEnabled
	in.WebsiteRedirectLocation = head.WebsiteRedirectLocation
	if expires, err := http.ParseTime(aws.ToString(head.ExpiresString)); err == nil {
		in.Expires = &expires
	}
	if change.ContentType != "" {
		in.ContentType = &change.ContentType
	}
	if _, err = p.store.sdk.CopyObject(ctx, in); err != nil {
		return no(err)
	}
	e, err := p.Stat(ctx, object.Ref{Key: ref.Key})
	if err == nil {
		err = p.marked(ctx, &e)
	}
	return e, err
}

// travelling adds the original time and permissions to what is set.
func travelling(c place.MetadataChange, m map[string]string) map[string]string {
	for name, value := range metadata(place.WriteOptions{Original: c.Original, Mode: c.Mode}) {
		m[name] = value
	}
	return m
}

// longestLink is the longest a signature of this kind is good for (API
// Reference, "Authenticating Requests: Using Query Parameters").
const longestLink = 7 * 24 * time.Hour

// Link signs an address for reading one object.
func (p *Place) Link(ctx context.Context, ref object.Ref, valid time.Duration) (string, error) {
	if valid < time.Second || valid > longestLink {
		return "", place.NewError(p.name, "link", ref.Key, place.Unsupported,
			fmt.Errorf("a link is good for a second up to %d days", int(longestLink.Hours()/24)))
	}
	if why := p.Without()[place.Links]; why != "" {
		return "", place.NewError(p.name, "link", ref.Key, place.Unsupported, errors.New(why))
	}
	query := url.Values{"X-Amz-Expires": {strconv.Itoa(int(valid.Seconds()))}}
	if ref.Version != "" {
		query.Set("versionId", ref.Version)
	}
	req := p.address(ctx, request{method: http.MethodGet, key: ref.Key, query: query})
	creds, err := p.store.credentials(ctx)
	if err != nil {
		return "", p.fail("link", ref.Key, err)
	}
	signed, _, err := p.store.signer.PresignHTTP(ctx, creds, req, unsignedPayload, "s3", p.store.cfg.Region,
		time.Now().UTC())
	return signed, p.fail("link", ref.Key, err)
}

// RestoreTiers are those of GlacierJobParameters.
func (p *Place) RestoreTiers() []string {
	return []string{string(types.TierStandard), string(types.TierBulk), string(types.TierExpedited)}
}

// Restore asks for a readable copy (RestoreObject).
func (p *Place) Restore(ctx context.Context, ref object.Ref, opts place.RestoreOptions) error {
	asked := &types.RestoreRequest{Days: aws.Int32(int32(opts.Days))}
	if opts.Tier != "" {
		asked.GlacierJobParameters = &types.GlacierJobParameters{Tier: types.Tier(opts.Tier)}
	}
	_, err := p.store.sdk.RestoreObject(ctx,
		&s3.RestoreObjectInput{Bucket: &p.bucket, Key: aws.String(p.prefix + ref.Key), VersionId: optional(ref.Version),
			ChecksumAlgorithm: types.ChecksumAlgorithmCrc32, RestoreRequest: asked})
	err = p.sdkError(ctx, "restore", ref.Key, err)
	if codeOf(err) == "RestoreAlreadyInProgress" {
		return nil
	}
	return err
}

// archive reads the state of a cold object from its headers (HeadObject,
// x-amz-restore and x-amz-archive-status).
func archive(e *object.Entry, h http.Header) {
	restore := h.Get("X-Amz-Restore")
	switch {
	case strings.Contains(restore, `ongoing-request="true"`):
		e.Archive = object.Restoring
	case restore != "":
		e.Archive = object.Restored
		if _, rest, ok := strings.Cut(restore, `expiry-date="`); ok {
			until, _, _ := strings.Cut(rest, `"`)
			e.RestoredUntil, _ = http.ParseTime(until)
		}
	case e.Class == "GLACIER", e.Class == "DEEP_ARCHIVE", h.Get("X-Amz-Archive-Status") != "":
		e.Archive = object.Archived
	}
}

// MakeFolder writes an empty object whose key ends in "/", which other programs
// show as a folder.
func (p *Place) MakeFolder(ctx context.Context, key string) error {
	_, err := p.Write(ctx, key, strings.NewReader(""), 0, place.WriteOptions{Condition: place.IfAbsent})
	return err
}

// RemoveFolder removes what MakeFolder wrote.
func (p *Place) RemoveFolder(ctx context.Context, key string) error {
	return p.Remove(ctx, object.Ref{Key: key})[0]
}
