package s3

import (
	"context"
	"errors"

	"lumtra/core/object"
	"lumtra/core/place"
)

var _ place.DigestKeeper = (*Place)(nil)

// mostTags is how many tags an object can have ("Categorizing your storage using
// tags").
const mostTags = 10

// KeepDigest keeps the digest as a tag: the metadata of an object that came in
// parts were fixed before its first byte, and a tag changes neither content nor
// version.
func (p *Place) KeepDigest(ctx context.Context, ref object.Ref, digest, of object.Sum) (object.Entry, error) {
	tags, err := p.Tags(ctx, ref)
	if err != nil {
		return object.Entry{}, err
	}
	name := place.DigestTag(digest.Kind)
	if tags[name] = place.FormatDigest(digest, of); len(tags) > mostTags {
		return object.Entry{}, place.NewError(p.name, "keep digest", ref.Key, place.Unsupported,
			errors.New("it has all the tags it can have"))
	}
	if err := p.SetTags(ctx, ref, tags); err != nil {
		return object.Entry{}, err
	}
	return object.Entry{Key: ref.Key, ETag: ref.IfMark, Sums: []object.Sum{of, digest}}, nil
}

// KeptDigest looks at the metadata, then at the tags.
func (p *Place) KeptDigest(ctx context.Context, ref object.Ref, kind object.SumKind, of object.Sum) (object.Sum,
	error) {
	e, err := p.Stat(ctx, ref)
	if err != nil {
		return object.Sum{}, err
	}
	if d := place.ParseDigest(e.Metadata[place.DigestTag(kind)], kind, of); d.Kind != object.NoSum {
		return d, nil
	}
	tags, err := p.Tags(ctx, ref)
	if place.KindOf(err) == place.Unsupported || place.KindOf(err) == place.Denied {
		return object.Sum{}, nil
	}
	return place.ParseDigest(tags[place.DigestTag(kind)], kind, of), err
}
