package blob

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/blob"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/blockblob"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/container"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/wire"
	"lumtra/core/room"
)

// The service has no uploads, only blocks of a blob to be. A block's ID says
// which upload it belongs to, its number, its checksum, and when it was made,
// so that of a number written twice the later counts:
//
//	upload (16) - number (6) - crc64nvme in hex (16) - nanoseconds in hex (16)

func newID() string { return rand.Text()[:16] }

func blockID(up place.Upload, number int, sum object.Sum) string {
	return base64.StdEncoding.EncodeToString(fmt.Appendf(nil, "%s-%06d-%s-%016x", up.ID, number, sum.Hex(),
		time.Now().UnixNano()))
}

// parseBlock reads a block's ID; the upload is "" for a block of others.
func parseBlock(id string) (upload, made string, part place.Part) {
	raw, err := base64.StdEncoding.DecodeString(id)
	fields := strings.Split(string(raw), "-")
	if err != nil || len(fields) != 4 || len(fields[0]) != 16 {
		return "", "", part
	}
	number, err1 := strconv.Atoi(fields[1])
	sum, err2 := hex.DecodeString(fields[2])
	if err1 != nil || err2 != nil || len(sum) != 8 {
		return "", "", part
	}
	return fields[0], fields[3],
		place.Part{Number: number, ETag: id, Sum: object.Sum{Kind: object.CRC64NVME, Value: string(sum)}}
}

// Begin names an upload; the service hears of it with the first block.
func (p *Place) Begin(ctx context.Context, key string, opts place.WriteOptions) (place.Upload, error) {
	if err := p.CheckName(key); err != nil {
		return place.Upload{}, err
	}
	return place.Upload{Key: key, ID: newID(), Begun: time.Now()}, nil
}

// WritePart stages one block (Put Block).
func (p *Place) WritePart(ctx context.Context, up place.Upload, number int, offset int64, body io.Reader, size int64,
	want object.Sum) (place.Part, error) {
	no := func(err error) (place.Part, error) { return place.Part{}, p.fail(ctx, "write part", up.Key, err) }
	held := room.New(size)
	defer held.Release()
	sum, err := p.take(up.Key, body, held.Data, want)
	if err != nil {
		return no(sourceError(ctx, err))
	}
	check, _ := p.check(held.Data, sum)
	id := blockID(up, number, sum)
	_, err = p.client.NewBlockBlobClient(p.prefix+up.Key).StageBlock(ctx, id, held.Reader(),
		&blockblob.StageBlockOptions{TransactionalValidation: check})
	if err != nil {
		return no(err)
	}
	return place.Part{Number: number, Size: size, ETag: id, Sum: sum}, nil
}

// Parts lists the upload's blocks (Get Block List, uncommitted). An upload
// without any is not known to the service.
func (p *Place) Parts(ctx context.Context, up place.Upload) ([]place.Part, error) {
	blocks, err := p.uncommitted(ctx, up.Key)
	if err != nil {
		return nil, err
	}
	newest := map[int]place.Part{}
	made := map[int]string{}
	for _, b := range blocks {
		upload, at, part := parseBlock(deref(b.Name))
		if part.Size = deref(b.Size); upload == up.ID && at > made[part.Number] {
			newest[part.Number], made[part.Number] = part, at
		}
	}
	if len(newest) == 0 {
		return nil, place.NewError(p.name, "list parts", up.Key, place.NotFound,
			errors.New("the upload has no parts, or is over"))
	}
	parts := make([]place.Part, 0, len(newest))
	for _, part := range newest {
		parts = append(parts, part)
	}
	slices.SortFunc(parts, func(a, b place.Part) int { return a.Number - b.Number })
	return parts, nil
}

func (p *Place) uncommitted(ctx context.Context, key string) ([]*blockblob.Block, error) {
	out, err := p.client.NewBlockBlobClient(p.prefix+key).GetBlockList(ctx, blockblob.BlockListTypeUncommitted, nil)
	if err != nil {
		return nil, p.fail(ctx, "list parts", key, err)
	}
	return out.UncommittedBlocks, nil
}

// Finish commits the blocks (Put Block List). The service knows each block's
// content; that together they are the whole is arithmetic on their checksums.
func (p *Place) Finish(ctx context.Context, up place.Upload, parts []place.Part,
	opts place.WriteOptions) (object.Entry, error) {
	ids := make([]string, len(parts))
	var size int64
	whole := object.SumOf(object.CRC64NVME, object.CRC64NVME.New())
	for i, part := range parts {
		ids[i] = part.ETag
		whole = object.CombineCRC64(whole, part.Sum, part.Size)
		size += part.Size
	}
	if opts.Sum.Kind == object.CRC64NVME && opts.Sum != whole {
		return object.Entry{}, place.NewError(p.name, "finish", up.Key, place.Corrupt,
			fmt.Errorf("%s, expected %s", whole, opts.Sum))
	}
	return p.guarded(ctx, "finish", up.Key, opts, whole, always, func(when *blob.AccessConditions) (object.Entry,
		error) {
		out, err := p.client.NewBlockBlobClient(p.prefix+up.Key).CommitBlockList(ctx, ids,
			&blockblob.CommitBlockListOptions{
				Metadata: metadata(opts, whole), HTTPHeaders: headers(opts, nil), Tier: tier(opts),
				AccessConditions: when,
			})
		return object.Entry{Key: up.Key, Size: size, ETag: mark(out.ETag), Modified: deref(out.LastModified),
			Version: deref(out.VersionID), Latest: true, Sums: kept(whole, opts)}, err
	})
}

// Abort drops the blocks. The service has no request for that but to write the
// blob: where none is there, an empty one is made and removed; where one is,
// it is left alone, and the service drops the blocks itself after a week.
func (p *Place) Abort(ctx context.Context, up place.Upload) error {
	if _, err := p.Parts(ctx, up); err != nil {
		if place.KindOf(err) == place.NotFound {
			return nil
		}
		return err
	}
	if !p.store.known.Does(place.JoinIfAbsent) {
		// The empty list below would empty a blob that is there, where the service
		// does not keep to the condition: the blocks go by themselves, after a week.
		return nil
	}
	// An empty list of blocks drops all that are not in it.
	e, err := p.Finish(ctx, up, nil, place.WriteOptions{Condition: place.IfAbsent})
	switch {
	case err != nil && place.KindOf(err) == place.Exists:
		return nil
	case err != nil:
		return err
	}
	err = p.Remove(ctx, object.Ref{Key: up.Key, IfMark: e.Mark()})[0]
	if err == nil && e.Version != "" { // an account that keeps versions has kept it
		err = p.Remove(ctx, object.Ref{Key: up.Key, Version: e.Version})[0]
	}
	return err
}

// Uploads finds blobs that have blocks and no content (List Blobs, with
// uncommitted ones). Blocks behind a blob that is there are not seen.
func (p *Place) Uploads(ctx context.Context) ([]place.Upload, error) {
	var found []place.Upload
	pager := p.client.NewListBlobsFlatPager(&container.ListBlobsFlatOptions{Prefix: &p.prefix,
		Include: container.ListBlobsInclude{UncommittedBlobs: true}})
	var round wire.Round
	for pager.More() {
		page, err := pager.NextPage(ctx)
		if err != nil {
			return found, p.fail(ctx, "list uploads", "", err)
		}
		if _, err := p.believed(nil, p.prefix, page.Segment != nil, deref(page.NextMarker), &round); err != nil {
			return found, err
		}
		for _, item := range page.Segment.BlobItems {
			if item == nil || item.Properties == nil || deref(item.Properties.ContentLength) != 0 {
				continue
			}
			key := strings.TrimPrefix(deref(item.Name), p.prefix)
			blocks, err := p.uncommitted(ctx, key)
			if err != nil {
				return found, err
			}
			seen := map[string]bool{}
			for _, b := range blocks {
				if id, _, _ := parseBlock(deref(b.Name)); id != "" && !seen[id] {
					seen[id] = true
					found = append(found, place.Upload{Key: key, ID: id, Begun: deref(item.Properties.LastModified)})
				}
			}
		}
	}
	return found, nil
}
