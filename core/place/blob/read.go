package blob

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/Azure/azure-sdk-for-go/sdk/azcore"
	"github.com/Azure/azure-sdk-for-go/sdk/azcore/policy"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/blob"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/container"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/wire"
)

// Metadata names under which what the service has no field for travels along.
// They must be identifiers, so no hyphens.
const (
	metaTime = "lumtra_mtime"
	metaMode = "lumtra_mode"
	metaSum  = "lumtra_crc64nvme"
)

// metaDigest is the name that a digest is kept under.
func metaDigest(kind object.SumKind) string { return "lumtra_" + kind.String() }

// List pages through the container (List Blobs). The API starts a listing at a
// name only in its newest versions, so what an older server gives from before
// opts.After is passed over.
func (p *Place) List(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		next := p.pages(prefix, opts, container.ListBlobsInclude{})
		for {
			entries, more, err := next(ctx)
			if err != nil {
				yield(object.Entry{}, p.fail(ctx, "list", prefix, err))
				return
			}
			for _, e := range entries {
				e.Key = strings.TrimPrefix(e.Key, p.prefix)
				if e.Key != "" && e.Key > opts.After && !yield(e, nil) {
					return
				}
			}
			if !more {
				return
			}
		}
	}
}

// download opens a blob's content (Get Blob). The SDK leaves the connection open, and
// lost, where it cannot make sense of what stands above the content.
func download(ctx context.Context, c *blob.Client, opts *blob.DownloadStreamOptions) (blob.DownloadStreamResponse,
	error) {
	var raw *http.Response
	out, err := c.DownloadStream(policy.WithCaptureResponse(ctx, &raw), opts)
	if err != nil && raw != nil {
		raw.Body.Close()
	}
	return out, err
}

// pages returns a function that fetches one page after the other.
func (p *Place) pages(prefix string, opts place.ListOptions,
	include container.ListBlobsInclude) func(context.Context) ([]object.Entry, bool, error) {
	all := p.prefix + prefix
	var round wire.Round
	var from *string
	if opts.After != "" {
		after := p.prefix + opts.After
		from = &after
	}
	if !opts.Shallow {
		pager := p.client.NewListBlobsFlatPager(&container.ListBlobsFlatOptions{Prefix: &all, StartFrom: from,
			Include: include})
		return func(ctx context.Context) (found []object.Entry, more bool, err error) {
			page, err := pager.NextPage(ctx)
			if err != nil {
				return nil, false, err
			}
			if page.Segment != nil {
				found = items(page.Segment.BlobItems)
			}
			found, err = p.believed(found, all, page.Segment != nil, deref(page.NextMarker), &round)
			return found, pager.More(), err
		}
	}
	pager := p.client.NewListBlobsHierarchyPager("/", &container.ListBlobsHierarchyOptions{Prefix: &all,
		StartFrom: from, Include: include})
	return func(ctx context.Context) ([]object.Entry, bool, error) {
		page, err := pager.NextPage(ctx)
		if err != nil {
			return nil, false, err
		}
		var blobs, groups []object.Entry
		if page.Segment != nil {
			blobs = items(page.Segment.BlobItems)
			for _, g := range page.Segment.BlobPrefixes {
				if g != nil {
					groups = append(groups, object.Entry{Key: deref(g.Name), Kind: object.Prefix})
				}
			}
		}
		found, err := p.believed(merged(blobs, groups), all, page.Segment != nil, deref(page.NextMarker), &round)
		return found, pager.More(), err
	}
}

func items(list []*container.BlobItem) []object.Entry {
	found := make([]object.Entry, 0, len(list))
	for _, item := range list {
		if item != nil {
			found = append(found, itemEntry(item))
		}
	}
	return found
}

// believed is what of a page can be taken at its word: a service that leaves out the
// list, goes round in circles, or names what no blob can be, is in error; what lies
// outside the prefix was not asked for.
func (p *Place) believed(found []object.Entry, all string, whole bool, next string,
	round *wire.Round) ([]object.Entry, error) {
	bad := func(what string) error {
		return place.NewError(p.name, "list", "", place.ServerFault, errors.New(what))
	}
	if !whole {
		return nil, bad("the listing holds no list of blobs")
	}
	if next != "" && round.Again(next) {
		return nil, bad("the service gives the same page again and again")
	}
	kept := found[:0]
	for _, e := range found {
		if err := e.Sane(); err != nil {
			return nil, bad(err.Error())
		}
		if strings.HasPrefix(e.Key, all) {
			kept = append(kept, e)
		}
	}
	return kept, nil
}

// merged puts two sorted lists into one.
func merged(a, b []object.Entry) []object.Entry {
	var out []object.Entry
	for len(a) > 0 && len(b) > 0 {
		if a[0].Key < b[0].Key {
			out, a = append(out, a[0]), a[1:]
		} else {
			out, b = append(out, b[0]), b[1:]
		}
	}
	return append(append(out, a...), b...)
}

func itemEntry(item *container.BlobItem) object.Entry {
	e := object.Entry{Key: deref(item.Name), Version: deref(item.VersionID), Removed: deref(item.Deleted)}
	e.Latest = deref(item.IsCurrentVersion) || e.Version == "" && deref(item.Snapshot) == ""
	if at := deref(item.Snapshot); at != "" {
		e.Version = snapshotMark + at
	}
	if pr := item.Properties; pr != nil {
		e.Size, e.Modified, e.ETag = deref(pr.ContentLength), deref(pr.LastModified), mark(pr.ETag)
		if pr.AccessTier != nil && !deref(pr.AccessTierInferred) {
			e.Class = string(*pr.AccessTier)
		}
		e.Archive = archive(string(deref(pr.AccessTier)), string(deref(pr.ArchiveStatus)))
		if len(pr.ContentMD5) > 0 {
			e.Sums = []object.Sum{{Kind: object.MD5, Value: string(pr.ContentMD5)}}
		}
	}
	return e
}

func mark(tag *azcore.ETag) string { return strings.Trim(string(deref(tag)), `"`) }

// Stat asks for a blob's facts (Get Blob Properties).
func (p *Place) Stat(ctx context.Context, ref object.Ref) (object.Entry, error) {
	c, err := p.blob(ref)
	if err != nil {
		return object.Entry{}, p.fail(ctx, "stat", ref.Key, err)
	}
	out, err := c.GetProperties(ctx, nil)
	if err == nil && ref.IfMark != "" && mark(out.ETag) != ref.IfMark {
		// Asked of the answer: not every server reads If-Match as another does.
		err = place.NewError(p.name, "stat", ref.Key, place.Changed, nil)
	}
	if err != nil {
		return object.Entry{}, p.fail(ctx, "stat", ref.Key, err)
	}
	e := object.Entry{Key: ref.Key, Size: deref(out.ContentLength), Modified: deref(out.LastModified),
		ETag: mark(out.ETag), Version: deref(out.VersionID),
		ContentType: deref(out.ContentType), ContentEncoding: deref(out.ContentEncoding), Latest: true}
	if out.AccessTier != nil && !deref(out.AccessTierInferred) {
		e.Class = *out.AccessTier
	}
	e.Archive = archive(deref(out.AccessTier), deref(out.ArchiveStatus))
	p.describe(&e, out.Metadata, out.ContentMD5)
	if out.ContentLength == nil {
		e.Size = -1 // the store does not say
	}
	if err := e.Sane(); err != nil {
		return object.Entry{}, place.NewError(p.name, "stat", ref.Key, place.ServerFault, err)
	}
	return e, nil
}

// describe reads what a blob's metadata say, and its checksums. A checksum among them counts where metadata go with
// the content that is overwritten.
func (p *Place) describe(e *object.Entry, metadata map[string]*string, md5 []byte) {
	for name, value := range metadata {
		if e.Metadata == nil {
			e.Metadata = map[string]string{}
		}
		e.Metadata[strings.ToLower(name)] = deref(value)
	}
	if when, err := time.Parse(time.RFC3339Nano, e.Metadata[metaTime]); err == nil {
		e.Original = when
	}
	if mode, err := strconv.ParseUint(e.Metadata[metaMode], 8, 9); err == nil {
		e.Mode = object.ModeOf(uint32(mode))
	}
	if raw, err := hex.DecodeString(e.Metadata[metaSum]); err == nil && len(raw) == 8 &&
		!p.store.known.Lacks(place.MetaReplaced) {
		e.Sums = append(e.Sums, object.Sum{Kind: object.CRC64NVME, Value: string(raw)})
	}
	crc, _ := e.Sum(object.CRC64NVME)
	for _, kind := range place.Digests {
		if d := place.ParseDigest(e.Metadata[metaDigest(kind)], kind, crc); d.Kind != object.NoSum {
			e.Sums = append(e.Sums, d)
		}
	}
	if s, err := object.ParseSum(object.MD5, base64.StdEncoding.EncodeToString(md5)); err == nil {
		e.Sums = append(e.Sums, s)
	}
}

// Read opens a blob or a range of it (Get Blob). A whole one is held against
// the checksum kept with it as it passes.
func (p *Place) Read(ctx context.Context, key string, opts place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	no := func(err error) (io.ReadCloser, object.Entry, error) {
		return nil, object.Entry{}, p.fail(ctx, "read", key, err)
	}
	c, err := p.blob(object.Ref{Key: key, Version: opts.Version})
	if err != nil {
		return no(err)
	}
	ranged := opts.Offset > 0 || opts.Length > 0
	out, err := download(ctx, c,
		&blob.DownloadStreamOptions{Range: blob.HTTPRange{Offset: opts.Offset, Count: opts.Length}})
	if err != nil {
		return no(err)
	}
	if opts.IfMark != "" && mark(out.ETag) != opts.IfMark {
		out.Body.Close()
		return no(place.NewError(p.name, "read", key, place.Changed, nil))
	}
	e := object.Entry{Key: key, Size: deref(out.ContentLength), Modified: deref(out.LastModified),
		ETag: mark(out.ETag), Version: deref(out.VersionID),
		ContentType: deref(out.ContentType), ContentEncoding: deref(out.ContentEncoding), Latest: true}
	md5 := out.ContentMD5
	if ranged {
		md5 = out.BlobContentMD5
		_, total, _ := strings.Cut(deref(out.ContentRange), "/")
		if total == "" { // the whole
			p.describe(&e, out.Metadata, out.ContentMD5)
			p.store.known.Learn(place.ReadRange, place.Ignored)
			body := &wire.Body{Place: p.name, Key: key,
				Fail: func(err error) error { return p.fail(ctx, "read", key, err) }}
			r, err := wire.Cut(body.Check(out.Body, deref(out.ContentLength), object.Sum{}), opts.Offset, opts.Length)
			return r, e, p.fail(ctx, "read", key, err)
		}
		if e.Size, err = strconv.ParseInt(total, 10, 64); err != nil {
			out.Body.Close()
			return no(place.NewError(p.name, "read", key, place.Unsupported,
				fmt.Errorf("the store does not serve ranges")))
		}
	}
	p.describe(&e, out.Metadata, md5)
	var want object.Sum
	if !ranged && len(e.Sums) > 0 {
		want = e.Sums[0]
	}
	e.Unverified = !ranged && want.Kind == object.NoSum
	body := &wire.Body{Place: p.name, Key: key, Fail: func(err error) error { return p.fail(ctx, "read", key, err) }}
	return body.Check(out.Body, deref(out.ContentLength), want), e, nil
}
