package s3

import (
	"bytes"
	"crypto/md5"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"

	"lumtra/core/object"
	"lumtra/core/place"
)

func itoa(n int) string { return strconv.Itoa(n) }

// begin opens an upload, with checksums or without.
func (x *examination) begin(key string, summed bool) (id string, err error) {
	err = x.try(func() error {
		h := http.Header{}
		if summed {
			h.Set("X-Amz-Checksum-Algorithm", "CRC64NVME")
			h.Set("X-Amz-Checksum-Type", "FULL_OBJECT")
		}
		resp, err := x.p.do(x.ctx, request{method: http.MethodPost, op: "begin", key: x.prefix + key,
			query: url.Values{"uploads": {""}}, header: h})
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		var out struct{ UploadId string }
		raw, err := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
		if err != nil {
			return x.p.fail("begin", key, err)
		}
		err = xml.Unmarshal(raw, &out)
		if id = out.UploadId; err == nil && id == "" {
			err = errors.New("an upload without a name")
		}
		if err != nil { // no answer at all, or one that was damaged on its way
			return place.NewError(x.p.name, "begin", key, place.ServerFault, err)
		}
		return nil
	})
	return id, err
}

func (x *examination) abort(key, id string) {
	resp, err := x.p.do(x.ctx, request{method: http.MethodDelete, op: "abort", key: x.prefix + key,
		query: url.Values{"uploadId": {id}}})
	if err == nil {
		resp.Body.Close()
	}
}

// listed looks whether an unfinished upload is listed.
func (x *examination) listed() {
	id, err := x.begin("begun", false)
	if err != nil {
		return
	}
	defer x.abort("begun", id)
	is := false
	for range 3 { // a line may have changed one look
		var ups []place.Upload
		err = x.try(func() (err error) {
			ups, err = x.p.uploads(x.ctx, x.p.prefix+x.prefix)
			return err
		})
		is = is || slices.ContainsFunc(ups, func(up place.Upload) bool { return up.ID == id })
	}
	if is || err == nil {
		x.Answer(place.UploadsListed, place.Done(is))
	} else {
		x.Disturb(place.UploadsListed)
	}
}

// join is how an upload of one part is made and joined.
type join struct {
	key string
	// summed begins it with checksums; partSum names the part's in the list, whole
	// that of all.
	summed, partSum bool
	whole           object.Sum
	header          http.Header
}

// joined is what became of it.
type joined struct{ etag string }

// join makes an object of one part. An upload that is not joined is dropped.
func (x *examination) join(j join) (joined, error) {
	none := joined{}
	id, err := x.begin(j.key, j.summed)
	if err != nil {
		return none, err
	}
	sum := sumOf(place.Sample)
	var part http.Header
	err = x.surely(func() error {
		r := request{method: http.MethodPut, op: "write part", key: x.prefix + j.key,
			query:  url.Values{"partNumber": {"1"}, "uploadId": {id}},
			header: http.Header{}, body: bytes.NewReader(place.Sample), size: int64(len(place.Sample)),
			payload: unsignedPayload}
		if x.signed {
			r.payload = sha256Hex(place.Sample)
		}
		if j.summed {
			r.header.Set(sumHeaders[sumKind], sum.Base64())
		}
		resp, err := x.p.do(x.ctx, r)
		if err == nil {
			drain(resp)
			part = resp.Header
		}
		return err
	})
	if err != nil {
		x.abort(j.key, id)
		return none, err
	}
	type line struct {
		ChecksumCRC64NVME string `xml:",omitempty"`
		ETag              string
		PartNumber        int
	}
	doc := struct {
		XMLName xml.Name `xml:"http://s3.amazonaws.com/doc/2006-03-01/ CompleteMultipartUpload"`
		Part    []line
	}{Part: []line{{ETag: part.Get("ETag"), PartNumber: 1}}}
	h := j.header.Clone()
	if h == nil {
		h = http.Header{}
	}
	if j.partSum {
		doc.Part[0].ChecksumCRC64NVME = sum.Base64()
	}
	if j.summed {
		h.Set("X-Amz-Checksum-Type", "FULL_OBJECT")
	}
	if j.whole.Kind != object.NoSum {
		h.Set(sumHeaders[sumKind], j.whole.Base64())
	}
	raw, err := xml.Marshal(doc)
	if err != nil {
		return none, err
	}
	out := joined{}
	err = x.try(func() error {
		resp, err := x.p.do(x.ctx, request{method: http.MethodPost, op: "finish", key: x.prefix + j.key,
			query: url.Values{"uploadId": {id}}, header: h.Clone(),
			body: bytes.NewReader(raw), size: int64(len(raw)), payload: sha256Hex(raw)})
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		answer, err := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
		if err != nil {
			return x.p.fail("finish", j.key, err)
		}
		if code := between(answer, "Code"); bytes.Contains(answer, []byte("<Error>")) { // a refusal under a good status
			return place.NewError(x.p.name, "finish", j.key, errorKind(0, string(code)),
				errors.New(string(between(answer, "Message"))))
		}
		out.etag = string(bytes.Trim(unescape(between(answer, "ETag")), `"`))
		return nil
	})
	if err != nil {
		x.abort(j.key, id)
	}
	return out, err
}

func sumOf(b []byte) object.Sum {
	h := sumKind.New()
	h.Write(b)
	return object.SumOf(sumKind, h)
}

// joins makes objects of one part in every way that joining can be asked.
func (x *examination) joins() error {
	summed := join{key: "joined", summed: true, partSum: true, whole: sumOf(place.Sample)}
	out, err := x.joinRight(summed)
	if err == nil {
		x.Answer(place.JoinSums, place.Works)
	} else { // the parts' checksums, or all of them?
		x.Refuse(err, place.JoinSums)
		summed.partSum = false
		out, err = x.joinRight(summed)
	}
	if err == nil {
		wrong := summed
		wrong.key, wrong.whole, wrong.partSum = "joined-wrong", sumOf(place.Another), false
		_, bad := x.join(wrong)
		x.Conclude(place.JoinWhole, nil, bad)
	} else {
		x.Refuse(err, place.JoinWhole)
		summed = join{key: "joined"}
		out, err = x.joinRight(summed)
	}
	if err != nil {
		x.Refuse(err, place.InParts, place.JoinIfAbsent, place.JoinIfStill)
		return nil
	}
	x.Answer(place.InParts, place.Works)
	x.listed()
	x.Answer(place.JoinETag, place.Done(out.etag != ""))
	if there, err := x.head("joined"); err == nil {
		part := md5.Sum(place.Sample)
		of := md5.Sum(part[:])
		x.tells("joined", place.MD5PartETag, etagOf(there) == hex.EncodeToString(of[:])+"-1")
	} else {
		x.Disturb(place.MD5PartETag)
	}
	absent, onto := summed, summed
	absent.key, absent.header, onto.header = "joined-new", http.Header{"If-None-Match": {"*"}},
		http.Header{"If-None-Match": {"*"}}
	_, right := x.joinRight(absent)
	_, wrong := x.join(onto)
	x.Conclude(place.JoinIfAbsent, right, wrong, place.Exists, place.Changed)
	x.matches("joined", place.JoinIfStill, false, func(match string) error {
		again := summed
		again.header = http.Header{"If-Match": {match}}
		_, err := x.joinRight(again)
		return err
	})
	return nil
}

// joinRight makes an object in a way that has to be taken. That a list came damaged, or an upload's name
// did, says nothing.
func (x *examination) joinRight(j join) (out joined, err error) {
	for range 4 {
		out, err = x.join(j)
		kind := place.KindOf(err)
		if err == nil || kind != place.Corrupt && kind != place.NotFound || x.ctx.Err() != nil {
			break
		}
	}
	if place.KindOf(err) == place.NotFound && err != nil { // each time: that cannot be told from damage
		err = place.NewError(x.p.name, "finish", j.key, place.Corrupt, err)
	}
	return out, err
}
