package s3

import (
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"lumtra/core/place"
)

// metadata writes some, and as much as the reference allows: 2 KB, names and values
// counted together.
func (x *examination) metadata() error {
	for ask, value := range map[place.Ask]string{place.KeepsMeta: "reed bed, 1 m",
		place.KeepsMeta2K: strings.Repeat("m", 2<<10-len("note"))} {
		key := string(ask)
		_, err := x.put(key, place.Sample, http.Header{"X-Amz-Meta-Note": {value}})
		if passingTrouble(err) {
			return err
		}
		is := place.Refused
		if err == nil {
			if is = place.Ignored; x.metaOf(key) == value {
				is = place.Works
			}
		}
		x.Answer(ask, is)
	}
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

func (x *examination) metaOf(key string) string {
	h, err := x.head(key)
	if err != nil {
		return ""
	}
	return h.Get("X-Amz-Meta-Note")
}

// ordered are names that stores with an order of their own put elsewhere: by folder
// ("bed/" before "bed-"), without regard to case, or by UTF-16.
var ordered = []string{"bed!x", "bed-x", "bed.x", "bed/x", "bed/y/z", "bed0", "bedX", "beda", "bed\uffee",
	"bed\U0001f30a"}

// listings lists those names, and looks at order, encoding and times.
func (x *examination) listings() error {
	for _, name := range ordered {
		if _, err := x.put("order/"+name, place.Sample, nil); passingTrouble(err) {
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
	if err != nil {
		return x.unlisted(err)
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
	x.Answer(place.ListsInOrder, place.Done(slices.IsSorted(keys)))
	x.Answer(place.ListsEncoded, place.Done(doc.EncodingType == "url"))
	x.Answer(place.FineTimes, place.Done(fine))
	return nil
}

// unlisted is what a listing that failed says: an answer nobody can read is no reason
// to end the test.
func (x *examination) unlisted(err error) error {
	var e *place.Error
	if errors.As(err, &e) || errors.Is(err, context.Canceled) {
		return err
	}
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
		if is = place.Ignored; bytes.Equal(data, place.Sample) {
			is = place.Works
		}
		return x.p.fail("read", "version", err)
	})
	if !passingTrouble(err) {
		x.Answer(place.ReadVersion, is)
	}
	return nil
}
