package probe

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strings"

	"lumtra/core/object"
	"lumtra/core/place"
)

// examine has the place find out what its store does, and tells it step by step.
func (t *test) examine(data []byte) {
	x := place.Offers(t.p)
	if x.Examines == nil {
		t.r.VerifiesSums = x.StoredSums == object.NoSum // by the place itself
		t.conditions(data)
		return
	}
	facts, err := x.Examines.Examine(t.ctx, t.opts.Prefix+"/")
	if place.IsLeftBehind(err) { // which is all that tells of tidying up
		t.left(err)
	} else if err != nil {
		t.refused("habits", err)
	}
	if len(facts.Answers) == 0 || t.ctx.Err() != nil {
		return
	}
	t.r.Facts = &facts
	if x.Known != nil {
		x.Known.Replace(facts)
	}
	t.r.Promises = x.Promises()
	if facts.Server != "" {
		t.add("server", Fine, "calls itself "+facts.Server, "")
	}
	t.checksums(&facts)
	t.decides(&facts)
	t.lacks(&facts)
	t.names(&facts)
}

// left tells that something of the test may be left, and what kept it from being seen or deleted.
func (t *test) left(err error) {
	step, found := "delete", "something is left of the test: "
	var e *place.Error
	if !errors.As(err, &e) {
		e = place.NewError("", "delete", "", place.Other, err)
	}
	if strings.HasPrefix(e.Op, "list") {
		step, found = "list", "whether something is left of the test cannot be seen: "
	}
	mend := "delete what lies below " + t.opts.Prefix + "/"
	if e.Kind == place.Denied {
		mend += "; ask whoever runs the store for " + permission(t.end, step)
	}
	t.add("tidying up", Refused, found+e.Reason(), mend)
}

// conditions tries one on a place that finds out nothing by itself.
func (t *test) conditions(data []byte) {
	_, err := t.p.Write(t.ctx, t.key, bytes.NewReader(data), probeSize, place.WriteOptions{Condition: place.IfAbsent})
	switch {
	case err == nil:
		t.add("write if absent", Absent,
			"the store writes over what is there; plans look first, and another writer can come between", "")
	case place.KindOf(err) == place.Exists:
		t.r.Conditions = true
		t.add("write if absent", Fine, "what is there is not written over unseen", "")
	default:
		t.refused("write if absent", err)
	}
}

// sums are the ways content is held against a checksum, best first.
var sums = []struct {
	ask  place.Ask
	name string
}{{place.SumBehind, "CRC-64 behind the content"}, {place.SumAhead, "CRC-64 ahead"}, {place.CRC32CAhead, "CRC-32C"},
	{place.SHA256Ahead, "SHA-256"},
	{place.MD5Ahead, "MD5"}, {place.SignedBody, "signed content"}}

// checksums tells what damaged content is turned away by.
func (t *test) checksums(f *place.Facts) {
	var works []string
	for _, s := range sums {
		if f.Answers[s.ask] == place.Works {
			works = append(works, s.name)
		}
	}
	t.r.VerifiesSums = len(works) > 0
	switch {
	case len(works) > 0:
		t.add("checksums", Fine, "damaged content is turned away, by "+strings.Join(works, ", "), "")
	case f.Answers[place.MD5ETag] == place.Works:
		t.add("checksums", Absent,
			"damaged content is taken; the ETag is the MD5 of what arrived, and is held against it", "")
	default:
		t.add("checksums", Absent, "damaged content is taken, and nothing tells: what is written is read back", "")
	}
}

// decides tells which conditions the store keeps to.
func (t *test) decides(f *place.Facts) {
	groups := []struct {
		name string
		asks []place.Ask
		what string
	}{{"conditions", []place.Ask{place.PutIfAbsent, place.PutIfStill}, "objects"},
		{"cond. of parts", []place.Ask{place.JoinIfAbsent, place.JoinIfStill}, "objects in parts"},
		{"cond. of copies", []place.Ask{place.CopyIfAbsent, place.CopyIfStill}, "copies"}}
	t.r.Conditions = true
	for i, g := range groups {
		bad := slices.IndexFunc(g.asks, func(a place.Ask) bool { return f.Answers[a] != place.Works })
		good := bad < 0
		if i < 2 {
			t.r.Conditions = t.r.Conditions && good
		}
		if good {
			found := g.what + " are not written over what nobody looked at"
			if f.Answers[place.QuotedMatch] == place.Refused {
				found += "; If-Match goes without quotes"
			}
			t.add(g.name, Fine, found, "")
			continue
		}
		t.add(g.name, Absent,
			fmt.Sprintf("%s %s: %s are looked at before and after, and another writer may come between",
				[]string{"if absent", "if unchanged"}[bad], heard(f.Answers[g.asks[bad]]), g.what), "")
	}
}

// heard is an answer in words; one that was not understood, or never came, is not known.
func heard(is place.Answer) string {
	if is == "" {
		return "not known"
	}
	return string(is)
}

// lacks tells what else the store does not do, and what is done instead.
func (t *test) lacks(f *place.Facts) {
	for _, x := range []struct {
		ask           place.Ask
		name, instead string
	}{
		{place.JoinSums, "sums of parts", "parts are joined without naming their checksums"},
		{place.JoinWhole, "sum of joined", "objects joined from parts are looked at afterwards"},
		{place.JoinETag, "ETag of joined", "what parts became is asked for"},
		{place.UploadsListed, "uploads listed", "unfinished uploads are found only for keys that are known"},
		{place.ReadRange, "ranges", "a piece of an object is cut from the whole, which is slow"},
		{place.CopyWhole, "copies", "what is copied inside the store passes through here"},
		{place.CopyRange, "range copies", "large objects that are copied inside the store pass through here"},
		{place.RemoveBatch, "batch deletion", "objects are deleted with Content-MD5, or one by one"},
		{place.KeepsMeta, "metadata kept", "original times, permissions and metadata are lost there"},
		{place.KeepsMeta2K, "2 KB metadata", "objects with much metadata are refused there, or lose some"},
		{place.ListsETags, "listed ETags", "what was copied inside is known by the ETag that listings tell, and " +
			"looked at before and after each write"},
		{place.ListsInOrder, "listing order", "listings are sorted here, in memory"},
		{place.ReadVersion, "old versions", "they are kept, and cannot be read"},
	} {
		if is, tried := f.Answers[x.ask]; tried && is != place.Works {
			t.add(x.name, Absent, fmt.Sprintf("%s; %s", is, x.instead), "")
		}
	}
}

// names tells of kinds of names that do not come back as written.
func (t *test) names(f *place.Facts) {
	var odd []string
	for c, is := range f.Names {
		if is != place.Works {
			odd = append(odd, string(c))
		}
	}
	if slices.Sort(odd); len(odd) > 0 {
		t.add("names", Absent, "some are not kept as written, and plans block them: with "+strings.Join(odd, ", "), "")
		return
	}
	t.add("names", Fine, "odd ones come back as written", "")
}
