package s3

import (
	"bytes"
	"context"
	"crypto/md5"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"lumtra/core/object"
	"lumtra/core/place"
)

var _ place.Examiner = (*Place)(nil)

// Examine tries all that Lumtra may ask of a store, with small objects below
// prefix. It sends plain requests of its own, right ones and wrong ones, and holds
// the answers, and what is there afterwards, against what the API's reference says.
// The groups have nothing to do with each other and are tried side by side.
func (p *Place) Examine(ctx context.Context, prefix string) (place.Facts, error) {
	x := &examination{p: p, ctx: ctx, prefix: prefix, Examination: place.NewExamination()}
	err := x.first()
	if err == nil {
		err = x.conditions() // which the others build on
	}
	if err == nil {
		var group errgroup.Group
		group.SetLimit(6)
		for _, try := range []func() error{x.sumsAhead, x.sumBehind, x.joins, x.copies, x.removals, x.names, x.ranges,
			x.metadata, x.tags, x.listings, x.versions} {
			group.Go(try)
		}
		err = group.Wait()
	}
	done, stop := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
	defer stop()
	return x.Facts(), errors.Join(err, p.ClearAway(done, prefix))
}

// examination is one under way.
type examination struct {
	*place.Examination
	p      *Place
	ctx    context.Context
	prefix string
	signed bool // contents have to be covered by the signature
}

// passing tells of an error that says nothing about the store's ways.
func passingTrouble(err error) bool {
	switch place.KindOf(err) {
	case place.Unreachable, place.Throttled, place.Cancelled:
		return err != nil
	case place.ServerFault:
		var e *place.Error
		return errors.As(err, &e) && e.Status != http.StatusNotImplemented
	}
	return false
}

// try sends a request, and again when it met with trouble of no meaning.
func (x *examination) try(once func() error) error {
	var err error
	for range 4 {
		if err = once(); !passingTrouble(err) || x.ctx.Err() != nil {
			return err
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-x.ctx.Done():
		}
	}
	return err
}

// put writes a small object with the given headers, which may be nil.
func (x *examination) put(key string, data []byte, h http.Header) (http.Header, error) {
	var answer http.Header
	err := x.try(func() error {
		r := request{method: http.MethodPut, op: "write", key: x.prefix + key, header: h.Clone(),
			body: bytes.NewReader(data), size: int64(len(data)), payload: unsignedPayload}
		if x.signed {
			r.payload = sha256Hex(data)
		}
		if given := h.Get("X-Amz-Content-Sha256"); given != "" {
			r.payload = given
		}
		resp, err := x.p.do(x.ctx, r)
		if err != nil {
			return err
		}
		drain(resp)
		answer = resp.Header
		return nil
	})
	return answer, err
}

// get reads an object as it is.
func (x *examination) get(key string) (data []byte, err error) {
	err = x.try(func() error {
		resp, err := x.p.do(x.ctx, request{method: http.MethodGet, op: "read", key: x.prefix + key})
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		data, err = io.ReadAll(io.LimitReader(resp.Body, 1<<20))
		return x.p.fail("read", key, err)
	})
	return data, err
}

func (x *examination) head(key string) (h http.Header, err error) {
	err = x.try(func() error {
		resp, err := x.p.do(x.ctx, request{method: http.MethodHead, op: "stat", key: x.prefix + key,
			header: http.Header{"X-Amz-Checksum-Mode": {"ENABLED"}}})
		if err != nil {
			return err
		}
		resp.Body.Close()
		h = resp.Header
		return nil
	})
	return h, err
}

// first writes an object plainly: what nothing can be done without.
func (x *examination) first() error {
	h, err := x.put("plain", place.Sample, nil)
	if err != nil && !passingTrouble(err) {
		first := err
		x.signed = true
		if h, err = x.put("plain", place.Sample, nil); err != nil {
			return first
		}
		x.Answer(place.UnsignedBody, place.Refused)
	} else if err == nil {
		x.Answer(place.UnsignedBody, place.Works)
	}
	if err != nil {
		return err
	}
	x.Server(object.Display(h.Get("Server")))
	there, err := x.head("plain")
	if err != nil {
		return err
	}
	digest := md5.Sum(place.Sample)
	is := place.Ignored
	if etagOf(there) == hex.EncodeToString(digest[:]) {
		is = place.Works
	}
	x.Answer(place.MD5ETag, is)
	return nil
}

// conditions writes under conditions that hold and that do not.
func (x *examination) conditions() error {
	if _, err := x.put("guarded", place.Sample, nil); err != nil {
		return err
	}
	_, right := x.put("guarded-new", place.Sample, http.Header{"If-None-Match": {"*"}})
	_, wrong := x.put("guarded", place.Another, http.Header{"If-None-Match": {"*"}})
	x.Conclude(place.PutIfAbsent, right, wrong)
	x.matches("guarded", place.PutIfStill, true, func(match string) error {
		_, err := x.put("guarded", place.Sample, http.Header{"If-Match": {match}})
		return err
	})
	return nil
}

// matches tries If-Match with the ETag that is there, and with another. learn has
// it found out whether the ETag goes with quotes.
func (x *examination) matches(key string, a place.Ask, learn bool, act func(match string) error) {
	there, err := x.head(key)
	if err != nil {
		x.Answer(a, place.Refused)
		return
	}
	form := quoted
	if !learn && x.unquoted() {
		form = func(etag string) string { return etag }
	}
	wrong := act(form("0123456789abcdef0123456789abcdef"))
	if wrong == nil {
		x.Answer(a, place.Ignored)
		return
	}
	right := act(form(etagOf(there)))
	if learn && place.KindOf(right) == place.Changed && right != nil {
		if bare := act(etagOf(there)); bare == nil {
			x.Answer(place.QuotedMatch, place.Refused)
			right = nil
		}
	} else if learn && right == nil {
		x.Answer(place.QuotedMatch, place.Works)
	}
	x.Conclude(a, right, wrong)
}

func (x *examination) unquoted() bool {
	return x.Found(place.QuotedMatch) == place.Refused
}

// sumsAhead sends checksums ahead of content, right ones and wrong ones.
func (x *examination) sumsAhead() error {
	for ask, kind := range map[place.Ask]object.SumKind{place.SumAhead: object.CRC64NVME,
		place.CRC32CAhead: object.CRC32C, place.SHA256Ahead: object.SHA256} {
		h := kind.New()
		h.Write(place.Sample)
		sum := object.SumOf(kind, h)
		key := "summed-" + kind.String()
		_, right := x.put(key, place.Sample, http.Header{sumHeaders[kind]: {sum.Base64()}})
		kept, _ := x.head(key)
		_, wrong := x.put(key, place.Another, http.Header{sumHeaders[kind]: {sum.Base64()}})
		x.Conclude(ask, right, wrong)
		if ask == place.SumAhead {
			is := place.Ignored
			if right == nil && kept.Get(sumHeaders[kind]) == sum.Base64() {
				is = place.Works
			}
			x.Answer(place.KeepsSum, is)
		}
	}
	digest := md5.Sum(place.Sample)
	md5Header := http.Header{"Content-Md5": {base64.StdEncoding.EncodeToString(digest[:])}}
	_, right := x.put("summed-md5", place.Sample, md5Header)
	_, wrong := x.put("summed-md5", place.Another, md5Header)
	x.Conclude(place.MD5Ahead, right, wrong)
	signed := http.Header{"X-Amz-Content-Sha256": {sha256Hex(place.Sample)}}
	_, right = x.put("signed", place.Sample, signed)
	_, wrong = x.put("signed", place.Another, signed)
	x.Conclude(place.SignedBody, right, wrong)
	return nil
}

// behindOnce sends content with its checksum behind it.
func (x *examination) behindOnce(key string, spoil bool) error {
	return x.try(func() error {
		t := newTrailing(bytes.NewReader(place.Sample), int64(len(place.Sample)))
		raw, err := io.ReadAll(t)
		if err != nil {
			return err
		}
		if spoil { // a letter of the content, not of what frames it
			i := bytes.IndexByte(raw, 'S')
			raw[i] = 's'
		}
		resp, err := x.p.do(x.ctx, request{method: http.MethodPut, op: "write", key: x.prefix + key,
			payload: unsignedTrailer, size: int64(len(raw)), body: bytes.NewReader(raw),
			header: http.Header{"Content-Encoding": {"aws-chunked"},
				"X-Amz-Decoded-Content-Length": {itoa(len(place.Sample))}, "X-Amz-Trailer": {trailerName}}})
		if err == nil {
			drain(resp)
		}
		return err
	})
}

func (x *examination) sumBehind() error {
	right := x.behindOnce("trailed", false)
	if right == nil {
		if data, err := x.get("trailed"); err == nil && !bytes.Equal(data, place.Sample) {
			right = errors.New("the framing was stored with the content")
		}
	}
	x.Conclude(place.SumBehind, right, x.behindOnce("trailed", true))
	return nil
}

// ranges reads a piece from the middle.
func (x *examination) ranges() error {
	is := place.Ignored
	resp, err := x.p.do(x.ctx, request{method: http.MethodGet, op: "read", key: x.prefix + "plain",
		header: http.Header{"Range": {"bytes=3-7"}}})
	if err == nil {
		data, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<10))
		resp.Body.Close()
		if resp.StatusCode == http.StatusPartialContent && bytes.Equal(data, place.Sample[3:8]) {
			is = place.Works
		}
	}
	x.Answer(place.ReadRange, is)
	return nil
}

// copies copies inside the store, whole and by range, and onto what is there.
func (x *examination) copies() error {
	source := escapePath("/" + x.p.bucket + "/" + x.p.prefix + x.prefix + "plain")
	act := func(key string, h http.Header) error {
		return x.try(func() error {
			h := h.Clone()
			h.Set("X-Amz-Copy-Source", source)
			resp, err := x.p.do(x.ctx, request{method: http.MethodPut, op: "copy", key: x.prefix + key, header: h})
			if err == nil {
				drain(resp)
			}
			return err
		})
	}
	if err := act("copied", http.Header{}); err != nil {
		for _, a := range []place.Ask{place.CopyWhole, place.CopySourceStill, place.CopyIfAbsent, place.CopyIfStill,
			place.CopyRange} {
			x.Answer(a, place.Refused)
		}
		return nil
	}
	is := place.Ignored
	if data, err := x.get("copied"); err == nil && bytes.Equal(data, place.Sample) {
		is = place.Works
	}
	x.Answer(place.CopyWhole, is)
	if there, err := x.head("plain"); err == nil {
		form := quoted
		if x.unquoted() {
			form = func(etag string) string { return etag }
		}
		right := act("copied", http.Header{"X-Amz-Copy-Source-If-Match": {form(etagOf(there))}})
		x.Conclude(place.CopySourceStill, right,
			act("copied", http.Header{"X-Amz-Copy-Source-If-Match": {form("0123456789abcdef0123456789abcdef")}}))
	}
	x.Conclude(place.CopyIfAbsent, act("copied-new", http.Header{"If-None-Match": {"*"}}),
		act("copied", http.Header{"If-None-Match": {"*"}}))
	x.matches("copied", place.CopyIfStill, false,
		func(match string) error { return act("copied", http.Header{"If-Match": {match}}) })
	x.copyRange(source)
	return nil
}

func (x *examination) copyRange(source string) {
	is := place.Refused
	up, err := x.begin("copied-range", false)
	if err == nil {
		resp, err := x.p.do(x.ctx, request{method: http.MethodPut, op: "copy part", key: x.prefix + "copied-range",
			query:  url.Values{"partNumber": {"1"}, "uploadId": {up}},
			header: http.Header{"X-Amz-Copy-Source": {source}, "X-Amz-Copy-Source-Range": {"bytes=0-9"}}})
		if err == nil {
			drain(resp)
			is = place.Works
		}
		x.abort("copied-range", up)
	}
	x.Answer(place.CopyRange, is)
}

// removals removes two at once.
func (x *examination) removals() error {
	for _, ask := range []place.Ask{place.RemoveBatch, place.RemoveBatchMD5} {
		refs := []object.Ref{{Key: x.prefix + "gone-1"}, {Key: x.prefix + "gone-2"}}
		for _, ref := range refs {
			if _, err := x.put(strings.TrimPrefix(ref.Key, x.prefix), place.Sample, nil); err != nil {
				return err
			}
		}
		errs := make([]error, 2)
		err := x.try(func() error { return x.p.removeMany(x.ctx, refs, []int{0, 1}, errs, ask) })
		is := place.Works
		if err != nil || errs[0] != nil || errs[1] != nil {
			is = place.Refused
		} else if _, err := x.head("gone-1"); err == nil {
			is = place.Ignored
		}
		if kind := place.KindOf(errs[0]); errs[0] != nil && (kind == place.Denied || kind == place.BadLogin) {
			return nil // nothing is said about the way
		}
		x.Answer(ask, is)
	}
	return nil
}

// names writes one name of each kind, and looks what a listing makes of them.
func (x *examination) names() error {
	for c, name := range place.OddNames {
		if _, err := x.put(place.FolderFor(c)+name, place.Sample, nil); err != nil {
			if !passingTrouble(err) {
				x.Name(c, place.Refused)
			}
			continue
		}
		there := false
		for e, err := range x.p.paged(x.ctx, x.prefix+place.FolderFor(c), place.ListOptions{}) {
			if err != nil {
				return err
			}
			there = there || e.Key == x.prefix+place.FolderFor(c)+name
		}
		x.Name(c, place.Done(there))
	}
	return nil
}

// ClearAway removes all that an Examine writes.
func (p *Place) ClearAway(ctx context.Context, prefix string) error {
	var refs []object.Ref
	for _, c := range []place.NameClass{place.Controls} { // which a listing may be unable to name
		refs = append(refs, object.Ref{Key: prefix + place.FolderFor(c) + place.OddNames[c]})
	}
	for _, name := range ordered {
		refs = append(refs, object.Ref{Key: prefix + "order/" + name})
	}
	for e, err := range p.paged(ctx, prefix, place.ListOptions{}) {
		if err != nil {
			return err
		}
		refs = append(refs, object.Ref{Key: e.Key})
	}
	err := errors.Join(p.Remove(ctx, refs...)...)
	for e, bad := range p.Versions(ctx, prefix, false) {
		if bad != nil {
			break // versions are not kept, or not to be listed
		}
		if e.Version != "" && e.Version != "null" {
			err = errors.Join(err, p.removeOne(ctx, object.Ref{Key: e.Key, Version: e.Version}))
		}
	}
	return err
}
