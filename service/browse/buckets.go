package browse

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/service/workspace"
)

// BucketTags reads the tags of a bucket itself; at some stores they are its metadata.
func (s *Browser) BucketTags(ctx context.Context, at workspace.At) (map[string]string, error) {
	t, err := s.bucketTags(at)
	if err != nil {
		return nil, err
	}
	return t.BucketTags(ctx, at.Bucket)
}

func (s *Browser) bucketTags(at workspace.At) (place.BucketTagger, error) {
	end, err := s.ws.Endpoint(at.Endpoint)
	if err != nil {
		return nil, err
	}
	if t := place.EndpointCan(end).Tags; t != nil && at.Bucket != "" {
		return t, nil
	}
	return nil, workspace.BadInput(fmt.Errorf("%s has no buckets with tags", at.Endpoint))
}

// ChangeBucketTags changes some of a bucket's tags, and reads them back: those that are
// there now are returned, with an error where they are not what was asked for.
func (s *Browser) ChangeBucketTags(ctx context.Context, at workspace.At, c place.MetadataChange) (map[string]string,
	error) {
	t, err := s.bucketTags(at)
	if err != nil {
		return nil, err
	}
	tags, err := t.BucketTags(ctx, at.Bucket)
	if err != nil {
		return nil, err
	}
	for _, name := range c.Drop {
		delete(tags, name)
	}
	maps.Copy(tags, c.Set)
	if err := t.SetBucketTags(ctx, at.Bucket, tags); err != nil {
		return nil, err
	}
	var is map[string]string
	err = settled(ctx, func() (bool, error) {
		var err error
		is, err = t.BucketTags(ctx, at.Bucket)
		return maps.Equal(is, tags), err
	})
	if errors.Is(err, errNotTaken) {
		err = place.NewError(at.Endpoint, "set the bucket's tags", at.Bucket, place.Other,
			errors.New("the store took the tags, but has others now"))
	}
	return is, err
}

// Keeping is whether older versions of what is removed stay.
type Keeping int

// The answers.
const (
	KeepsUnknown Keeping = iota
	KeepsNone
	KeepsVersions
	// KeepsUntilRewritten is so in a pack.
	KeepsUntilRewritten
)

// Keeps finds out whether versions are kept where something lies. It asks the store, so that
// nobody is told that something can be brought back, or cannot, by what was so once.
func (s *Browser) Keeps(ctx context.Context, at workspace.At) Keeping {
	p, err := s.ws.Root(at)
	if err != nil {
		return KeepsUnknown
	}
	if place.Can(p).Versions == nil {
		return KeepsNone
	}
	if pack.Leads(at.Bucket) { // what was dropped stays in it until it is written anew
		return KeepsUntilRewritten
	}
	switch is, err := s.Versioning(ctx, at); {
	case err == nil && is == place.VersioningOff:
		return KeepsNone
	case err == nil && is == place.VersioningOn:
		return KeepsVersions
	}
	return KeepsUnknown // while it is suspended, what was stored since goes, and the rest stays
}

// Access tells who may reach a bucket.
func (s *Browser) Access(ctx context.Context, at workspace.At) (place.Access, error) {
	a, err := s.access(at)
	if err != nil {
		return place.Access{}, err
	}
	return a.Access(ctx, at.Bucket)
}

func (s *Browser) access(at workspace.At) (place.BucketAccess, error) {
	end, err := s.ws.Endpoint(at.Endpoint)
	if err != nil {
		return nil, err
	}
	if a := place.EndpointCan(end).Access; a != nil && at.Bucket != "" {
		return a, nil
	}
	return nil, workspace.BadInput(fmt.Errorf("%s has no buckets whose access can be read", at.Endpoint))
}

// SetPublic changes what anybody may do with a bucket, and reads back what they may now.
func (s *Browser) SetPublic(ctx context.Context, at workspace.At, public place.Public) (place.Access, error) {
	if !slices.Contains(place.Publics, public) || public == place.PublicWrite {
		return place.Access{}, workspace.BadInput(fmt.Errorf("public is %q; it is \"no\", \"read\" or \"list\"",
			public))
	}
	a, err := s.access(at)
	if err != nil {
		return place.Access{}, err
	}
	if err := a.SetPublic(ctx, at.Bucket, public); err != nil {
		return place.Access{}, err
	}
	var is place.Access
	err = settled(ctx, func() (bool, error) {
		var err error
		is, err = a.Access(ctx, at.Bucket)
		return is.Public == public, err
	})
	if errors.Is(err, errNotTaken) {
		err = place.NewError(at.Endpoint, "change who may reach the bucket", at.Bucket, place.Other,
			fmt.Errorf("the store took it, but still says: %s", is.Public.Words()))
	}
	return is, err
}

// errNotTaken means that a store still says otherwise.
var errNotTaken = errors.New("not taken")

// settled asks until what was set is so, for a while: some stores take their time.
func settled(ctx context.Context, so func() (bool, error)) error {
	for wait := 100 * time.Millisecond; ; wait *= 2 {
		if is, err := so(); err != nil || is {
			return err
		}
		if wait > 5*time.Second {
			return errNotTaken
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}
