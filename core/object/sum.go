package object

import (
	"crypto/md5"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"hash"
	"hash/crc32"

	"github.com/minio/crc64nvme"
	"github.com/zeebo/blake3"
)

// SumKind names a way to sum up content.
type SumKind uint8

// The kinds of checksum Lumtra can compute.
const (
	NoSum SumKind = iota
	// CRC64NVME is the CRC-64 of the NVM Express specification: the fastest
	// here, and the one S3-API stores keep for a whole object even when it
	// came in parts.
	CRC64NVME
	CRC32C // Castagnoli, RFC 3720
	MD5    // RFC 1321
	SHA256 // FIPS 180-4
	BLAKE3
)

var sumNames = [...]string{"none", "crc64nvme", "crc32c", "md5", "sha256", "blake3"}

// String is the kind's name in lower case, as files and options write it.
func (k SumKind) String() string {
	if int(k) < len(sumNames) {
		return sumNames[k]
	}
	return fmt.Sprintf("sum kind %d", uint8(k))
}

// ParseSumKind reads a name that [SumKind.String] wrote.
func ParseSumKind(name string) (SumKind, error) {
	for i, n := range sumNames {
		if n == name {
			return SumKind(i), nil
		}
	}
	return NoSum, fmt.Errorf("unknown checksum kind %q", name)
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// sumSizes are the lengths of the kinds' values in bytes.
var sumSizes = [...]int{0, 8, 4, md5.Size, sha256.Size, 32}

// Size is how many bytes a sum of this kind has.
func (k SumKind) Size() int { return sumSizes[k] }

// New returns a fresh running checksum of this kind. It panics for NoSum.
func (k SumKind) New() hash.Hash {
	switch k {
	case CRC64NVME:
		return crc64nvme.New()
	case CRC32C:
		return crc32.New(castagnoli)
	case MD5:
		return md5.New()
	case SHA256:
		return sha256.New()
	case BLAKE3:
		return blake3.New()
	}
	panic("object: no such checksum: " + k.String())
}

// Sum is one checksum of one content: comparable, and the zero value is "none".
type Sum struct {
	Kind SumKind
	// Value holds the raw bytes, most significant first.
	Value string
}

// SumOf takes the running checksum h of the given kind as it stands.
func SumOf(kind SumKind, h hash.Hash) Sum {
	var room [32]byte
	return Sum{kind, string(h.Sum(room[:0]))}
}

// Hex is the value in lower-case hexadecimal, as manifests write it.
func (s Sum) Hex() string { return hex.EncodeToString([]byte(s.Value)) }

// Base64 is the value as S3-API headers write it.
func (s Sum) Base64() string { return base64.StdEncoding.EncodeToString([]byte(s.Value)) }

// String is "kind:hex".
func (s Sum) String() string { return s.Kind.String() + ":" + s.Hex() }

// ParseSum reads a base64 value as an S3-API header gives it. A value of the
// wrong length is an error: it is not a sum of that kind.
func ParseSum(kind SumKind, b64 string) (Sum, error) {
	var room [64]byte
	if base64.StdEncoding.DecodedLen(len(b64)) <= len(room) {
		if n, err := base64.StdEncoding.Decode(room[:], []byte(b64)); err == nil && n > 0 && n == sumSizes[kind] {
			return Sum{kind, string(room[:n])}, nil
		}
	}
	return Sum{}, fmt.Errorf("not a %s checksum: %q", kind, b64)
}
