package standin

import (
	"crypto/md5"
	"crypto/rand"
	"encoding/xml"
	"fmt"
	"hash"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"lumtra/core/object"
)

const minPart = 5 << 20 // all parts but the last, says the API Reference

var errNoUpload = fault(http.StatusNotFound, "NoSuchUpload", "there is no such upload")

func (c *call) begin() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	up := &upload{ID: rand.Text(), Object: c.newVersion()}
	if err := c.s.takes(&up.Object); err != nil {
		return err
	}
	b.mu.Lock()
	err = b.commit(change{Begin: up})
	b.mu.Unlock()
	if err != nil {
		return err
	}
	return answer(c.w, struct {
		XMLName               xml.Name `xml:"InitiateMultipartUploadResult"`
		Bucket, Key, UploadId string
	}{Bucket: c.bucket, Key: c.key, UploadId: up.ID})
}

// uploadOf finds the upload a request names.
func (c *call) uploadOf(b *bucket) (*upload, error) {
	b.mu.RLock()
	defer b.mu.RUnlock()
	if up := b.uploads[c.query.Get("uploadId")]; up != nil && up.Object.Key == c.key {
		return up, nil
	}
	return nil, errNoUpload
}

func (c *call) putPart() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	if _, err := c.uploadOf(b); err != nil {
		return err
	}
	got, err := c.s.receive(b, c.r)
	if err != nil {
		return err
	}
	if err := c.keepPart(b, got); err != nil {
		return err
	}
	c.w.Header().Set("ETag", `"`+got.etag+`"`)
	for name, sum := range got.sums {
		if c.s.told(sum) != "" {
			c.w.Header().Set(name, sum)
		}
	}
	return nil
}

func (c *call) keepPart(b *bucket, got received) error {
	number, err := strconv.Atoi(c.query.Get("partNumber"))
	if err != nil || number < 1 || number > 10000 {
		return fault(http.StatusBadRequest, "InvalidArgument", "the part number is between 1 and 10,000")
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	up := b.uploads[c.query.Get("uploadId")]
	if up == nil {
		b.release(got.body)
		return errNoUpload
	}
	if old := up.Parts[number]; old != nil {
		b.release(old.Body)
	}
	return b.commit(change{Part: &partOf{up.ID, part{number, got.size, got.etag, c.s.now(), got.sums, got.body}}})
}

func (c *call) copyPart() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	if _, err := c.uploadOf(b); err != nil {
		return err
	}
	from, src, err := c.copySource()
	if err != nil {
		return err
	}
	body, done, err := from.content(src.Body, src.Size)
	if err != nil {
		return err
	}
	defer done()
	first, size := int64(0), src.Size
	if span := c.r.Header.Get("X-Amz-Copy-Source-Range"); span != "" {
		var last int64
		if n, _ := fmt.Sscanf(span, "bytes=%d-%d", &first, &last); n != 2 || first > last || last >= src.Size {
			return fault(http.StatusBadRequest, "InvalidArgument", "the range does not lie in the source")
		}
		size = last - first + 1
	}
	body.Seek(first, io.SeekStart)
	sums := map[string]hash.Hash{ownSum: newSum(ownSum), "etag": md5.New()}
	extents, err := store(b, io.LimitReader(body, size), size, sums)
	if err != nil {
		return err
	}
	sum := object.SumOf(object.CRC64NVME, sums[ownSum])
	got := received{size, c.s.etagOf([]byte(sum.Value), size, sums["etag"].Sum(nil)),
		map[string]string{ownSum: sum.Base64()}, extents}
	if err := c.keepPart(b, got); err != nil {
		return err
	}
	return answer(c.w, struct {
		XMLName            xml.Name `xml:"CopyPartResult"`
		ETag, LastModified string
		ChecksumCRC64NVME  string `xml:",omitempty"`
	}{ETag: `"` + got.etag + `"`, LastModified: c.s.now().Format(isoForm), ChecksumCRC64NVME: c.s.told(sum.Base64())})
}

func (c *call) listParts() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	up, err := c.uploadOf(b)
	if err != nil {
		return err
	}
	type line struct {
		PartNumber         int
		Size               int64
		ETag, LastModified string
		ChecksumCRC64NVME  string `xml:",omitempty"`
	}
	var out struct {
		XMLName               xml.Name `xml:"ListPartsResult"`
		Bucket, Key, UploadId string
		NextPartNumberMarker  int
		MaxParts              int
		IsTruncated           bool
		Part                  []line
	}
	after, _ := strconv.Atoi(c.query.Get("part-number-marker"))
	out.Bucket, out.Key, out.UploadId, out.MaxParts = c.bucket, c.key, up.ID, 1000
	b.mu.RLock()
	for _, p := range up.Parts {
		if p.Number > after {
			out.Part = append(out.Part, line{p.Number, p.Size, `"` + p.ETag + `"`, p.Modified.Format(isoForm),
				c.s.told(p.Sums[ownSum])})
		}
	}
	b.mu.RUnlock()
	slices.SortFunc(out.Part, func(a, b line) int { return a.PartNumber - b.PartNumber })
	if len(out.Part) > out.MaxParts {
		out.Part, out.IsTruncated = out.Part[:out.MaxParts], true
		out.NextPartNumberMarker = out.Part[out.MaxParts-1].PartNumber
	}
	return answer(c.w, out)
}

func (c *call) complete() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	var in struct {
		Part []struct {
			PartNumber        int
			ETag              string
			ChecksumCRC64NVME string
		}
	}
	if err := c.document(&in); err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	up := b.uploads[c.query.Get("uploadId")]
	if up == nil || up.Object.Key != c.key {
		return errNoUpload
	}
	if err := c.conditions(b.find(c.key, "")); err != nil {
		return err
	}
	v := up.Object
	v.Modified = c.s.now()
	whole := object.SumOf(object.CRC64NVME, object.CRC64NVME.New())
	used := map[int]bool{}
	var etags []string
	for i, want := range in.Part {
		p := up.Parts[want.PartNumber]
		switch {
		case want.ChecksumCRC64NVME != "" && c.s.has(PartSumsRefused):
			return fault(http.StatusBadRequest, "MalformedXML",
				"The XML you provided was not well-formed or did not validate against our published schema")
		case want.ChecksumCRC64NVME != "" && !c.s.tells():
			want.ChecksumCRC64NVME = ""
		}
		switch {
		case p == nil || strings.Trim(want.ETag, `"`) != p.ETag || want.ChecksumCRC64NVME != "" &&
			want.ChecksumCRC64NVME != p.Sums[ownSum]:
			return fault(http.StatusBadRequest, "InvalidPart", fmt.Sprintf("part %d is not there as named",
				want.PartNumber))
		case i > 0 && want.PartNumber <= in.Part[i-1].PartNumber:
			return fault(http.StatusBadRequest, "InvalidPartOrder", "the parts are not in order")
		case i < len(in.Part)-1 && p.Size < minPart:
			return fault(http.StatusBadRequest, "EntityTooSmall", fmt.Sprintf("part %d is smaller than 5 MiB",
				p.Number))
		}
		sum, err := object.ParseSum(object.CRC64NVME, p.Sums[ownSum])
		if err != nil {
			return err
		}
		whole = object.CombineCRC64(whole, sum, p.Size)
		v.Size += p.Size
		v.Body = append(v.Body, p.Body...)
		used[p.Number] = true
		etags = append(etags, p.ETag)
	}
	if want := c.r.Header.Get(ownSum); len(in.Part) == 0 || want != "" && want != whole.Base64() {
		return fault(http.StatusBadRequest, "BadDigest", "the whole object's checksum is "+whole.Base64())
	}
	c.s.stays(&v, b.find(v.Key, ""))
	v.Sums = map[string]string{ownSum: whole.Base64()}
	v.ETag, v.ID = c.s.joinedETag(whole.Hex(), v.Size, etags), b.nextID()
	var old *version
	if v.ID == "null" {
		old = b.find(v.Key, "null")
	}
	if err := b.commit(change{Put: &v}); err != nil {
		return err
	}
	for n, p := range up.Parts {
		if !used[n] {
			b.release(p.Body)
		}
	}
	if old != nil {
		b.release(old.Body)
	}
	if err := b.commit(change{End: &up.ID}); err != nil {
		return err
	}
	if v.ID != "null" {
		c.w.Header().Set("X-Amz-Version-Id", v.ID)
	}
	etag := `"` + v.ETag + `"`
	if c.s.has(JoinSilent) {
		etag = ""
	}
	return answer(c.w, struct {
		XMLName                 xml.Name `xml:"CompleteMultipartUploadResult"`
		Bucket, Key             string
		ETag, ChecksumCRC64NVME string `xml:",omitempty"`
		ChecksumType            string `xml:",omitempty"`
	}{Bucket: c.bucket, Key: c.key, ETag: etag, ChecksumCRC64NVME: c.s.told(whole.Base64()),
		ChecksumType: c.s.told("FULL_OBJECT")})
}

func (c *call) abort() error {
	b, err := c.openBucket()
	if err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	up := b.uploads[c.query.Get("uploadId")]
	if up == nil {
		return errNoUpload
	}
	if err := b.commit(change{End: &up.ID}); err != nil {
		return err
	}
	for _, p := range up.Parts {
		b.release(p.Body)
	}
	c.w.WriteHeader(http.StatusNoContent)
	return nil
}
