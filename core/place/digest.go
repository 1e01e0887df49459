package place

import (
	"context"
	"encoding/hex"
	"maps"
	"strconv"
	"strings"

	"lumtra/core/object"
)

// DigestKeeper keeps a digest beside an object: SHA-256 or BLAKE3, which no
// store computes of a whole object that came in parts. It is kept together with
// the checksum of the content it is of, so that one which stayed behind when
// other content came under the key is told from a good one.
//
// A digest known before a write begins goes along in [WriteOptions.Digest]. The
// entry that the write returns has it among its Sums where it was kept; where it
// was not, as it came too late, KeepDigest adds it.
type DigestKeeper interface {
	// KeepDigest keeps digest beside the object, whose content has the checksum
	// of. It returns the object as it is then: where that is a change of
	// metadata, under another ETag. A place with no room for it answers
	// [Unsupported].
	KeepDigest(ctx context.Context, ref object.Ref, digest, of object.Sum) (object.Entry, error)
	// KeptDigest finds the digest of a kind that is kept for content with the
	// checksum of; zero when there is none.
	KeptDigest(ctx context.Context, ref object.Ref, kind object.SumKind, of object.Sum) (object.Sum, error)
}

// Digests are the kinds a [DigestKeeper] keeps.
var Digests = [...]object.SumKind{object.SHA256, object.BLAKE3}

// DigestTag is the tag, or name of metadata, under which a digest of the kind is
// kept where names may have hyphens.
func DigestTag(kind object.SumKind) string { return "lumtra-" + kind.String() }

// OwnTags splits tags into the owner's and those that keep digests.
func OwnTags(tags map[string]string) (own, digests map[string]string) {
	own, digests = map[string]string{}, map[string]string{}
	maps.Copy(own, tags)
	for _, kind := range Digests {
		if value, ok := tags[DigestTag(kind)]; ok {
			digests[DigestTag(kind)] = value
			delete(own, DigestTag(kind))
		}
	}
	return own, digests
}

// FormatDigest writes a digest and the checksum of its content as the value they
// are kept as: "digest/checksum", in hexadecimal.
func FormatDigest(digest, of object.Sum) string { return digest.Hex() + "/" + of.Hex() }

// ParseDigest reads a value that FormatDigest wrote. It gives the digest if it is
// of content with the [object.CRC64NVME] of, and zero if not.
func ParseDigest(value string, kind object.SumKind, of object.Sum) object.Sum {
	digest, crc, _ := strings.Cut(value, "/")
	raw, err := hex.DecodeString(digest)
	if err != nil || len(raw) != kind.Size() || of.Kind != object.CRC64NVME || crc != of.Hex() {
		return object.Sum{}
	}
	return object.Sum{Kind: kind, Value: string(raw)}
}

// FormatWrote writes a checksum and the size of its content as the value they are kept as beside an object:
// "checksum/size".
func FormatWrote(sum object.Sum, size int64) string {
	return sum.Hex() + "/" + strconv.FormatInt(size, 10)
}

// ParseWrote reads a value that FormatWrote wrote. It gives the [object.CRC64NVME] if it is of content of this size,
// and zero if not.
func ParseWrote(value string, size int64) object.Sum {
	sum, of, ok := strings.Cut(value, "/")
	raw, err := hex.DecodeString(sum)
	if n, bad := strconv.ParseInt(of, 10, 64); !ok || err != nil || len(raw) != object.CRC64NVME.Size() || bad != nil ||
		n != size {
		return object.Sum{}
	}
	return object.Sum{Kind: object.CRC64NVME, Value: string(raw)}
}
