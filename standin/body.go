package standin

import (
	"bufio"
	"bytes"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"lumtra/core/object"
)

const (
	sumPrefix   = "X-Amz-Checksum-"
	ownSum      = sumPrefix + "Crc64nvme"
	inPack      = 64 << 10 // contents up to this size share one file
	readPortion = 256 << 10
)

// newSum makes the checksum a header speaks of, nil for an unknown one.
func newSum(header string) hash.Hash {
	switch header {
	case ownSum:
		return object.CRC64NVME.New()
	case sumPrefix + "Crc32c":
		return object.CRC32C.New()
	case sumPrefix + "Crc32":
		return crc32.NewIEEE()
	case sumPrefix + "Sha1":
		return sha1.New()
	case sumPrefix + "Sha256":
		return sha256.New()
	}
	return nil
}

// received is a body that came in whole and matched every checksum sent with it.
type received struct {
	size int64
	etag string
	sums map[string]string
	body []extent
}

var portions = sync.Pool{New: func() any { b := make([]byte, readPortion); return &b }}

// receive stores a request's body and verifies it: length, Content-MD5, signed
// payload hash, and any checksum in header or trailer.
func (s *Server) receive(b *bucket, r *http.Request) (got received, err error) {
	size := r.ContentLength
	body := io.Reader(r.Body)
	var coded *chunked
	if payload := r.Header.Get("X-Amz-Content-Sha256"); strings.HasPrefix(payload, "STREAMING-") &&
		!s.has(TrailersKept) {
		if payload != "STREAMING-UNSIGNED-PAYLOAD-TRAILER" {
			return got, fault(http.StatusNotImplemented, "NotImplemented", "this stand-in does not take signed chunks")
		}
		if size, err = strconv.ParseInt(r.Header.Get("X-Amz-Decoded-Content-Length"), 10, 64); err != nil {
			return got, fault(http.StatusLengthRequired, "MissingContentLength", "no decoded length")
		}
		coded = &chunked{r: bufio.NewReaderSize(r.Body, 64<<10)}
		body = coded
	}
	if size < 0 {
		return got, fault(http.StatusLengthRequired, "MissingContentLength", "no content length")
	}
	sums := map[string]hash.Hash{ownSum: newSum(ownSum)}
	want := map[string]string{}
	for name := range r.Header {
		if h := newSum(name); h != nil {
			sums[name], want[name] = h, r.Header.Get(name)
		}
	}
	if trailer := http.CanonicalHeaderKey(r.Header.Get("X-Amz-Trailer")); coded != nil && newSum(trailer) != nil {
		sums[trailer] = newSum(trailer)
	}
	if v := r.Header.Get("Content-Md5"); v != "" {
		sums["Content-Md5"], want["Content-Md5"] = md5.New(), v
	}
	if s.has(ETagsMD5) && sums["Content-Md5"] == nil {
		sums["etag"] = md5.New()
	}
	if v := r.Header.Get("X-Ms-Content-Crc64"); v != "" { // least significant byte first
		raw, _ := base64.StdEncoding.DecodeString(v)
		slices.Reverse(raw)
		sums["X-Ms-Content-Crc64"], want["X-Ms-Content-Crc64"] = newSum(ownSum), base64.StdEncoding.EncodeToString(raw)
	}
	if v := r.Header.Get("X-Amz-Content-Sha256"); len(v) == 64 {
		raw, _ := hex.DecodeString(v)
		sums["payload"], want["payload"] = sha256.New(), base64.StdEncoding.EncodeToString(raw)
	}
	if got.body, err = store(b, body, size, sums); err != nil {
		return got, err
	}
	if coded != nil {
		for name, value := range coded.trailer {
			if s.tells() {
				want[name] = value
			}
		}
	}
	got.size, got.sums = size, map[string]string{}
	for name, h := range sums {
		sum := base64.StdEncoding.EncodeToString(h.Sum(nil))
		if w, ok := want[name]; ok && w != sum {
			b.release(got.body)
			return got, fault(http.StatusBadRequest, "BadDigest", fmt.Sprintf("%s is %s, the request said %s", name,
				sum, w))
		}
		if strings.HasPrefix(name, sumPrefix) {
			got.sums[name] = sum
		}
	}
	var digest []byte
	for _, name := range []string{"etag", "Content-Md5"} {
		if h := sums[name]; h != nil {
			digest = h.Sum(nil)
		}
	}
	got.etag = s.etagOf(sums[ownSum].Sum(nil), size, digest)
	return got, nil
}

// store writes exactly size bytes to the bucket's disk.
func store(b *bucket, body io.Reader, size int64, sums map[string]hash.Hash) (_ []extent, err error) {
	short := fault(http.StatusBadRequest, "IncompleteBody", "the body is not as long as its Content-Length")
	buf := portions.Get().(*[]byte)
	defer portions.Put(buf)
	if size <= inPack {
		data := (*buf)[:size]
		if _, err := io.ReadFull(body, data); err != nil {
			return nil, short
		}
		// A coded body has its trailer still to be read.
		if n, err := body.Read((*buf)[size : size+1]); n > 0 || err != io.EOF {
			return nil, short
		}
		for _, h := range sums {
			h.Write(data)
		}
		return b.packed(data)
	}
	f, name, err := b.newFile()
	if err != nil {
		return nil, err
	}
	defer func() {
		f.Close()
		if err != nil {
			os.Remove(f.Name())
		}
	}()
	var done int64
	for {
		n, readErr := body.Read(*buf)
		for _, h := range sums {
			h.Write((*buf)[:n])
		}
		if _, err := f.Write((*buf)[:n]); err != nil {
			return nil, err
		}
		done += int64(n)
		if readErr == io.EOF {
			break
		}
		if readErr != nil || done > size {
			return nil, short
		}
	}
	if done != size {
		return nil, short
	}
	return []extent{{File: name, Size: size}}, nil
}

// chunked undoes the "aws-chunked" coding and keeps its trailer.
type chunked struct {
	r       *bufio.Reader
	left    int64
	begun   bool
	trailer map[string]string
}

func (c *chunked) Read(p []byte) (int, error) {
	if c.trailer != nil {
		return 0, io.EOF
	}
	if c.left == 0 {
		if c.begun {
			if line, err := c.line(); err != nil || line != "" {
				return 0, errors.New("a chunk without its end")
			}
		}
		c.begun = true
		line, err := c.line()
		if err != nil {
			return 0, err
		}
		digits, _, _ := strings.Cut(line, ";")
		if c.left, err = strconv.ParseInt(digits, 16, 64); err != nil || c.left < 0 {
			return 0, errors.New("a chunk without a size")
		}
		if c.left == 0 {
			return 0, c.end()
		}
	}
	n, err := c.r.Read(p[:min(int64(len(p)), c.left)])
	c.left -= int64(n)
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

func (c *chunked) line() (string, error) {
	line, err := c.r.ReadSlice('\n')
	return string(bytes.TrimRight(line, "\r\n")), err
}

func (c *chunked) end() error {
	trailer := map[string]string{}
	for {
		line, err := c.line()
		if err != nil && err != io.EOF {
			return err
		}
		if line == "" {
			c.trailer = trailer
			return io.EOF
		}
		name, value, _ := strings.Cut(line, ":")
		trailer[http.CanonicalHeaderKey(strings.TrimSpace(name))] = strings.TrimSpace(value)
	}
}

// content opens a stored body for reading and seeking.
func (b *bucket) content(body []extent, size int64) (io.ReadSeeker, func(), error) {
	files := map[string]*os.File{}
	closeAll := func() {
		for _, f := range files {
			f.Close()
		}
	}
	c := &content{size: size}
	for _, x := range body {
		if x.File == packName {
			c.runs = append(c.runs, io.NewSectionReader(b.pack, x.Offset, x.Size))
			continue
		}
		f := files[x.File]
		if f == nil {
			var err error
			if f, err = os.Open(filepath.Join(b.dir, x.File)); err != nil {
				closeAll()
				return nil, nil, err
			}
			files[x.File] = f
		}
		c.runs = append(c.runs, io.NewSectionReader(f, x.Offset, x.Size))
	}
	return c, closeAll, nil
}

// content is several runs of bytes read as one.
type content struct {
	runs []*io.SectionReader
	size int64
	at   int64
}

func (c *content) Read(p []byte) (int, error) {
	start := int64(0)
	for _, run := range c.runs {
		if c.at < start+run.Size() {
			n, err := run.ReadAt(p[:min(int64(len(p)), start+run.Size()-c.at)], c.at-start)
			c.at += int64(n)
			if err == io.EOF && n > 0 {
				err = nil
			}
			return n, err
		}
		start += run.Size()
	}
	return 0, io.EOF
}

func (c *content) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += c.at
	case io.SeekEnd:
		offset += c.size
	}
	if offset < 0 {
		return 0, errors.New("before the start")
	}
	c.at = offset
	return offset, nil
}
