package browse

import (
	"context"
	"errors"
	"fmt"
	"image"
	"iter"
	"path"
	"strings"
	"sync/atomic"
	"time"

	"lumtra/core/handle"
	"lumtra/core/level"
	"lumtra/core/listing"
	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/preview"
	"lumtra/service/workspace"
)

// OpenLevel begins to list what lies directly below a. It does not wait for the
// network; the caller closes the level. With removed it also has what was
// removed and can be brought back, as delete markers, where versions are kept.
func (s *Browser) OpenLevel(ctx context.Context, a workspace.At, removed bool) (*level.Level, error) {
	ctx, done, ok := s.ws.Life.Begin(ctx)
	if !ok {
		return nil, context.Canceled
	}
	l, err := level.Open(ctx, string(s.ws.Dir), func(ctx context.Context) iter.Seq2[object.Entry, error] {
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

func (s *Browser) list(ctx context.Context, a workspace.At, removed bool, yield func(object.Entry, error) bool) error {
	if s.ws.AtTop(a) {
		end, err := s.ws.Endpoint(a.Endpoint)
		if err != nil {
			return err
		}
		b := place.EndpointCan(end).Buckets
		if b == nil {
			return workspace.ErrNoBuckets
		}
		buckets, err := b.Buckets(ctx)
		for _, x := range buckets {
			if !yield(object.Entry{Key: x.Name + "/", Kind: object.Prefix, Modified: x.Made}, nil) {
				return nil
			}
		}
		return err
	}
	p, err := s.ws.Root(a)
	if err != nil {
		return err
	}
	entries := p.List(ctx, a.Key, place.ListOptions{Shallow: true})
	if v := place.Can(p).Versions; v != nil && removed {
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
func (s *Browser) List(ctx context.Context, a workspace.At, removed, deep bool) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		err := error(nil)
		if !deep || s.ws.AtTop(a) {
			err = s.list(ctx, a, removed, yield)
		} else {
			var p place.Place
			if p, err = s.ws.Root(a); err == nil {
				entries := p.List(ctx, a.Key, place.ListOptions{})
				if v := place.Can(p).Versions; v != nil && removed {
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
func (s *Browser) Count(ctx context.Context, a workspace.At, c *Counter) {
	sums := Sums{Counting: true}
	defer func() {
		sums.Counting = false
		c.sums.Store(&sums)
	}()
	ctx, done, ok := s.ws.Life.Begin(ctx)
	defer done()
	p, err := s.ws.Root(a)
	if !ok {
		err = context.Canceled
	}
	if err != nil {
		sums.Err = err
		return
	}
	list := listing.All(ctx, p, a.Key, counters)
	if place.Can(p).Tree {
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

// Description is all that is known of one thing.
type Description struct {
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
	// Holds is what a pack with an index holds, nil for what is none.
	Holds *pack.Totals
}

// mostVersions is how many states of one object are fetched to look at.
const mostVersions = 1000

// Describe finds out all that can be known of the object a, or of the version
// of it that is named.
func (s *Browser) Describe(ctx context.Context, a workspace.At, version string) (Description, error) {
	p, err := s.ws.Root(a)
	if err != nil {
		return Description{}, err
	}
	can := place.Can(p)
	f := s.skills(can)
	if v := can.Versions; v != nil && a.Key != "" && !strings.HasSuffix(a.Key, "/") {
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
	if t := can.Tags; t != nil {
		if tags, err := t.Tags(ctx, object.Ref{Key: a.Key, Version: version}); err == nil {
			f.Tags = tags
		}
	}
	if _, is := pack.FormOf(a.Key); is && f.Entry.Kind == object.Object && f.Entry.Archive == object.Online &&
		version == "" {
		if x, err := pack.Open(ctx, p, a.Key); err == nil { // else it is another program's, or no archive at all
			t := x.Totals()
			f.Holds = &t
			if err := x.Close(); err != nil {
				return f, err
			}
		}
	}
	return f, nil
}

func (s *Browser) skills(can place.Capabilities) Description {
	f := Description{Lacks: map[place.Skill]string{}, Abilities: can.Abilities}
	for _, skill := range place.Skills {
		if why := can.Lacks(skill); why != "" {
			f.Lacks[skill] = why
		}
	}
	return f
}

// DescribePlace finds out what the bucket or folder of a can do.
func (s *Browser) DescribePlace(ctx context.Context, a workspace.At) (Description, error) {
	if s.ws.AtTop(a) {
		a.Bucket = "any" // what a store can do is told by any bucket; none is asked
		p, err := s.ws.Root(a)
		if err != nil {
			return Description{}, err
		}
		return s.skills(place.Can(p)), nil
	}
	p, err := s.ws.Root(a)
	if err != nil {
		return Description{}, err
	}
	f := s.skills(place.Can(p))
	if a.Bucket != "" {
		f.Versioning, _ = s.Versioning(ctx, a)
	}
	return f, nil
}

// Versioning is the state of a's bucket as the store tells it now.
func (s *Browser) Versioning(ctx context.Context, a workspace.At) (place.Versioning, error) {
	end, err := s.ws.Endpoint(a.Endpoint)
	if err != nil {
		return "", err
	}
	v := place.EndpointCan(end).Versioning
	if v == nil {
		return "", workspace.BadInput(errors.New("versioning is a setting of the account here, not of the bucket"))
	}
	return v.Versioning(ctx, a.Bucket)
}

// Preview makes something to look at of an object or a version of it.
func (s *Browser) Preview(ctx context.Context, a workspace.At, e object.Entry, width, height int) (*preview.Preview,
	error) {
	p, err := s.ws.Root(a)
	if err != nil {
		return nil, err
	}
	e.Key = a.Key
	return preview.Make(ctx, p, e, width, height)
}

// Picture reads a picture, or a version of it, in at most width by height pixels.
func (s *Browser) Picture(ctx context.Context, a workspace.At, e object.Entry, width, height int) (image.Image, error) {
	p, err := s.ws.Root(a)
	if err != nil {
		return nil, err
	}
	e.Key = a.Key
	return preview.Full(ctx, p, e, width, height)
}

// Link makes a signed link to an object or a version of it.
func (s *Browser) Link(ctx context.Context, a workspace.At, version string, valid time.Duration) (string, error) {
	p, err := s.ws.Root(a)
	if err != nil {
		return "", err
	}
	can := place.Can(p)
	if can.Links == nil {
		return "", workspace.BadInput(errors.New(can.Lacks(place.Links)))
	}
	link, err := can.Links.Link(ctx, object.Ref{Key: a.Key, Version: version}, valid)
	if err == nil {
		s.ws.Log.Info("link made", "place", a.String(), "valid", valid)
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
func (s *Browser) Uploads(ctx context.Context, a workspace.At) ([]UnfinishedUpload, error) {
	p, err := s.ws.Root(a)
	if err != nil {
		return nil, err
	}
	pw := place.Can(p).Parts
	if pw == nil {
		return nil, workspace.BadInput(errors.New(place.Can(p).Lacks(place.Parts)))
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
func (s *Browser) Matching(ctx context.Context, a workspace.At, pattern string, most int) ([]object.Entry,
	handle.Count, error) {
	if _, err := path.Match(strings.ReplaceAll(pattern, "**", "*"), ""); err != nil {
		return nil, handle.Count{},
			workspace.BadInput(fmt.Errorf("the pattern %q is not complete: a [ wants its ]", pattern))
	}
	p, err := s.ws.Root(a)
	if err != nil {
		return nil, handle.Count{}, err
	}
	return handle.Matching(ctx, p, a.Key, pattern, most)
}
