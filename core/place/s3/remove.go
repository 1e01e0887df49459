package s3

import (
	"bytes"
	"context"
	"crypto/md5"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"hash/crc32"
	"io"
	"net/http"
	"net/url"

	"golang.org/x/sync/errgroup"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/wire"
)

// removers is how many removals are under way at a time where a store takes one
// object a request.
const removers = 16

// removeBatch removes many objects, in as few requests as the store takes.
func (p *Place) removeBatch(ctx context.Context, refs []object.Ref, batch []int, errs []error) {
	k := p.store.known
	for _, ask := range []place.Ask{place.RemoveBatch, place.RemoveBatchMD5} {
		if len(batch) < 2 || k.Lacks(ask) {
			continue
		}
		err := p.adapt(p.removeMany(ctx, refs, batch, errs, ask), ask)
		if err != nil && place.KindOf(err) == place.Otherwise {
			continue
		}
		for _, i := range batch {
			if err != nil {
				mine := *err.(*place.Error)
				mine.Key = refs[i].Key
				errs[i] = &mine
			}
		}
		return
	}
	var group errgroup.Group
	group.SetLimit(removers)
	for _, i := range batch {
		group.Go(func() error {
			errs[i] = p.removeOne(ctx, refs[i])
			return nil
		})
	}
	group.Wait()
}

// removal is one object in a request for many.
type removal struct {
	Key       string
	VersionID string `xml:"VersionId,omitempty"`
}

// removeMany asks for up to a thousand removals at once (DeleteObjects). What
// stands against single ones goes into errs; an error is about the request.
func (p *Place) removeMany(ctx context.Context, refs []object.Ref, batch []int, errs []error, ask place.Ask) error {
	doc := struct {
		XMLName xml.Name `xml:"http://s3.amazonaws.com/doc/2006-03-01/ Delete"`
		Quiet   bool
		Object  []removal
	}{Quiet: true}
	at := make(map[removal]int, len(batch))
	for _, i := range batch {
		x := removal{p.prefix + refs[i].Key, refs[i].Version}
		doc.Object, at[x] = append(doc.Object, x), i
	}
	raw, err := xml.Marshal(doc)
	if err != nil {
		return place.NewError(p.name, "delete", "", place.Other, err)
	}
	r := request{bucket: true, method: http.MethodPost, op: "delete", query: url.Values{"delete": {""}}}
	summed(&r, raw, ask == place.RemoveBatchMD5)
	resp, err := p.do(ctx, r)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	var out struct {
		Error []struct{ Key, VersionId, Code, Message string }
	}
	answer, err := io.ReadAll(wire.Limited(resp.Body, wire.MostAnswer))
	if err == nil {
		err = xml.Unmarshal(answer, &out)
	}
	if err != nil {
		return place.NewError(p.name, "delete", "", place.Unreachable, err)
	}
	for _, bad := range out.Error {
		if i, ok := at[removal{bad.Key, bad.VersionId}]; ok && bad.Code != "NoSuchKey" {
			kind := errorKind(0, bad.Code)
			if bad.Code == "AccessDenied" {
				kind = place.Denied
			}
			e := place.NewError(p.name, "delete", refs[i].Key, kind, errors.New(bad.Message))
			e.Code, e.Request = bad.Code, resp.Header.Get("X-Amz-Request-Id")
			errs[i] = e
		}
	}
	return nil
}

// summed makes a document the body of a request, with a checksum of it ahead: by
// Content-MD5, or by CRC-32, one of which such requests have to have.
func summed(r *request, doc []byte, byMD5 bool) {
	if r.header == nil {
		r.header = http.Header{}
	}
	r.header.Set("Content-Type", "application/xml")
	if byMD5 {
		digest := md5.Sum(doc)
		r.header.Set("Content-Md5", base64.StdEncoding.EncodeToString(digest[:]))
	} else {
		sum := crc32.NewIEEE()
		sum.Write(doc)
		r.header.Set("X-Amz-Sdk-Checksum-Algorithm", "CRC32")
		r.header.Set("X-Amz-Checksum-Crc32", base64.StdEncoding.EncodeToString(sum.Sum(nil)))
	}
	r.body, r.size, r.payload = bytes.NewReader(doc), int64(len(doc)), sha256Hex(doc)
}

// tell sends a document, with the checksum that the store takes.
func (p *Place) tell(ctx context.Context, r request, doc any) error {
	raw, err := xml.Marshal(doc)
	if err != nil {
		return p.fail(r.op, r.key, err)
	}
	for {
		sent := r
		sent.header = r.header.Clone()
		lacks := p.store.known.Lacks(place.SumAhead)
		summed(&sent, raw, lacks)
		_, err := p.ask(ctx, sent)
		if err != nil && !lacks {
			if adapted := p.adapt(err, place.SumAhead); place.KindOf(adapted) == place.Otherwise {
				continue
			}
		}
		return err
	}
}
