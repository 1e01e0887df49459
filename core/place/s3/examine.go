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
	facts, err := place.Examined(ctx, func(name string) (*place.Examination, error) {
		return p.examine(ctx, prefix+name+"/")
	})
	done, stop := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
	defer stop()
	return facts, errors.Join(err, place.LeftBehind(p.ClearAway(done, prefix)))
}

// examine is one pass.
func (p *Place) examine(ctx context.Context, prefix string) (*place.Examination, error) {
	x := &examination{p: p, ctx: ctx, prefix: prefix, Examination: place.NewExamination()}
	err := x.first()
	if err == nil {
		err = x.conditions() // which the others build on
	}
	if err == nil {
		var group errgroup.Group
		group.SetLimit(6)
		for _, try := range []func() error{x.sumsAhead, x.sumBehind, x.joins, x.copies, x.removals, x.names, x.ranges,
			x.metadata, x.replaced, x.tags, x.listings, x.versions} {
			group.Go(try)
		}
		err = group.Wait()
	}
	return x.Examination, err
}

// examination is one under way.
type examination struct {
	*place.Examination
	p      *Place
	ctx    context.Context
	prefix string
	signed bool // contents have to be covered by the signature
}

// try sends a request, and again when it met with trouble of no meaning.
func (x *examination) try(once func() error) error {
	var err error
	for range 4 {
		if err = once(); !place.Disturbing(err) || x.ctx.Err() != nil {
			return err
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-x.ctx.Done():
		}
	}
	return err
}

// surely does what is right, and again when it is turned away as damaged: a line may have made it so.
func (x *examination) surely(once func() error) error {
	var err error
	for range 4 {
		if err = once(); place.KindOf(err) != place.Corrupt || err == nil || x.ctx.Err() != nil {
			return err
		}
	}
	return err
}

// right writes what has to be taken.
func (x *examination) right(key string, data []byte, h http.Header) (answer http.Header, err error) {
	err = x.surely(func() (err error) {
		answer, err = x.put(key, data, h)
		return err
	})
	return answer, err
}

// put writes a small object with the given headers, which may be nil.
func (x *examination) put(key string, data []byte, h http.Header) (answer http.Header, err error) {
	err = x.try(func() error {
		answer, err = x.putOnce(key, data, h)
		return err
	})
	return answer, err
}

func (x *examination) putOnce(key string, data []byte, h http.Header) (http.Header, error) {
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
		return nil, err
	}
	drain(resp)
	return resp.Header, nil
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
	if err != nil && !place.Disturbing(err) {
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
	x.tells("plain", place.MD5ETag, etagOf(there) == hex.EncodeToString(digest[:]))
	return nil
}

// tells answers an ask about what a store tells of an object that holds the sample. What it tells of
// another, which a line has made of it, is right and says nothing.
func (x *examination) tells(key string, a place.Ask, is bool) {
	data, err := x.get(key)
	switch {
	case is:
		x.Answer(a, place.Works)
	case err != nil || !bytes.Equal(data, place.Sample):
		x.Disturb(a)
	default:
		x.Answer(a, place.Ignored)
	}
}

// conditions writes under conditions that hold and that do not.
func (x *examination) conditions() error {
	if _, err := x.put("guarded", place.Sample, nil); err != nil {
		return err
	}
	_, right := x.right("guarded-new", place.Sample, http.Header{"If-None-Match": {"*"}})
	_, wrong := x.put("guarded", place.Another, http.Header{"If-None-Match": {"*"}})
	x.Conclude(place.PutIfAbsent, right, wrong, place.Exists, place.Changed)
	x.matches("guarded", place.PutIfStill, true, func(match string) error {
		_, err := x.right("guarded", place.Sample, http.Header{"If-Match": {match}})
		return err
	})
	return nil
}

// matches tries If-Match with the ETag that is there, and with another. learn has
// it found out whether the ETag goes with quotes.
func (x *examination) matches(key string, a place.Ask, learn bool, act func(match string) error) {
	there, err := x.head(key)
	if err != nil {
		x.Disturb(a)
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
	x.Conclude(a, right, wrong, place.Exists, place.Changed, place.NotFound)
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
		_, right := x.right(key, place.Sample, http.Header{sumHeaders[kind]: {sum.Base64()}})
		kept, err := x.head(key)
		if ask == place.SumAhead {
			if err == nil && right == nil {
				x.tells(key, place.KeepsSum, kept.Get(sumHeaders[kind]) == sum.Base64())
			} else if place.Disturbing(err) || place.Disturbing(right) {
				x.Disturb(place.KeepsSum)
			} else {
				x.Answer(place.KeepsSum, place.Ignored)
			}
		}
		_, wrong := x.put(key, place.Another, http.Header{sumHeaders[kind]: {sum.Base64()}})
		x.Conclude(ask, right, wrong)
	}
	digest := md5.Sum(place.Sample)
	md5Header := http.Header{"Content-Md5": {base64.StdEncoding.EncodeToString(digest[:])}}
	_, right := x.right("summed-md5", place.Sample, md5Header)
	_, wrong := x.put("summed-md5", place.Another, md5Header)
	x.Conclude(place.MD5Ahead, right, wrong)
	signed := http.Header{"X-Amz-Content-Sha256": {sha256Hex(place.Sample)}}
	_, right = x.right("signed", place.Sample, signed)
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
	right := x.surely(func() error { return x.behindOnce("trailed", false) })
	if right == nil {
		// Of another length it is framing, stored with the content; else a line has made it another.
		if data, err := x.get("trailed"); err == nil && len(data) != len(place.Sample) {
			right = errors.New("the framing was stored with the content")
		}
	}
	x.Conclude(place.SumBehind, right, x.behindOnce("trailed", true))
	return nil
}

// ranges reads a piece from the middle.
func (x *examination) ranges() error {
	var data []byte
	partial := false
	err := x.try(func() error {
		resp, err := x.p.do(x.ctx, request{method: http.MethodGet, op: "read", key: x.prefix + "plain",
			header: http.Header{"Range": {"bytes=3-7"}}})
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		partial = resp.StatusCode == http.StatusPartialContent
		data, err = io.ReadAll(io.LimitReader(resp.Body, 1<<10))
		return x.p.fail("read", "plain", err)
	})
	switch {
	case place.Disturbing(err):
		x.Disturb(place.ReadRange)
	default: // what comes of another length is no range
		x.Answer(place.ReadRange, place.Done(err == nil && partial && len(data) == 5))
	}
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
		x.Refuse(err, place.CopyWhole, place.CopySourceStill, place.CopyIfAbsent, place.CopyIfStill, place.CopyRange)
		return nil
	}
	if data, err := x.get("copied"); err == nil && len(data) == len(place.Sample) {
		x.Answer(place.CopyWhole, place.Works)
	} else {
		x.Refuse(err, place.CopyWhole)
	}
	x.listedETag("copied")
	if there, err := x.head("plain"); err == nil {
		form := quoted
		if x.unquoted() {
			form = func(etag string) string { return etag }
		}
		right := act("copied", http.Header{"X-Amz-Copy-Source-If-Match": {form(etagOf(there))}})
		x.Conclude(place.CopySourceStill, right,
			act("copied", http.Header{"X-Amz-Copy-Source-If-Match": {form("0123456789abcdef0123456789abcdef")}}),
			place.Changed)
	} else {
		x.Disturb(place.CopySourceStill)
	}
	x.Conclude(place.CopyIfAbsent, act("copied-new", http.Header{"If-None-Match": {"*"}}),
		act("copied", http.Header{"If-None-Match": {"*"}}), place.Exists, place.Changed)
	x.matches("copied", place.CopyIfStill, false,
		func(match string) error { return act("copied", http.Header{"If-Match": {match}}) })
	x.copyRange(source)
	return nil
}

// listedETag looks whether a listing tells of an object what an answer about it alone tells.
func (x *examination) listedETag(key string) {
	there, err := x.head(key)
	if err != nil {
		x.Disturb(place.ListsETags)
		return
	}
	same, failed := false, error(nil)
	for range 3 { // a line may have changed one look
		failed = x.try(func() error {
			e, err := x.p.listed(x.ctx, x.prefix+key)
			same = same || err == nil && e.ETag == etagOf(there)
			return err
		})
	}
	if failed != nil && !same {
		x.Disturb(place.ListsETags)
		return
	}
	x.Answer(place.ListsETags, place.Done(same))
}

func (x *examination) copyRange(source string) {
	up, err := x.begin("copied-range", false)
	if err == nil {
		err = x.try(func() error {
			resp, err := x.p.do(x.ctx, request{method: http.MethodPut, op: "copy part", key: x.prefix + "copied-range",
				query:  url.Values{"partNumber": {"1"}, "uploadId": {up}},
				header: http.Header{"X-Amz-Copy-Source": {source}, "X-Amz-Copy-Source-Range": {"bytes=0-9"}}})
			if err == nil {
				drain(resp)
			}
			return err
		})
		x.abort("copied-range", up)
	}
	switch kind := place.KindOf(err); {
	case err == nil:
		x.Answer(place.CopyRange, place.Works)
	case kind == place.NotFound: // the upload's name came damaged
		x.Disturb(place.CopyRange)
	default:
		x.Refuse(err, place.CopyRange)
	}
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
		err := x.surely(func() error {
			return x.try(func() error { return x.p.removeMany(x.ctx, refs, []int{0, 1}, errs, ask) })
		})
		if kind := place.KindOf(errs[0]); errs[0] != nil && (kind == place.Denied || kind == place.BadLogin) {
			return nil // nothing is said about the way
		}
		if err := errors.Join(err, errs[0], errs[1]); err != nil {
			x.Refuse(err, ask)
			continue
		}
		switch _, err := x.head("gone-1"); {
		case err == nil:
			x.Answer(ask, place.Ignored)
		case place.KindOf(err) == place.NotFound:
			x.Answer(ask, place.Works)
		default:
			x.Disturb(ask)
		}
	}
	return nil
}

// names writes one name of each kind, and looks what a listing makes of them.
func (x *examination) names() error {
	for c, name := range place.OddNames {
		if _, err := x.put(place.FolderFor(c)+name, place.Sample, nil); err != nil {
			if place.Disturbing(err) || place.KindOf(err) == place.Corrupt {
				x.DisturbName(c)
			} else {
				x.Name(c, place.Refused)
			}
			continue
		}
		is, err := x.listedAs(place.FolderFor(c), name)
		if err != nil {
			x.DisturbName(c)
			continue
		}
		x.Name(c, place.Done(is))
	}
	return nil
}

// listedAs tells whether a folder lists a name. One that a line has changed is listed by the next look.
func (x *examination) listedAs(folder, name string) (bool, error) {
	var err error
	for range 3 {
		err = x.try(func() error {
			for e, err := range x.p.paged(x.ctx, x.prefix+folder, place.ListOptions{}) {
				if err != nil {
					return err
				}
				if e.Key == x.prefix+folder+name {
					return errSeen
				}
			}
			return nil
		})
		if errors.Is(err, errSeen) {
			return true, nil
		}
	}
	return false, err
}

// errSeen ends a listing that has shown what was looked for.
var errSeen = errors.New("seen")

// ClearAway removes all that an Examine writes.
func (p *Place) ClearAway(ctx context.Context, prefix string) error {
	var refs []object.Ref
	for n := range place.MostPasses { // names which a listing may be unable to tell
		below := prefix + place.PassName(n) + "/"
		for _, c := range []place.NameClass{place.Controls, place.LineBreaks, place.NonChars} {
			refs = append(refs, object.Ref{Key: below + place.FolderFor(c) + place.OddNames[c]})
		}
		for _, name := range ordered {
			refs = append(refs, object.Ref{Key: below + "order/" + name})
		}
	}
	var unlisted error // what is known of goes all the same
	for e, err := range p.paged(ctx, prefix, place.ListOptions{}) {
		if unlisted = err; err == nil {
			refs = append(refs, object.Ref{Key: e.Key})
		}
	}
	err := errors.Join(unlisted, errors.Join(p.Remove(ctx, refs...)...), p.dropUploads(ctx, prefix))
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

// joinedKeys are those that uploads are begun for.
var joinedKeys = []string{"joined", "joined-wrong", "joined-new", "begun", "copied-range"}

// dropUploads drops what was begun below a prefix and neither joined nor dropped, also where the answer that
// told its name was lost or damaged.
func (p *Place) dropUploads(ctx context.Context, prefix string) error {
	ups, err := p.uploads(ctx, p.prefix+prefix)
	if len(ups) == 0 && !p.store.known.Does(place.UploadsListed) { // some list only those of a key
		for n := range place.MostPasses {
			for _, key := range joinedKeys {
				more, bad := p.UploadsOf(ctx, prefix+place.PassName(n)+"/"+key)
				ups, err = append(ups, more...), errors.Join(err, bad)
			}
		}
	}
	for _, up := range ups {
		err = errors.Join(err, p.Abort(ctx, up))
	}
	return err
}
