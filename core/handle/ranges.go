package handle

import (
	"context"
	"errors"

	"golang.org/x/sync/errgroup"

	"lumtra/core/object"
	"lumtra/core/place"
)

const (
	// rangeSize is how much of a large object is copied by one request, in bytes;
	// more where the target's limit on parts asks for it.
	rangeSize = 512 << 20
	// rangesAtOnce is how many such requests are under way.
	rangesAtOnce = 8
)

// copyRanges copies, inside a service, an object too large for one request: range
// by range, with its metadata and tags, and whole or not at all.
func copyRanges(ctx context.Context, from place.Place, ref object.Ref, target place.Place, key string,
	opts place.WriteOptions) (object.Entry, error) {
	none := object.Entry{}
	can := place.Can(target)
	c := can.Ranges
	if c == nil {
		return none, place.NewError(target.Name(), "copy", key, place.TooLarge,
			errors.New("it is copied in one request, and too large for that; put it into the tray and drop it"))
	}
	full, err := from.Stat(ctx, ref)
	if err != nil {
		return none, err
	}
	opts.Metadata, opts.ContentType, opts.ContentEncoding = full.Metadata, full.ContentType, full.ContentEncoding
	up, err := c.Begin(ctx, key, opts)
	if err != nil {
		return none, err
	}
	dropped := func(err error) (object.Entry, error) {
		// Also when ctx is what ended it: what is left costs money.
		return none, errors.Join(err, c.Abort(context.WithoutCancel(ctx), up))
	}
	size := min(rangeSize, can.MaxCopy)
	if can.MaxParts > 0 {
		size = max(size, (full.Size+int64(can.MaxParts)-1)/int64(can.MaxParts))
	}
	parts := make([]place.Part, (full.Size+size-1)/size)
	group, some := errgroup.WithContext(ctx)
	group.SetLimit(rangesAtOnce)
	for i := range parts {
		group.Go(func() (err error) {
			offset := int64(i) * size
			parts[i], err = c.CopyPart(some, up, i+1, from, object.Ref{Key: ref.Key, Version: ref.Version,
				IfMark: full.Mark()}, offset, min(size, full.Size-offset))
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return dropped(err)
	}
	there, err := c.Finish(ctx, up, parts, opts)
	if err != nil {
		return dropped(err)
	}
	tags := place.Can(from).Tags
	if tags == nil || can.Tags == nil {
		return there, nil
	}
	of, err := tags.Tags(ctx, ref)
	if err == nil && len(of) > 0 {
		err = can.Tags.SetTags(ctx, object.Ref{Key: key}, of)
	}
	return there, err
}
