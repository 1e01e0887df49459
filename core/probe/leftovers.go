package probe

import (
	"context"
	"crypto/rand"
	"errors"
	"strings"

	"lumtra/core/object"
	"lumtra/core/place"
)

// NewPrefix is what all keys of one test start with. Whoever notes it before the
// test can clear away what is left, should nobody live to see its end.
func NewPrefix() string { return "lumtra-probe-" + strings.ToLower(rand.Text()[:12]) }

// Clear removes all that a test with this prefix has left at a place: objects, their
// versions, and unfinished uploads.
func Clear(ctx context.Context, p place.Place, prefix string) error {
	var refs []object.Ref
	for e, err := range p.List(ctx, prefix, place.ListOptions{}) {
		if place.KindOf(err) == place.NotFound && err != nil {
			return nil
		}
		if err != nil {
			return err
		}
		refs = append(refs, object.Ref{Key: e.Key})
	}
	err := errors.Join(p.Remove(ctx, refs...)...)
	can := place.Offers(p)
	if x := can.Examines; x != nil { // it knows of names that a listing garbles
		err = errors.Join(err, x.ClearAway(ctx, prefix+"/"))
	}
	if v := can.Versions; v != nil {
		for e, bad := range v.Versions(ctx, prefix, false) {
			if bad != nil {
				break // not kept, or not to be listed
			}
			if e.Version != "" && e.Version != "null" && !e.Removed {
				err = errors.Join(err, p.Remove(ctx, object.Ref{Key: e.Key, Version: e.Version})[0])
			}
		}
	}
	w := can.Parts
	if w == nil {
		return err
	}
	ups, bad := w.Uploads(ctx)
	if bad != nil {
		if kind := place.KindOf(bad); kind == place.Denied || kind == place.Unsupported {
			return err // they can't be listed here, ever
		}
		return errors.Join(err, bad)
	}
	for _, up := range ups {
		if strings.HasPrefix(up.Key, prefix) {
			err = errors.Join(err, w.Abort(ctx, up))
		}
	}
	return err
}
