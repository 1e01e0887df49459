package blob

import (
	"context"
	"errors"
	"iter"
	"slices"
	"strings"

	"github.com/Azure/azure-sdk-for-go/sdk/azcore"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/container"

	"lumtra/core/object"
	"lumtra/core/place"
)

// snapshotMark tells snapshots from versions in [object.Entry.Version]: both
// are named by times, and asked for in different ways.
const snapshotMark = "snapshot "

// listings of what a container keeps, from the most telling to what every
// account takes: versions and removed blobs are asked for where they exist.
var keeping = []container.ListBlobsInclude{
	{Versions: true, Snapshots: true, Deleted: true},
	{Snapshots: true, Deleted: true},
	{Snapshots: true},
}

// Versions lists versions, snapshots and what was removed but is still kept
// (List Blobs). The service gives a blob's states oldest first; here the
// newest comes first, as everywhere.
func (p *Place) Versions(ctx context.Context, prefix string, shallow bool) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		var err error
		for _, include := range keeping {
			var states []object.Entry // of one blob
			flush := func() bool {
				for _, e := range newestFirst(states) {
					if !yield(e, nil) {
						return false
					}
				}
				states = states[:0]
				return true
			}
			next, begun := p.pages(prefix, place.ListOptions{Shallow: shallow}, include), false
			for more := true; more; {
				var entries []object.Entry
				if entries, more, err = next(ctx); err != nil {
					break
				}
				begun = true
				for _, e := range entries {
					if e.Key = strings.TrimPrefix(e.Key, p.prefix); e.Key == "" {
						continue // the place itself
					}
					if len(states) > 0 && states[0].Key != e.Key && !flush() {
						return
					}
					states = append(states, e)
				}
			}
			if err == nil {
				flush()
				return
			}
			var refused *azcore.ResponseError
			if begun || !errors.As(err, &refused) || refused.StatusCode != 400 {
				break // only a service that does not know the question is asked a simpler one
			}
		}
		yield(object.Entry{}, p.fail(ctx, "list versions", prefix, err))
	}
}

// newestFirst orders the states of one blob: the current one, then by time. A
// blob that is gone but has versions has no current one, as if a delete marker
// lay on top; the service has no name for that, so nothing is added.
func newestFirst(states []object.Entry) []object.Entry {
	slices.SortStableFunc(states, func(a, b object.Entry) int {
		if a.Latest != b.Latest && !a.Removed && !b.Removed {
			if a.Latest {
				return -1
			}
			return 1
		}
		return -strings.Compare(strings.TrimPrefix(a.Version, snapshotMark),
			strings.TrimPrefix(b.Version, snapshotMark))
	})
	return states
}

// Undelete brings a removed blob back: the service's own way where removed
// blobs are kept (Undelete Blob), else a copy of the newest version.
func (p *Place) Undelete(ctx context.Context, key string) error {
	_, undeleted := p.client.NewBlobClient(p.prefix+key).Undelete(ctx, nil)
	if _, err := p.Stat(ctx, object.Ref{Key: key}); err == nil {
		return nil
	}
	for e, err := range p.Versions(ctx, key, false) {
		if err != nil {
			return err
		}
		if e.Key != key {
			break
		}
		if e.Version != "" {
			_, err = p.CopyFrom(ctx, p, object.Ref{Key: key, Version: e.Version}, key,
				place.WriteOptions{Condition: place.IfAbsent})
			return err
		}
	}
	if undeleted != nil {
		return p.fail(ctx, "undelete", key, undeleted)
	}
	return place.NewError(p.name, "undelete", key, place.NotFound, errors.New("nothing is kept of it"))
}

// Snapshot keeps the blob as it is now beside what it becomes (Snapshot Blob).
func (p *Place) Snapshot(ctx context.Context, key string) (version string, err error) {
	out, err := p.client.NewBlobClient(p.prefix+key).CreateSnapshot(ctx, nil)
	if err != nil {
		return "", p.fail(ctx, "snapshot", key, err)
	}
	return snapshotMark + deref(out.Snapshot), nil
}
