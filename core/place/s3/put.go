package s3

import (
	"bytes"
	"context"
	"crypto/md5"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/wire"
	"lumtra/core/room"
)

// small is the size up to which a body is read into memory and its checksum
// sent ahead of it, which costs a store less than a trailer.
const small = 64 << 10

// content is a body to be sent: read into memory, or passing by once.
type content struct {
	size int64
	// sum is the body's CRC-64/NVME if it is known ahead, as that of one in memory
	// is.
	sum object.Sum
	// body is what passes by; nil for what is held in memory: small data as it is,
	// larger in a room.
	body io.Reader
	data []byte
	room *room.Room
}

// take readies a body. Of one held in memory the caller drops the content after
// its use.
func (p *Place) take(ctx context.Context, r bodyRequest, body io.Reader, size int64, sum object.Sum) (*content, error) {
	c := &content{size: size, sum: sum}
	if !p.holds(size, sum.Kind != object.NoSum) {
		c.body = body
		return c, nil
	}
	// The transport may hold the memory longer than the request lasts: a small one
	// is not used again, a room gives nothing more once it is given back.
	if size <= small {
		c.data = make([]byte, size)
	} else {
		c.room = room.New(size)
		c.data = c.room.Data
	}
	err := wire.ReadExactly(body, c.data)
	if err != nil {
		err = p.sourceError(ctx, r, err)
	} else if sum.Kind == object.NoSum {
		c.sum = wire.SumOf(body, c.data)
	} else if !p.vouches(ahead) {
		if got := wire.SumOf(body, c.data); sum.Kind == got.Kind && got != sum {
			err = place.NewError(p.name, r.op, r.key, place.Corrupt, fmt.Errorf("%s, expected %s", got, sum))
		}
	}
	if err != nil {
		c.drop()
		return nil, err
	}
	return c, nil
}

// drop gives the memory back.
func (c *content) drop() {
	if c.room != nil {
		c.room.Release()
	}
}

// again tells that the content can be sent once more.
func (c *content) again() bool { return c.body == nil }

// reader reads what is in memory.
func (c *content) reader() io.Reader {
	if c.room != nil {
		return c.room.Reader()
	}
	return bytes.NewReader(c.data) // as it is: net/http then sends it along with the headers
}

// bodyRequest is a request with a body before it is known how that is sent.
type bodyRequest struct {
	op, key string
	query   url.Values
	header  http.Header
	// asks are the conditions it is sent under.
	asks []place.Ask
}

// sent is what became of a body.
type sent struct {
	answer http.Header
	sum    object.Sum // CRC-64/NVME
	md5    string     // 16 bytes, "" where it was not computed
	// vouched tells that the store held the content against a checksum.
	vouched bool
}

// put sends a body once, in the best way that is known. What the store turns away
// for the way it was asked comes back as [place.Otherwise], and is asked in
// another way then.
func (p *Place) put(ctx context.Context, b bodyRequest, c *content) (sent, error) {
	if c.sum.Kind != object.NoSum && sumHeaders[c.sum.Kind] == "" {
		return sent{}, place.NewError(p.name, b.op, b.key, place.Unsupported,
			fmt.Errorf("the store does not verify %s", c.sum.Kind))
	}
	way := p.wayOf(c.again(), c.sum.Kind != object.NoSum)
	if c.sum.Kind != object.NoSum && c.sum.Kind != sumKind { // of the caller's choice
		way = ahead
	}
	s := sent{sum: c.sum, vouched: p.vouches(way)}
	r := request{method: http.MethodPut, op: b.op, key: b.key, query: b.query, header: b.header,
		payload: unsignedPayload, size: c.size}
	if r.header == nil {
		r.header = make(http.Header, 8)
	}
	var passing *passing
	if c.again() {
		p.prepare(&r, c, way, &s)
	} else {
		passing = p.stream(&r, c, way, &s)
	}
	resp, err := p.do(ctx, r)
	if passing != nil {
		if failed := passing.Down(); failed != nil {
			err = p.sourceError(ctx, b, failed)
		}
	}
	if resp != nil {
		drain(resp)
	}
	if err != nil {
		asks := b.asks
		if a, ok := wayAsks[way]; ok {
			asks = append([]place.Ask{a}, asks...)
		}
		return s, p.adapt(err, asks...)
	}
	s.answer = resp.Header
	if passing != nil {
		passing.done(&s)
	}
	err = p.verified(r, s)
	if err != nil && way == behind && !p.store.known.Does(place.SumBehind) {
		// Not damage, it may be, but the framing stored along with the content.
		p.store.known.Learn(place.SumBehind, place.Refused)
		err.(*place.Error).Kind = place.Otherwise
	}
	return s, err
}

// prepare puts what vouches for a body in memory into the header.
func (p *Place) prepare(r *request, c *content, way arrival, s *sent) {
	r.body = c.reader()
	if way == signed || p.signs() {
		digest := sha256.Sum256(c.data)
		r.payload = hex.EncodeToString(digest[:])
	}
	if way == ahead {
		r.header.Set(sumHeaders[c.sum.Kind], c.sum.Base64())
	}
	if way == md5Ahead || !s.vouched && !p.store.known.Lacks(place.MD5ETag) {
		digest := md5.Sum(c.data)
		s.md5 = string(digest[:])
	}
	if way == md5Ahead {
		r.header.Set("Content-Md5", base64.StdEncoding.EncodeToString([]byte(s.md5)))
	}
}

// passing is a body on its way to the store.
type passing struct {
	*wire.Fence
	trailer *trailing
	summing *summing
}

// stream has a body go through as it comes.
func (p *Place) stream(r *request, c *content, way arrival, s *sent) *passing {
	x := &passing{}
	body := c.body
	if way != behind || !s.vouched {
		x.summing = newSumming(body, c.size, c.sum, !s.vouched && !p.store.known.Lacks(place.MD5ETag))
		x.summing.fail = func(err error) error { return place.NewError(p.name, r.op, r.key, place.Corrupt, err) }
		body = x.summing
	}
	switch way {
	case ahead:
		r.header.Set(sumHeaders[c.sum.Kind], c.sum.Base64())
	case behind:
		x.trailer = newTrailing(body, c.size)
		body, r.payload, r.size = x.trailer, unsignedTrailer, x.trailer.length()
		coding := "aws-chunked" // outermost, and taken off by the store
		if kept := r.header.Get("Content-Encoding"); kept != "" {
			coding += "," + kept
		}
		r.header.Set("Content-Encoding", coding)
		r.header.Set("X-Amz-Decoded-Content-Length", strconv.FormatInt(c.size, 10))
		r.header.Set("X-Amz-Trailer", trailerName)
	}
	x.Fence = wire.NewFence(body)
	r.body = x.Fence
	return x
}

// done takes down the sums of what has passed.
func (x *passing) done(s *sent) {
	if x.summing != nil {
		x.summing.done(s)
	}
	if x.trailer != nil {
		s.sum = x.trailer.checksum()
	}
}

// summing sums a body up as it passes.
type summing struct {
	r      io.Reader
	summed place.Summed // the body, when it sums itself
	crc    hash.Hash    // nil where that is so
	md5    hash.Hash    // nil for none
	// left is how much is to come. The last of it is handed on only once the body has
	// ended well and come to want, if that is known: else the request never is whole.
	left int64
	want object.Sum
	fail func(error) error
}

func newSumming(r io.Reader, size int64, want object.Sum, digest bool) *summing {
	s := &summing{r: r, left: size, want: want}
	if s.summed = place.SumsItself(r); s.summed == nil {
		s.crc = sumKind.New()
	}
	if digest {
		s.md5 = md5.New()
	}
	return s
}

func (s *summing) Read(b []byte) (int, error) {
	n, err := s.r.Read(b)
	if s.crc != nil {
		s.crc.Write(b[:n])
	}
	if s.md5 != nil {
		s.md5.Write(b[:n])
	}
	if s.left -= int64(n); s.left > 0 || n == 0 {
		if err == io.EOF && s.left > 0 {
			err = io.ErrUnexpectedEOF
		}
		return n, err
	}
	if err == nil {
		err = wire.ReadExactly(s.r, nil)
	} else if err == io.EOF {
		err = nil
	}
	if err == nil && s.want.Kind == sumKind && s.Sum() != s.want {
		err = s.fail(fmt.Errorf("%s, expected %s", s.Sum(), s.want))
	}
	if err != nil {
		return 0, err
	}
	return n, nil
}

// Sum lets what reads on do without summing it up again: see [place.Summed].
func (s *summing) Sum() object.Sum {
	switch {
	case s.summed != nil:
		return s.summed.Sum()
	case s.crc != nil:
		return object.SumOf(sumKind, s.crc)
	}
	return object.Sum{}
}

func (s *summing) done(to *sent) {
	if sum := s.Sum(); sum.Kind != object.NoSum {
		to.sum = sum
	}
	if s.md5 != nil {
		to.md5 = string(s.md5.Sum(nil))
	}
}

// drain reads what little a write's response holds, so that its connection can
// serve again.
func drain(resp *http.Response) {
	if resp.Body == http.NoBody {
		return
	}
	io.Copy(io.Discard, io.LimitReader(resp.Body, 64<<10))
	resp.Body.Close()
}

// verified holds the checksum the store answers with, if it does, against the
// one that was sent.
func (p *Place) verified(r request, s sent) error {
	said := s.answer.Get(sumHeaders[s.sum.Kind])
	if said == "" || said == r.header.Get(sumHeaders[s.sum.Kind]) {
		return nil // what was sent ahead, in the same letters
	}
	kept, err := object.ParseSum(s.sum.Kind, said)
	if err == nil && kept != s.sum {
		e := place.NewError(p.name, r.op, r.key, place.Corrupt, fmt.Errorf("the store has %s, %s was sent", kept,
			s.sum))
		if r.op == "write" {
			e.Left = etagOf(s.answer)
		}
		return e
	}
	return nil
}

// sourceError keeps a failure to read the body apart from one to send it.
func (p *Place) sourceError(ctx context.Context, b bodyRequest, err error) error {
	if ctx.Err() != nil {
		return place.NewError(p.name, b.op, b.key, place.Cancelled, nil)
	}
	return p.fail(b.op, b.key, err)
}
