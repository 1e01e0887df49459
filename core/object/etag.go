package object

import (
	"crypto/md5"
	"encoding/hex"
	"hash"
	"strconv"
	"strings"
)

// ETagMD5 reads an ETag that has the form of an MD5, as many stores make them: of
// the content, or, with parts above zero, of the MD5s of so many parts the object
// was joined from. Whether it is one is for the store to be known by: the
// specification has ETags opaque (RFC 9110, section 8.8.3).
func ETagMD5(etag string) (digest string, parts int, ok bool) {
	digits, count, joined := strings.Cut(etag, "-")
	raw, err := hex.DecodeString(digits)
	if err != nil || len(raw) != md5.Size {
		return "", 0, false
	}
	if joined {
		if parts, err = strconv.Atoi(count); err != nil || parts < 1 {
			return "", 0, false
		}
	}
	return string(raw), parts, true
}

// PartsMD5 sums up content as ETags of objects joined from parts are made: the MD5
// of the MD5s of pieces of partSize bytes, the last of which may be shorter.
type PartsMD5 struct {
	partSize, left int64
	part, whole    hash.Hash
}

// NewPartsMD5 starts one. partSize is above zero.
func NewPartsMD5(partSize int64) *PartsMD5 {
	return &PartsMD5{partSize: partSize, left: partSize, part: md5.New(), whole: md5.New()}
}

// Write takes content. It never fails.
func (p *PartsMD5) Write(b []byte) (int, error) {
	for rest := b; len(rest) > 0; {
		n := int(min(int64(len(rest)), p.left))
		p.part.Write(rest[:n])
		if rest, p.left = rest[n:], p.left-int64(n); p.left == 0 {
			p.end()
		}
	}
	return len(b), nil
}

func (p *PartsMD5) end() {
	p.whole.Write(p.part.Sum(nil))
	p.part.Reset()
	p.left = p.partSize
}

// Sum is the digest, 16 bytes. Nothing is to be written after it.
func (p *PartsMD5) Sum() string {
	if p.left < p.partSize {
		p.end()
	}
	return string(p.whole.Sum(nil))
}
