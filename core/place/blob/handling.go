package blob

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/Azure/azure-sdk-for-go/sdk/azcore"
	"github.com/Azure/azure-sdk-for-go/sdk/azcore/to"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/blob"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/sas"

	"lumtra/core/object"
	"lumtra/core/place"
)

var (
	_ place.Versioned      = (*Place)(nil)
	_ place.Tagger         = (*Place)(nil)
	_ place.MetadataWriter = (*Place)(nil)
	_ place.Linker         = (*Place)(nil)
	_ place.Restorer       = (*Place)(nil)
	_ place.Limited        = (*Place)(nil)
)

// Without tells that links are signed with an account's key and nothing else.
func (p *Place) Without() map[place.Skill]string {
	if p.store.cfg.Key.Empty() {
		return map[place.Skill]string{place.Links: "links are signed with the account's key, which these " +
			"credentials are not"}
	}
	return nil
}

// version tells the SDK which state is meant: a version, or a snapshot.
func version(ref object.Ref) (versionID, snapshot *string) {
	if at, ok := strings.CutPrefix(ref.Version, snapshotMark); ok {
		return nil, &at
	}
	if ref.Version != "" {
		return &ref.Version, nil
	}
	return nil, nil
}

// Tags reads a blob's tags (Get Blob Tags).
func (p *Place) Tags(ctx context.Context, ref object.Ref) (map[string]string, error) {
	opts := &blob.GetTagsOptions{}
	opts.VersionID, opts.Snapshot = version(ref)
	out, err := p.client.NewBlobClient(p.prefix+ref.Key).GetTags(ctx, opts)
	if err != nil {
		return nil, p.fail(ctx, "read tags", ref.Key, err)
	}
	tags := map[string]string{}
	for _, t := range out.BlobTagSet {
		tags[deref(t.Key)] = deref(t.Value)
	}
	return tags, nil
}

// SetTags replaces a blob's tags (Set Blob Tags).
func (p *Place) SetTags(ctx context.Context, ref object.Ref, tags map[string]string) error {
	opts := &blob.SetTagsOptions{}
	opts.VersionID, _ = version(ref)
	_, err := p.client.NewBlobClient(p.prefix+ref.Key).SetTags(ctx, tags, opts)
	return p.fail(ctx, "set tags", ref.Key, err)
}

// SetMetadata changes metadata and media type (Set Blob Metadata, Set Blob
// Properties, Set Blob Tier). They are several requests; each but the last
// holds only on the state before it.
func (p *Place) SetMetadata(ctx context.Context, ref object.Ref, change place.MetadataChange) (object.Entry, error) {
	no := func(err error) (object.Entry, error) {
		return object.Entry{}, p.fail(ctx, "set metadata", ref.Key, err)
	}
	c := p.client.NewBlobClient(p.prefix + ref.Key)
	now, err := c.GetProperties(ctx, nil)
	if err == nil && ref.IfMark != "" && mark(now.ETag) != ref.IfMark {
		err = place.NewError(p.name, "set metadata", ref.Key, place.Changed, nil)
	}
	if err != nil {
		return no(err)
	}
	old := map[string]string{}
	for name, value := range now.Metadata {
		old[strings.ToLower(name)] = deref(value)
	}
	named := change
	named.Set = map[string]string{}
	for name, value := range change.Set {
		named.Set[strings.ToLower(identifier(name))] = value
	}
	meta := map[string]*string{}
	for name, value := range named.Apply(old) {
		meta[name] = &value
	}
	for name, value := range metadata(place.WriteOptions{Original: change.Original, Mode: change.Mode}, object.Sum{}) {
		meta[name] = value
	}
	out, err := c.SetMetadata(ctx, meta, &blob.SetMetadataOptions{AccessConditions: ifMark(mark(now.ETag))})
	if err != nil {
		return no(err)
	}
	if change.ContentType != "" {
		headers := blob.HTTPHeaders{BlobContentType: &change.ContentType, BlobCacheControl: now.CacheControl,
			BlobContentDisposition: now.ContentDisposition,
			BlobContentEncoding:    now.ContentEncoding, BlobContentLanguage: now.ContentLanguage,
			BlobContentMD5: now.ContentMD5}
		if _, err := c.SetHTTPHeaders(ctx, headers,
			&blob.SetHTTPHeadersOptions{AccessConditions: ifMark(mark(out.ETag))}); err != nil {
			return no(err)
		}
	}
	if change.Class != "" { // last: what is archived can no longer be changed
		if _, err := c.SetTier(ctx, blob.AccessTier(change.Class), nil); err != nil {
			return no(err)
		}
	}
	return p.Stat(ctx, object.Ref{Key: ref.Key})
}

// Link signs an address for reading one blob ("Create a service SAS").
func (p *Place) Link(ctx context.Context, ref object.Ref, valid time.Duration) (string, error) {
	no := func(err error) (string, error) {
		return "", place.NewError(p.name, "link", ref.Key, place.Unsupported, err)
	}
	if why := p.Without()[place.Links]; why != "" {
		return no(errors.New(why))
	}
	if valid < time.Second {
		return no(errors.New("a link is good for a second at least"))
	}
	c, err := p.blob(ref)
	if err != nil {
		return no(err)
	}
	key, err := blob.NewSharedKeyCredential(p.store.cfg.Account, p.store.cfg.Key.Reveal())
	if err != nil {
		return no(errors.New("the account key is not valid base64"))
	}
	values := sas.BlobSignatureValues{ContainerName: p.bucket, BlobName: p.prefix + ref.Key, Version: linkVersion,
		Permissions: (&sas.BlobPermissions{Read: true}).String(), ExpiryTime: time.Now().Add(valid).UTC()}
	if versionID, snapshot := version(ref); snapshot != nil {
		values.SnapshotTime, err = time.Parse(time.RFC3339Nano, *snapshot)
	} else if versionID != nil {
		values.BlobVersion = *versionID
		values.SnapshotTime, err = time.Parse(time.RFC3339Nano, *versionID)
	}
	if err != nil {
		return no(errors.New("this version's name is no time"))
	}
	query, err := values.SignWithSharedKey(key)
	if err != nil {
		return no(err)
	}
	address, rest, more := strings.Cut(c.URL(), "?")
	if more {
		rest = "&" + rest
	}
	return address + "?" + query.Encode() + rest, nil
}

// linkVersion is the version of the rules a link is signed by: one that every
// server of the last years knows.
const linkVersion = "2020-12-06"

// RestoreTiers are the priorities of rehydrating (Set Blob Tier, x-ms-rehydrate-priority).
func (p *Place) RestoreTiers() []string {
	return []string{string(blob.RehydratePriorityStandard), string(blob.RehydratePriorityHigh)}
}

// Restore asks for a blob in the archive tier to be made readable (Set Blob
// Tier). It then stays in the "Hot" tier, so days do not matter.
func (p *Place) Restore(ctx context.Context, ref object.Ref, opts place.RestoreOptions) error {
	c, err := p.blob(ref)
	if err == nil {
		var how blob.SetTierOptions
		if opts.Tier != "" {
			how.RehydratePriority = to.Ptr(blob.RehydratePriority(opts.Tier))
		}
		_, err = c.SetTier(ctx, blob.AccessTierHot, &how)
	}
	var refused *azcore.ResponseError
	if errors.As(err, &refused) && refused.StatusCode == http.StatusConflict &&
		refused.ErrorCode == "BlobBeingRehydrated" {
		return nil
	}
	return p.fail(ctx, "restore", ref.Key, err)
}

// archive tells whether a blob of this tier can be read now.
func archive(tier, status string) object.Archive {
	switch {
	case status != "":
		return object.Restoring
	case tier == string(blob.AccessTierArchive):
		return object.Archived
	}
	return object.Online
}
