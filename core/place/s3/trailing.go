package s3

import (
	"fmt"
	"hash"
	"io"
	"strconv"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/wire"
)

const trailerName = "x-amz-checksum-crc64nvme"

// trailing wraps a body in the "aws-chunked" coding with a checksum behind the
// last chunk (API Reference, "Using checksums: trailing checksums"), so that
// content is summed while it streams and still verified by the store:
//
//	hex-size CRLF data CRLF … 0 CRLF name:base64 CRLF CRLF
type trailing struct {
	body    io.Reader
	size    int64 // content bytes in all
	left    int64 // content bytes not yet read
	inChunk int64 // content bytes left in the current chunk
	sum     hash.Hash
	summed  place.Summed // the body, when it sums itself
	pending []byte       // framing waiting to be handed out
	room    [96]byte
	ended   bool
}

// chunk is the content per chunk: large, since every chunk costs both sides a
// line; the last is what remains.
const chunk = 1 << 20

func newTrailing(body io.Reader, size int64) *trailing {
	t := &trailing{body: body, size: size, left: size}
	if t.summed = place.SumsItself(body); t.summed == nil {
		t.sum = sumKind.New()
	}
	return t
}

// length is the coded size in bytes, which the request must announce.
func (t *trailing) length() int64 {
	full, rest := t.size/chunk, t.size%chunk
	n := full * (int64(len(strconv.FormatInt(chunk, 16))) + 2 + chunk + 2)
	if rest > 0 {
		n += int64(len(strconv.FormatInt(rest, 16))) + 2 + rest + 2
	}
	return n + int64(len("0\r\n"+trailerName+":\r\n\r\n")) + 12 // base64 of 8 bytes
}

func (t *trailing) Read(b []byte) (int, error) {
	for len(t.pending) == 0 && t.inChunk == 0 {
		if t.ended {
			return 0, io.EOF
		}
		if err := t.frame(); err != nil {
			return 0, err
		}
	}
	if len(t.pending) > 0 {
		n := copy(b, t.pending)
		t.pending = t.pending[n:]
		return n, nil
	}
	n, err := t.body.Read(b[:min(int64(len(b)), t.inChunk)])
	if t.sum != nil {
		t.sum.Write(b[:n])
	}
	t.left -= int64(n)
	if t.inChunk -= int64(n); t.inChunk == 0 {
		t.pending = append(t.room[:0], "\r\n"...)
	}
	switch {
	case err == io.EOF && t.left > 0:
		return n, io.ErrUnexpectedEOF
	case err == io.EOF:
		err = nil // the trailer is still to come
	}
	return n, err
}

// checksum is that of all content read.
func (t *trailing) checksum() object.Sum {
	if t.summed != nil {
		return t.summed.Sum()
	}
	return object.SumOf(sumKind, t.sum)
}

// frame readies the head of the next chunk, or the end.
func (t *trailing) frame() error {
	if t.left > 0 {
		t.inChunk = min(t.left, chunk)
		t.pending = append(strconv.AppendInt(t.room[:0], t.inChunk, 16), "\r\n"...)
		return nil
	}
	if err := wire.ReadExactly(t.body, nil); err != nil {
		return err // the source changed, or is longer than it said
	}
	t.ended = true
	t.pending = fmt.Appendf(t.room[:0], "0\r\n%s:%s\r\n\r\n", trailerName, t.checksum().Base64())
	return nil
}
