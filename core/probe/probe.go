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
	t := &test{ctx: ctx, end: end, opts: opts, r: &Report{Endpoint: end.Name(), Bucket: opts.Bucket, At: time.Now()}}
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

// refused notes a step that failed, and what to ask for.
func (t *test) refused(name string, err error) {
	var e *place.Error
	mend := ""
	if errors.As(err, &e) {
		found := e.Reason()
		switch mend = e.Kind.Advice(); e.Kind {
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
	buckets, err := b.Buckets(t.ctx)
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
	for _, err := range t.p.List(t.ctx, "", place.ListOptions{Shallow: true}) {
		if err != nil {
			t.refused("list", err)
			return
		}
		break
	}
	t.add("list", Fine, "allowed", "")
}

func (t *test) versioning() {
	s := place.EndpointCan(t.end).Versioning
	if s == nil || t.r.Bucket == "" {
		return
	}
	v, err := s.Versioning(t.ctx, t.r.Bucket)
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
	defer t.remove()
	wrote, err := t.p.Write(t.ctx, t.key, bytes.NewReader(data), probeSize,
		place.WriteOptions{Condition: place.Always, Metadata: map[string]string{"probe": "1"}})
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
	t.examine(data)
	t.parts()
	if !t.opts.Small {
		t.extras()
	}
	t.latency()
	t.rates()
}

func (t *test) read(data []byte) {
	got, _, err := place.Open(t.ctx, t.p, t.key, probeSize)
	switch {
	case err != nil:
		t.refused("read", err)
	case !bytes.Equal(got, data):
		t.add("read", Refused, "what came back is not what was written",
			"do not trust this store with anything before that is explained")
	default:
		t.add("read", Fine, "allowed, and the same came back", "")
	}
}

func (t *test) parts() {
	can := place.Offers(t.p)
	pw := can.Parts
	if pw == nil {
		t.add("parts", Absent, can.Lacks(place.Parts), "")
		return
	}
	up, err := pw.Begin(t.ctx, t.key+".parts", place.WriteOptions{})
	if err == nil {
		_, err = pw.WritePart(t.ctx, up, 1, 0, bytes.NewReader([]byte("part")), 4, object.Sum{})
		if err == nil {
			_, err = pw.Parts(t.ctx, up)
		}
		ctx, done := t.cleanup()
		defer done()
		if gone := pw.Abort(ctx, up); err == nil {
			err = gone
		}
	}
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
		err := can.Tags.SetTags(t.ctx, object.Ref{Key: t.key}, map[string]string{"probe": "1"})
		t.optional("tags", "can be set", err)
	} else {
		t.add("tags", Absent, can.Lacks(place.Tags), "")
	}
	if can.Metadata != nil {
		_, err := can.Metadata.SetMetadata(t.ctx, object.Ref{Key: t.key},
			place.MetadataChange{Set: map[string]string{"probe": "2"}})
		t.optional("metadata", "can be changed afterwards", err)
	}
	if can.Copies != nil {
		_, err := can.Copies.CopyFrom(t.ctx, t.p, object.Ref{Key: t.key}, t.key+".copy", place.WriteOptions{})
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
	if t.stuck {
		t.add("delete", Untried, "there is nothing of ours to delete", "")
		return
	}
	ctx, done := t.cleanup()
	defer done()
	t.began = time.Now()
	err := t.forget(ctx, t.key)
	if err == nil {
		if _, there := t.p.Stat(ctx, object.Ref{Key: t.key}); there == nil {
			err = errors.New("the store said it was deleted, but it is still there")
		}
	}
	if err != nil {
		t.refused("delete", err)
		c := &t.r.Checks[len(t.r.Checks)-1]
		c.Found += "; the probe object " + t.key + " stays behind"
		return
	}
	t.add("delete", Fine, "allowed; nothing is left of the test", "")
}
