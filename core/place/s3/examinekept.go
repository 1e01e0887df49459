package s3

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"lumtra/core/place"
)

// metadata writes some, and as much as the reference allows: 2 KB, names and values counted together. Where not as
// much is taken, it finds out how much is.
func (x *examination) metadata() error {
	x.keeps(place.KeepsMeta, 1, 13)
	if x.Found(place.KeepsMeta) != place.Works {
		return nil
	}
	all := place.MostMeta - len("note-00")
	x.keeps(place.KeepsMeta2K, 1, all)
	if x.Found(place.KeepsMeta2K) == place.Works {
		return nil
	}
	var m place.MetaLimits
	m.Value = x.most(all, func(n int) bool { return x.takes(1, n) })
	if m.Value == 0 {
		return nil
	}
	const each = 64
	if most := place.MostMeta / (each + len("note-00")); m.Value >= each && !x.takes(most, each) {
		m.All = (each + len("note-00")) * x.most(most, func(n int) bool { return x.takes(n, each) })
	}
	x.Limits(m)
	return nil
}

// keeps answers whether so many values of so many bytes come back as written. A store that has trouble with that
// each time, and none with little, refuses it, whatever it calls that.
func (x *examination) keeps(a place.Ask, values, size int) {
	is, err := x.metaOf(values, size, x.right)
	switch {
	case err == nil:
		x.Answer(a, place.Done(is))
	case place.KindOf(err) == place.ServerFault && x.takes(1, 13):
		x.Answer(a, place.Refused)
	default:
		x.Refuse(err, a)
	}
}

// takes tells whether so much is taken at the first try. What a line disturbs comes out too small, and otherwise in
// another pass.
func (x *examination) takes(values, size int) bool {
	is, err := x.metaOf(values, size, x.putOnce)
	return err == nil && is
}

// most is the largest number up to the given one that is taken; 0 for none. What is taken of a number is of all
// below it.
func (x *examination) most(limit int, takes func(int) bool) int {
	low, high := 0, limit // taken, not taken
	for high-low > 1 && x.ctx.Err() == nil {
		if middle := (low + high) / 2; takes(middle) {
			low = middle
		} else {
			high = middle
		}
	}
	return low
}

// metaOf writes so many values of so many bytes, and tells whether they come back.
func (x *examination) metaOf(values, size int, put func(string, []byte, http.Header) (http.Header, error)) (is bool,
	err error) {
	key, h := fmt.Sprintf("metadata-%d-%d", values, size), http.Header{}
	for n := range values {
		h.Set(fmt.Sprintf("X-Amz-Meta-Note-%02d", n), strings.Repeat("m", size))
	}
	if _, err := put(key, place.Sample, h); err != nil {
		return false, err
	}
	there, err := x.head(key)
	for name := range h {
		is = err == nil && there.Get(name) == h.Get(name)
		if !is {
			return false, err
		}
	}
	return true, nil
}

// replaced writes over an object with metadata, and looks whether they went.
func (x *examination) replaced() error {
	const key = "replaced"
	if _, err := x.right(key, place.Sample, http.Header{"X-Amz-Meta-Note": {"low water"}}); err != nil {
		x.Disturb(place.MetaReplaced)
		return nil
	}
	_, err := x.right(key, place.Another, nil)
	h, bad := x.head(key)
	if err != nil || bad != nil {
		x.Disturb(place.MetaReplaced)
		return nil
	}
	x.Answer(place.MetaReplaced, place.Done(h.Get("X-Amz-Meta-Note") == ""))
	return nil
}

// tags sets one and reads it back.
func (x *examination) tags() error {
	if _, err := x.put("tagged", place.Sample, nil); err != nil {
		return err
	}
	x.Tagged(x.ctx, x.p, x.prefix+"tagged", x.try)
	return nil
}

// ordered are names that stores with an order of their own put elsewhere: by folder
// ("bed/" before "bed-"), without regard to case, or by UTF-16.
var ordered = []string{"bed!x", "bed-x", "bed.x", "bed/x", "bed/y/z", "bed0", "bedX", "beda", "bed\uffee",
	"bed\U0001f30a"}

// listings lists those names, and looks at order, encoding and times.
func (x *examination) listings() error {
	for _, name := range ordered {
		if _, err := x.put("order/"+name, place.Sample, nil); place.Disturbing(err) {
			return err
		}
	}
	var doc struct {
		EncodingType string
		Contents     []struct{ Key, LastModified string }
	}
	query := url.Values{"list-type": {"2"}, "encoding-type": {"url"}, "prefix": {x.p.prefix + x.prefix + "order/"}}
	err := x.try(func() error {
		resp, err := x.p.do(x.ctx, request{method: http.MethodGet, op: "list", key: x.prefix, query: query})
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		text, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
		if err != nil {
			return x.p.transportError(x.ctx, "list", x.prefix, err)
		}
		return xml.Unmarshal(text, &doc)
	})
	if err != nil { // no answer that can be read is no reason to end the test
		x.Disturb(place.ListsInOrder, place.ListsEncoded, place.FineTimes)
		return nil
	}
	var keys []string
	fine := false
	for _, c := range doc.Contents {
		if doc.EncodingType == "url" {
			c.Key, _ = url.QueryUnescape(c.Key)
		}
		keys = append(keys, c.Key)
		at, err := time.Parse(time.RFC3339Nano, c.LastModified)
		fine = fine || err == nil && at.Nanosecond() != 0
	}
	if !slices.IsSorted(keys) && len(keys) != len(ordered) { // a line has changed some
		x.Disturb(place.ListsInOrder)
	} else {
		x.Answer(place.ListsInOrder, place.Done(slices.IsSorted(keys)))
	}
	x.Answer(place.ListsEncoded, place.Done(doc.EncodingType == "url"))
	x.Answer(place.FineTimes, place.Done(fine))
	return nil
}

// versions replaces an object and reads what it was.
func (x *examination) versions() error {
	h, err := x.put("version", place.Sample, nil)
	if err != nil {
		return err
	}
	id := h.Get("X-Amz-Version-Id")
	if id == "" || id == "null" {
		return nil // none are kept
	}
	if _, err := x.put("version", place.Another, nil); err != nil {
		return err
	}
	is := place.Refused
	err = x.try(func() error {
		resp, err := x.p.do(x.ctx, request{method: http.MethodGet, op: "read", key: x.prefix + "version",
			query: url.Values{"versionId": {id}}})
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		data, err := io.ReadAll(io.LimitReader(resp.Body, 1<<10))
		is = place.Done(bytes.Equal(data, place.Sample))
		return x.p.fail("read", "version", err)
	})
	if place.Disturbing(err) {
		x.Disturb(place.ReadVersion)
	} else {
		x.Answer(place.ReadVersion, is)
	}
	return nil
}
