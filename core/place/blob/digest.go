package blob

import (
	"context"

	"lumtra/core/object"
	"lumtra/core/place"
)

var _ place.DigestKeeper = (*Place)(nil)

// KeepDigest keeps the digest in the metadata (Set Blob Metadata).
func (p *Place) KeepDigest(ctx context.Context, ref object.Ref, digest, of object.Sum) (object.Entry, error) {
	return p.SetMetadata(ctx, ref,
		place.MetadataChange{Set: map[string]string{metaDigest(digest.Kind): place.FormatDigest(digest, of)}})
}

// KeptDigest looks at the metadata.
func (p *Place) KeptDigest(ctx context.Context, ref object.Ref, kind object.SumKind, of object.Sum) (object.Sum,
	error) {
	e, err := p.Stat(ctx, ref)
	return place.ParseDigest(e.Metadata[metaDigest(kind)], kind, of), err
}
