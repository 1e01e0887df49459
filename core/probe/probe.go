package probe

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"lumtra/core/object"
	"lumtra/core/place"
)

// Options shape a test.
type Options struct {
	// Bucket is where to try; "" takes the first one that is listed.
	Bucket string
	// Small leaves out what a run can do without knowing: it is a test made on the
	// way to a run, below Path in the bucket.
	Small bool
	Path  string
	// Prefix is what all keys of the test start with: see [NewPrefix]; "" for one of
	// its own.
	Prefix string
	// Write allows a probe object to be written and removed.
	Write bool
	// Each, when not nil, hears of the report as it grows.
	Each func(Report)
}

// Run tests an endpoint. It does not return an error: what went wrong is in the
// report. A test that is stopped ends with what it has.
func Run(ctx context.Context, end place.Endpoint, opts Options) *Report {
	t := &test{ctx: ctx, end: end, opts: opts,
		r: &Report{Endpoint: end.Name(), Bucket: opts.Bucket, At: time.Now(), Clean: true}}
	if t.reach() && t.login() && t.open() {
		t.list()
		if !opts.Small {
			t.versioning()
		}
		if opts.Write && !place.Can(t.p).ReadOnly {
			t.r.Wrote = true
			t.write()
		} else if why := "only reading was asked for"; place.Can(t.p).ReadOnly {
			t.add("write", Absent, "this kind of place can only be read", "")
		} else {
			t.add("write", Untried, why, "")
		}
	}
	return t.r
}

type test struct {
	ctx  context.Context
	end  place.Endpoint
	opts Options
	r    *Report
	p    place.Place

	key   string
	began time.Time
	stuck bool // the probe object could not be written
}

// add notes a step, which began with the last one's end.
func (t *test) add(name string, o Outcome, found, mend string) {
	c := Check{Name: name, Outcome: o, Found: found, Mend: mend}
	if !t.began.IsZero() {
		c.Took = time.Since(t.began)
	}
	t.began = time.Now()
	t.r.Checks = append(t.r.Checks, c)
	if t.opts.Each != nil {
		r := *t.r
		r.Checks = slices.Clone(r.Checks)
		t.opts.Each(r)
	}
}

// again asks as often as it takes for an answer to come through; one that never does is no refusal.
func (t *test) again(ask func() error) error {
	var err error
	for n := range 4 {
		if err = ask(); !place.Disturbing(err) && place.KindOf(err) != place.Corrupt || t.ctx.Err() != nil {
			return err
		}
		select {
		case <-time.After(time.Duration(50<<n) * time.Millisecond):
		case <-t.ctx.Done():
		}
	}
	return err
}

// untold notes a step that nobody has answered: what is not refused by the store is not refused.
func (t *test) untold(name string, err error) {
	found := object.Display(err.Error())
	var e *place.Error
	if errors.As(err, &e) {
		found = e.Reason()
	}
	t.add(name, Untried, "not known: "+found, "test it again when the line to the store is quiet")
}

// refused notes a step that failed, and what to ask for.
func (t *test) refused(name string, err error) {
	if name != "reach" && name != "sign in" && (place.Disturbing(err) || place.KindOf(err) == place.Corrupt) {
		t.untold(name, err)
		return
	}
	var e *place.Error
	mend := ""
	if errors.As(err, &e) {
		found := e.Reason()
		switch mend = place.AdviceFor(e); e.Kind {
		case place.Denied:
			mend = "ask whoever runs the store for " + permission(t.end, name) + ", or use other credentials"
		case place.BadLogin:
			mend = "check the credentials: the name, the secret, whether they have expired, and this machine's clock"
		case place.Unreachable:
			mend = "check the address, the network, the proxy and the certificate"
		case place.NotFound:
			mend = "check the bucket's name, or make it"
		}
		t.add(name, Refused, found, mend)
		return
	}
	t.add(name, Refused, object.Display(err.Error()), mend)
}

// Permitter is an [place.Endpoint] that knows what its protocol calls the
// permission for a step of a test.
type Permitter interface {
	Permission(step string) string
}

func permission(end place.Endpoint, step string) string {
	if p, ok := end.(Permitter); ok {
		if name := p.Permission(step); name != "" {
			return "the permission " + name
		}
	}
	return fmt.Sprintf("the permission to %s", step)
}

// Clock is an [place.Endpoint] that can say what time it is at the store,
// without credentials.
type Clock interface {
	Now(ctx context.Context) (time.Time, error)
}

// reach asks for the store's time: the plainest request there is. A store that
// cannot be reached is asked nothing more.
func (t *test) reach() bool {
	t.began = time.Now()
	clock, ok := t.end.(Clock)
	if !ok {
		return true
	}
	began := time.Now()
	there, err := clock.Now(t.ctx)
	if err != nil {
		t.refused("reach", err)
		return place.KindOf(err) == place.Other // it answered, and did not say
	}
	took := time.Since(began)
	t.add("reach", Fine, "answers in "+short(took), "")
	// The header has whole seconds; half of one and half the way are allowed for.
	skew := there.Add(500 * time.Millisecond).Sub(began.Add(took / 2))
	if skew.Abs() < time.Second {
		skew = 0
	}
	t.r.Skew = skew.Round(time.Second)
	switch {
	case skew == 0:
		t.add("clock", Fine, "agrees with this machine's to the second", "")
	case skew.Abs() < 5*time.Minute:
		t.add("clock", Fine, ahead(skew)+"; plans allow for it", "")
	default:
		t.add("clock", Refused, ahead(skew),
			"set this machine's clock, or tell whoever runs the store: signatures are refused when clocks are a "+
				"quarter of an hour apart")
	}
	return true
}

func ahead(skew time.Duration) string {
	if skew < 0 {
		return short(-skew) + " behind this machine's"
	}
	return short(skew) + " ahead of this machine's"
}

func short(d time.Duration) string {
	switch {
	case d < 10*time.Millisecond:
		return fmt.Sprintf("%.1f ms", float64(d)/1e6)
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return d.Round(time.Second).String()
}

// login lists the buckets, which tells whether the credentials are taken. That
// it is not allowed need not be a fault: many credentials are for one bucket.
func (t *test) login() bool {
	b := place.EndpointCan(t.end).Buckets
	if b == nil {
		return true
	}
	var buckets []place.Bucket
	err := t.again(func() (err error) {
		buckets, err = b.Buckets(t.ctx)
		return err
	})
	switch {
	case err == nil && t.r.Bucket == "" && len(buckets) > 0:
		t.r.Bucket = buckets[0].Name
		fallthrough
	case err == nil:
		t.add("list buckets", Fine, fmt.Sprintf("%d seen", len(buckets)), "")
	case place.KindOf(err) == place.BadLogin, place.KindOf(err) == place.Unreachable, t.ctx.Err() != nil:
		t.refused("sign in", err)
		return false
	case t.r.Bucket != "":
		t.add("list buckets", Absent, "not allowed; the bucket is named, so nothing needs it", "")
	default:
		t.refused("list buckets", err)
		t.r.Checks[len(t.r.Checks)-1].Mend += "; or name the bucket in the endpoint's settings"
	}
	if t.r.Bucket == "" {
		t.add("list", Untried, "there is no bucket to try in", "make a bucket, or name one in the endpoint's settings")
		return false
	}
	return true
}

func (t *test) open() bool {
	at := t.r.Bucket
	if t.opts.Path != "" {
		at += "/" + t.opts.Path
	}
	p, err := t.end.Open(strings.TrimPrefix(at, "/"))
	if err != nil {
		t.refused("open", err)
		return false
	}
	t.p = p
	return true
}

func (t *test) list() {
	if err := t.again(func() error { return listed(t.ctx, t.p) }); err != nil {
		t.refused("list", err)
		return
	}
	t.add("list", Fine, "allowed", "")
}

// listed is what becomes of a listing's first answer.
func listed(ctx context.Context, p place.Place) error {
	for _, err := range p.List(ctx, "", place.ListOptions{Shallow: true}) {
		return err
	}
	return nil
}

func (t *test) versioning() {
	s := place.EndpointCan(t.end).Versioning
	if s == nil || t.r.Bucket == "" {
		return
	}
	var v place.Versioning
	err := t.again(func() (err error) {
		v, err = s.Versioning(t.ctx, t.r.Bucket)
		return err
	})
	if err != nil {
		if k := place.KindOf(err); k == place.Unsupported || k == place.Denied {
			t.add("versioning", Absent, "cannot be asked: "+place.KindOf(err).String(), "")
			return
		}
		t.refused("versioning", err)
		return
	}
	t.r.Versioning = v
	found := map[place.Versioning]string{
		place.VersioningOn:        "on: what is replaced or deleted can be brought back",
		place.VersioningOff:       "off: what is replaced or deleted is gone",
		place.VersioningSuspended: "suspended: older versions are kept, new ones are not made",
	}[v]
	t.add("versioning", Fine, found, "")
}

// probeSize is the probe object's: small, but more than nothing.
const probeSize = 1024

// write tries all that needs an object, and removes it.
func (t *test) write() {
	if t.opts.Prefix == "" {
		t.opts.Prefix = NewPrefix()
	}
	t.key = t.opts.Prefix + ".tmp"
	data := []byte(rand.Text())
	data = bytes.Repeat(data, probeSize/len(data)+1)[:probeSize]
	t.r.Clean = false
	defer t.remove()
	var wrote object.Entry
	err := t.again(func() (err error) {
		wrote, err = t.p.Write(t.ctx, t.key, bytes.NewReader(data), probeSize,
			place.WriteOptions{Condition: place.Always, Metadata: map[string]string{"probe": "1"}})
		return err
	})
	if err != nil {
		t.stuck = true
		t.refused("write", err)
		return
	}
	t.add("write", Fine, "allowed", "")
	if wrote.Version != "" && t.r.Versioning == "" {
		t.r.Versioning = place.VersioningOn
		t.add("versioning", Fine, "on: the write made a version", "")
	}
	t.read(data)
	t.times(data)
	t.examine(data)
	t.parts()
	if !t.opts.Small {
		t.extras()
	}
	t.latency()
	t.rates()
}

// errOther tells that what was read is not what was written.
var errOther = place.NewError("", "read", "", place.Corrupt, errors.New("what came back is not what was written"))

func (t *test) read(data []byte) {
	var got []byte
	err := t.again(func() (err error) {
		if got, _, err = place.Open(t.ctx, t.p, t.key, probeSize); err == nil && !bytes.Equal(got, data) {
			err = errOther
		}
		return err
	})
	switch {
	case errors.Is(err, errOther):
		t.add("read", Refused, "what came back is not what was written",
			"do not trust this store with anything before that is explained")
	case err != nil:
		t.refused("read", err)
	default:
		t.add("read", Fine, "allowed, and the same came back", "")
	}
}

const (
	// timeLooks is how often the time of a write is looked at, timeGap how long between: all of a second is met.
	timeLooks = 5
	timeGap   = 230 * time.Millisecond
)

// times finds out how far the times that the store tells may be from this machine's: it writes at several
// moments of a second, and holds what a listing tells against when it wrote.
func (t *test) times(data []byte) {
	if place.Can(t.p).Clock == (place.Clock{}) {
		return
	}
	var c place.Clock
	whole, seen := true, 0
	for n := range timeLooks {
		if n > 0 {
			select {
			case <-time.After(timeGap):
			case <-t.ctx.Done():
				return
			}
		}
		before := time.Now()
		_, err := t.p.Write(t.ctx, t.key, bytes.NewReader(data), probeSize, place.WriteOptions{Condition: place.Always})
		after := time.Now()
		if err != nil {
			continue // it says nothing of times
		}
		for e, err := range t.p.List(t.ctx, t.key, place.ListOptions{}) {
			if err == nil && e.Key == t.key && !e.Modified.IsZero() {
				seen++
				whole = whole && e.Modified.Nanosecond() == 0
				c.Late, c.Early = max(c.Late, e.Modified.Sub(before)), max(c.Early, after.Sub(e.Modified))
			}
			break
		}
	}
	if seen < timeLooks {
		return // what was not seen whole is not known
	}
	if whole { // between the moments that were met
		c.Late, c.Early = c.Late+timeGap, c.Early+timeGap
	}
	t.r.Clock = &c
	t.add("times", Fine, fmt.Sprintf("told up to %s early, %s late",
		short(c.Early), short(c.Late)), "")
}

func (t *test) parts() {
	can := place.Offers(t.p)
	pw := can.Parts
	if pw == nil {
		t.add("parts", Absent, can.Lacks(place.Parts), "")
		return
	}
	err := t.again(func() error {
		up, err := pw.Begin(t.ctx, t.key+".parts", place.WriteOptions{})
		if err != nil {
			return err
		}
		_, err = pw.WritePart(t.ctx, up, 1, 0, bytes.NewReader([]byte("part")), 4, object.Sum{})
		if err == nil {
			_, err = pw.Parts(t.ctx, up)
		}
		ctx, done := t.cleanup()
		defer done()
		return errors.Join(err, pw.Abort(ctx, up))
	})
	if err != nil {
		t.refused("parts", err)
		return
	}
	t.r.Parts = true
	t.add("parts", Fine, "big objects go in parts, and can be taken up again", "")
}

// extras tries tags, metadata and copying inside.
func (t *test) extras() {
	can := place.Offers(t.p)
	if can.Tags != nil {
		err := t.again(func() error {
			return can.Tags.SetTags(t.ctx, object.Ref{Key: t.key}, map[string]string{"probe": "1"})
		})
		t.optional("tags", "can be set", err)
	} else {
		t.add("tags", Absent, can.Lacks(place.Tags), "")
	}
	if can.Metadata != nil {
		err := t.again(func() error {
			_, err := can.Metadata.SetMetadata(t.ctx, object.Ref{Key: t.key},
				place.MetadataChange{Set: map[string]string{"probe": "2"}})
			return err
		})
		t.optional("metadata", "can be changed afterwards", err)
	}
	if can.Copies != nil {
		err := t.again(func() error {
			_, err := can.Copies.CopyFrom(t.ctx, t.p, object.Ref{Key: t.key}, t.key+".copy", place.WriteOptions{})
			return err
		})
		t.optional("copy inside", "nothing passes through here", err)
		ctx, done := t.cleanup()
		defer done()
		t.forget(ctx, t.key+".copy")
	}
}

// optional notes a step that plans can do without.
func (t *test) optional(name, found string, err error) {
	switch {
	case err == nil:
		t.add(name, Fine, found, "")
	case place.KindOf(err) == place.Unsupported:
		t.add(name, Absent, "the store cannot do this", "")
	default:
		t.refused(name, err)
	}
}

func (t *test) latency() {
	var took []time.Duration
	for range 5 {
		began := time.Now()
		if _, err := t.p.Stat(t.ctx, object.Ref{Key: t.key}); err != nil {
			return
		}
		took = append(took, time.Since(began))
	}
	slices.Sort(took)
	t.r.Latency = took[len(took)/2]
	t.add("latency", Fine, short(t.r.Latency)+", the median of five small requests", "")
}

const (
	rateTime  = 700 * time.Millisecond // a measure is good when it took so long
	rateLimit = 32 << 20               // or moved so much
	smallRate = 4 << 20                // the same, on the way to a run
)

// rates measures one stream each way, with content that grows until it tells.
func (t *test) rates() {
	var wrote int64
	limit := int64(rateLimit)
	if t.opts.Small {
		limit = smallRate
	}
	for size := int64(256 << 10); ; size *= 4 {
		began := time.Now()
		if _, err := t.p.Write(t.ctx, t.key, io.LimitReader(noise{}, size), size, place.WriteOptions{}); err != nil {
			t.refused("rate", err)
			return
		}
		took := time.Since(began)
		if wrote, t.r.Up = size, float64(size)/took.Seconds(); took >= rateTime || size*4 > limit {
			break
		}
	}
	began := time.Now()
	r, _, err := t.p.Read(t.ctx, t.key, place.ReadOptions{})
	if err == nil {
		_, err = io.Copy(io.Discard, r)
		r.Close()
	}
	if err != nil {
		t.refused("rate", err)
		return
	}
	t.r.Down = float64(wrote) / time.Since(began).Seconds()
	t.add("rate", Fine, fmt.Sprintf("%s/s there, %s/s back, over one stream", humanize.IBytes(uint64(t.r.Up)),
		humanize.IBytes(uint64(t.r.Down))), "")
}

// noise is content that does not compress much and costs little to make.
type noise struct{}

func (noise) Read(b []byte) (int, error) {
	for i := range b {
		b[i] = byte(i*131) ^ byte(i>>8*29)
	}
	return len(b), nil
}

// cleanup is a context for tidying up, which goes on when the test is stopped.
func (t *test) cleanup() (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.WithoutCancel(t.ctx), 20*time.Second)
}

// forget removes an object and all its versions.
func (t *test) forget(ctx context.Context, key string) error {
	err := t.p.Remove(ctx, object.Ref{Key: key})[0]
	v := place.Offers(t.p).Versions
	if v == nil || t.r.Versioning == place.VersioningOff || err != nil {
		return err
	}
	for e, err := range v.Versions(ctx, key, false) {
		if err != nil {
			return err
		}
		if e.Key == key && e.Version != "" {
			if err := t.p.Remove(ctx, object.Ref{Key: key, Version: e.Version})[0]; err != nil {
				return err
			}
		}
	}
	return nil
}

func (t *test) remove() {
	ctx, done := t.cleanup()
	defer done()
	defer func() { t.r.Clean = t.again(func() error { return Clear(ctx, t.p, t.opts.Prefix) }) == nil }()
	if t.stuck {
		t.add("delete", Untried, "there is nothing of ours to delete", "")
		return
	}
	t.began = time.Now()
	err := t.again(func() error { return t.forget(ctx, t.key) })
	if err == nil {
		err = t.again(func() error {
			_, err := t.p.Stat(ctx, object.Ref{Key: t.key})
			switch {
			case err == nil:
				return errors.New("the store said it was deleted, but it is still there")
			case place.Disturbing(err):
				return err
			}
			return nil
		})
	}
	if err != nil {
		t.refused("delete", err)
		c := &t.r.Checks[len(t.r.Checks)-1]
		c.Found += "; the probe object " + t.key + " stays behind"
		return
	}
	t.add("delete", Fine, "allowed; nothing is left of the test", "")
}
