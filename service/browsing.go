package service

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"path"
	"strings"
	"sync/atomic"
	"time"

	"lumtra/core/handle"
	"lumtra/core/job"
	"lumtra/core/level"
	"lumtra/core/listing"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/preview"
)

// At names something by its parts, so that no key, whatever bytes it is made
// of, can be taken for another.
type At struct {
	Endpoint string `json:"endpoint"`
	// Bucket is "" at endpoints without buckets, and at the top of those with.
	Bucket string `json:"bucket,omitempty"`
	// Key is an object's, a prefix that ends in "/", or "" for the top.
	Key string `json:"key,omitempty"`
}

// String is "endpoint/bucket/key", safe to show.
func (a At) String() string {
	s := a.Endpoint
	if a.Bucket != "" {
		s += "/" + a.Bucket
	}
	if a.Key != "" {
		s += "/" + a.Key
	}
	return object.Display(s)
}

// Pick is what a names, for handling.
func (a At) Pick() handle.Pick {
	return handle.Pick{Key: a.Key, Prefix: a.Key == "" || strings.HasSuffix(a.Key, "/")}
}

// atTop tells that a names an endpoint and its level is made of buckets.
func (s *Service) atTop(a At) bool {
	e := s.Workspace().Endpoints[a.Endpoint]
	return e != nil && e.HasBuckets() && a.Bucket == ""
}

// Root opens the place that a's key is relative to: the bucket, or the folder.
func (s *Service) Root(a At) (place.Place, error) {
	end, err := s.endpoint(a.Endpoint)
	if err != nil {
		return nil, err
	}
	if s.atTop(a) {
		return nil, badInput(errors.New("this is not in a bucket"))
	}
	return end.Open(a.Bucket)
}

// OpenLevel begins to list what lies directly below a. It does not wait for the
// network; the caller closes the level. With removed it also has what was
// removed and can be brought back, as delete markers, where versions are kept.
func (s *Service) OpenLevel(ctx context.Context, a At, removed bool) (*level.Level, error) {
	ctx, done, ok := s.begin(ctx)
	if !ok {
		return nil, context.Canceled
	}
	l, err := level.Open(ctx, s.opts.State, func(ctx context.Context) iter.Seq2[object.Entry, error] {
		return func(yield func(object.Entry, error) bool) {
			if err := s.list(ctx, a, removed, yield); err != nil {
				yield(object.Entry{}, err)
			}
		}
	})
	if err != nil {
		done()
		return nil, err
	}
	go func() {
		<-l.Done()
		done()
	}()
	return l, nil
}

func (s *Service) list(ctx context.Context, a At, removed bool, yield func(object.Entry, error) bool) error {
	if s.atTop(a) {
		end, err := s.endpoint(a.Endpoint)
		if err != nil {
			return err
		}
		b, ok := end.(place.Buckets)
		if !ok {
			return errNoBuckets
		}
		buckets, err := b.Buckets(ctx)
		for _, x := range buckets {
			if !yield(object.Entry{Key: x.Name + "/", Kind: object.Prefix, Modified: x.Made}, nil) {
				return nil
			}
		}
		return err
	}
	p, err := s.Root(a)
	if err != nil {
		return err
	}
	entries := p.List(ctx, a.Key, place.ListOptions{Shallow: true})
	if v, ok := p.(place.Versioned); ok && removed {
		entries = newest(v.Versions(ctx, a.Key, true))
	}
	for e, err := range entries {
		if e.Key == a.Key && e.Size == 0 && err == nil {
			continue // the empty object that stands for the folder itself
		}
		if !yield(e, err) {
			return nil
		}
	}
	return nil
}

// List yields what lies directly below a, or with deep everything, in byte
// order of keys; removed is as in OpenLevel.
func (s *Service) List(ctx context.Context, a At, removed, deep bool) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		err := error(nil)
		if !deep || s.atTop(a) {
			err = s.list(ctx, a, removed, yield)
		} else {
			var p place.Place
			if p, err = s.Root(a); err == nil {
				entries := p.List(ctx, a.Key, place.ListOptions{})
				if v, ok := p.(place.Versioned); ok && removed {
					entries = newest(v.Versions(ctx, a.Key, false))
				}
				entries(yield)
			}
		}
		if err != nil {
			yield(object.Entry{}, err)
		}
	}
}

// newest gives the newest state of each object: one that is gone comes as a
// marker, with the size of what can be brought back.
func newest(states iter.Seq2[object.Entry, error]) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		var top object.Entry
		open := false
		flush := func() bool {
			ok := !open || yield(top, nil)
			open = false
			return ok
		}
		for e, err := range states {
			switch {
			case err != nil || e.Kind == object.Prefix:
				if !flush() || !yield(e, err) {
					return
				}
			case open && e.Key == top.Key:
				if top.Size == 0 {
					top.Size = e.Size
				}
			default:
				if !flush() {
					return
				}
				if top, open = e, true; e.Removed || !e.Latest {
					top.Kind = object.Marker
				}
			}
		}
		flush()
	}
}

// Sums is what lies below a prefix, however deep, as far as it was counted.
type Sums struct {
	Objects, Bytes int64
	Newest         time.Time
	// Counting tells that it goes on; Err what it met.
	Counting bool
	Err      error
}

// Counter counts what lies below a prefix, in the background.
type Counter struct{ sums atomic.Pointer[Sums] }

// Sums tells how far it is.
func (c *Counter) Sums() Sums {
	if x := c.sums.Load(); x != nil {
		return *x
	}
	return Sums{Counting: true}
}

// counters is how many listings one count has under way.
const counters = 6

// Count counts what lies below a and returns when it is done or ctx is.
func (s *Service) Count(ctx context.Context, a At, c *Counter) {
	sums := Sums{Counting: true}
	defer func() {
		sums.Counting = false
		c.sums.Store(&sums)
	}()
	ctx, done, ok := s.begin(ctx)
	defer done()
	p, err := s.Root(a)
	if !ok {
		err = context.Canceled
	}
	if err != nil {
		sums.Err = err
		return
	}
	list := listing.All(ctx, p, a.Key, counters)
	if p.Abilities().Tree {
		list = p.List(ctx, a.Key, place.ListOptions{})
	}
	for e, err := range list {
		if err != nil {
			sums.Err = err
			continue
		}
		sums.Objects++
		sums.Bytes += e.Size
		if e.Modified.After(sums.Newest) {
			sums.Newest = e.Modified
		}
		if sums.Objects%1000 == 0 {
			now := sums
			c.sums.Store(&now)
		}
	}
	sums.Err = errors.Join(sums.Err, ctx.Err())
}

// Facts are all that is known of one thing.
type Facts struct {
	Entry object.Entry
	// Tags are nil where there are none to ask for.
	Tags map[string]string
	// Versions are its states, newest first, where they are kept.
	Versions []object.Entry
	// Lacks are the skills the place does not have, with the reason.
	Lacks     map[place.Skill]string
	Abilities place.Abilities
	// Versioning is the bucket's, where it can be asked.
	Versioning place.Versioning
}

// mostVersions is how many states of one object are fetched to look at.
const mostVersions = 1000

// Describe finds out all that can be known of the object a, or of the version
// of it that is named.
func (s *Service) Describe(ctx context.Context, a At, version string) (Facts, error) {
	p, err := s.Root(a)
	if err != nil {
		return Facts{}, err
	}
	f := s.skills(p)
	if v, ok := p.(place.Versioned); ok && a.Key != "" && !strings.HasSuffix(a.Key, "/") {
		for e, err := range v.Versions(ctx, a.Key, false) {
			if err != nil || e.Key != a.Key || len(f.Versions) == mostVersions {
				break // a store that does not list versions still has the object
			}
			f.Versions = append(f.Versions, e)
		}
	}
	if f.Entry, err = p.Stat(ctx, object.Ref{Key: a.Key, Version: version}); err != nil {
		if len(f.Versions) > 0 && place.KindOf(err) == place.NotFound { // removed, but known
			f.Entry = f.Versions[0]
			return f, nil
		}
		return f, err
	}
	if t, ok := p.(place.Tagger); ok {
		if tags, err := t.Tags(ctx, object.Ref{Key: a.Key, Version: version}); err == nil {
			f.Tags = tags
		}
	}
	return f, nil
}

func (s *Service) skills(p place.Place) Facts {
	f := Facts{Lacks: map[place.Skill]string{}, Abilities: p.Abilities()}
	for _, skill := range []place.Skill{place.Versions, place.Tags, place.Metadata, place.Links, place.Restores, place.Parts, place.Folders} {
		if why := place.Lacks(p, skill); why != "" {
			f.Lacks[skill] = why
		}
	}
	return f
}

// DescribePlace finds out what the bucket or folder of a can do.
func (s *Service) DescribePlace(ctx context.Context, a At) (Facts, error) {
	if s.atTop(a) {
		a.Bucket = "any" // what a store can do is told by any bucket; none is asked
		p, err := s.Root(a)
		if err != nil {
			return Facts{}, err
		}
		return s.skills(p), nil
	}
	p, err := s.Root(a)
	if err != nil {
		return Facts{}, err
	}
	f := s.skills(p)
	if a.Bucket != "" {
		f.Versioning, _ = s.Versioning(ctx, a)
	}
	return f, nil
}

// Versioning is the state of a's bucket as the store tells it now.
func (s *Service) Versioning(ctx context.Context, a At) (place.Versioning, error) {
	end, err := s.endpoint(a.Endpoint)
	if err != nil {
		return "", err
	}
	v, ok := end.(place.VersioningSwitch)
	if !ok {
		return "", badInput(errors.New("versioning is a setting of the account here, not of the bucket"))
	}
	return v.Versioning(ctx, a.Bucket)
}

// Preview makes something to look at of an object or a version of it.
func (s *Service) Preview(ctx context.Context, a At, e object.Entry, width, height int) (*preview.Preview, error) {
	p, err := s.Root(a)
	if err != nil {
		return nil, err
	}
	e.Key = a.Key
	return preview.Make(ctx, p, e, width, height)
}

// Link makes a signed link to an object or a version of it.
func (s *Service) Link(ctx context.Context, a At, version string, valid time.Duration) (string, error) {
	p, err := s.Root(a)
	if err != nil {
		return "", err
	}
	if why := place.Lacks(p, place.Links); why != "" {
		return "", badInput(errors.New(why))
	}
	link, err := p.(place.Linker).Link(ctx, object.Ref{Key: a.Key, Version: version}, valid)
	if err == nil {
		s.log.Info("link made", "place", a.String(), "valid", valid)
	}
	return link, err
}

// UnfinishedUpload is an upload with what it holds.
type UnfinishedUpload struct {
	place.Upload
	Parts int
	Bytes int64
}

// Uploads lists what was begun below a and not finished, with its bytes.
func (s *Service) Uploads(ctx context.Context, a At) ([]UnfinishedUpload, error) {
	p, err := s.Root(a)
	if err != nil {
		return nil, err
	}
	pw, ok := p.(place.PartWriter)
	if !ok {
		return nil, badInput(errors.New(place.Lacks(p, place.Parts)))
	}
	all, err := pw.Uploads(ctx)
	var found []UnfinishedUpload
	for _, u := range all {
		if !strings.HasPrefix(u.Key, a.Key) {
			continue
		}
		x := UnfinishedUpload{Upload: u}
		parts, err := pw.Parts(ctx, u)
		if err != nil && place.KindOf(err) != place.NotFound {
			return found, err
		}
		for _, part := range parts {
			x.Parts++
			x.Bytes += part.Size
		}
		found = append(found, x)
	}
	return found, err
}

// Matching lists what below a matches a pattern; see [handle.Matching].
func (s *Service) Matching(ctx context.Context, a At, pattern string, most int) ([]object.Entry, handle.Count, error) {
	if _, err := path.Match(strings.ReplaceAll(pattern, "**", "*"), ""); err != nil {
		return nil, handle.Count{}, badInput(fmt.Errorf("the pattern %q is not complete: a [ wants its ]", pattern))
	}
	p, err := s.Root(a)
	if err != nil {
		return nil, handle.Count{}, err
	}
	return handle.Matching(ctx, p, a.Key, pattern, most)
}

// AtOf reads "endpoint/bucket/key" as people type it.
func (s *Service) AtOf(text string) (At, error) {
	name, rest, _ := strings.Cut(strings.TrimLeft(text, "/"), "/")
	e := s.Workspace().Endpoints[name]
	if e == nil {
		return At{}, badInput(fmt.Errorf("there is no endpoint %q; there are %s", name, strings.Join(s.EndpointNames(), ", ")))
	}
	a := At{Endpoint: name, Key: rest}
	if e.Kind == job.KindS3 || e.Kind == job.KindBlob {
		a.Bucket, a.Key, _ = strings.Cut(rest, "/")
	}
	return a, nil
}
