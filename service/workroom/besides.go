package workroom

import (
	"context"
	"maps"
	"strings"

	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/retry"
	"lumtra/core/rule"
)

// otherFacts tells which of the metadata and tags a job sets or carries over
// are not at the target.
func otherFacts(ctx context.Context, as *rule.As, x *sides, a, b *object.Entry) (what string, err error) {
	err = retry.Usual.Do(ctx, func(int) error {
		if len(as.Metadata) > 0 && !place.Can(x.target).Known.Lacks(place.KeepsMeta) {
			there, err := x.target.Stat(ctx, object.Ref{Key: b.Key})
			if err != nil {
				return err
			}
			for name, value := range as.Metadata {
				if there.Metadata[strings.ToLower(name)] != value {
					what = "other metadata"
					return nil
				}
			}
		}
		from, to := place.Can(x.source).Tags, place.Can(x.target).Tags
		if !as.Tags || from == nil || to == nil {
			return nil
		}
		here, err := from.Tags(ctx, object.Ref{Key: a.Key})
		if err != nil {
			return err
		}
		there, err := to.Tags(ctx, object.Ref{Key: b.Key})
		here, _ = place.OwnTags(here)
		there, _ = place.OwnTags(there)
		if err == nil && !maps.Equal(here, there) {
			what = "other tags"
		}
		return err
	})
	return what, err
}

// ownMeta is about how much of an object's metadata is Lumtra's own: its time, permissions and checksum.
const ownMeta = 120

// tooMuch tells what of an object's metadata the target does not take, where it takes less than its protocol allows;
// nil where it takes all.
func tooMuch(j *job.Job, x *sides) func(context.Context, *object.Entry) (string, error) {
	limits := place.Can(x.target).Known.Facts().Meta
	if limits == (place.MetaLimits{}) {
		return nil
	}
	if limits.All > 0 {
		limits.All = max(limits.All-ownMeta, 1)
	}
	return func(ctx context.Context, e *object.Entry) (what string, err error) {
		var metadata map[string]string
		if place.Can(x.source).KeepsMetadata {
			err = retry.Usual.Do(ctx, func(int) error {
				full, err := x.source.Stat(ctx, object.Ref{Key: e.Key, Version: e.Version})
				metadata = full.Metadata
				return err
			})
		}
		return limits.Over(place.MetadataChange{Set: j.As.Metadata}.Apply(metadata)), err
	}
}
