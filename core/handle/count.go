package handle

import (
	"context"
	"path"
	"strings"

	"lumtra/core/object"
	"lumtra/core/place"
)

// Pick is what somebody chose: an object, or everything below a prefix.
type Pick struct {
	// Key is the object's, or a prefix that ends in "/"; "" is the whole place.
	Key string `json:"key"`
	// Prefix tells which.
	Prefix bool `json:"prefix,omitempty"`
}

// Covers tells whether the pick holds a key.
func (p Pick) Covers(key string) bool {
	return p.Prefix && strings.HasPrefix(key, p.Key) || !p.Prefix && key == p.Key
}

// Count is how much there is of what was picked.
type Count struct {
	Objects, Bytes int64
	// Versions are older ones and those that are removed but kept, with their
	// bytes; Markers are delete markers; Uploads are unfinished.
	Versions, VersionBytes int64
	Markers                int64
	Uploads                int64
	// Cold are the objects, among those, of a class that has to be restored before it is read.
	Cold, ColdBytes int64
	// Example is some key, "" when there is none.
	Example string
}

// All is the number a person confirms: every single thing that will go.
func (c *Count) All() int64 { return c.Objects + c.Versions + c.Markers + c.Uploads }

// AllBytes are the bytes that will go.
func (c *Count) AllBytes() int64 { return c.Bytes + c.VersionBytes }

func (c *Count) add(e *object.Entry) {
	if c.Example == "" {
		c.Example = e.Key
	}
	switch {
	case e.Kind == object.Marker:
		c.Markers++
	case e.Latest && !e.Removed:
		c.Objects++
		c.Bytes += e.Size
		if object.MayBeCold(e.Class) {
			c.Cold++
			c.ColdBytes += e.Size
		}
	default:
		c.Versions++
		c.VersionBytes += e.Size
	}
}

// each visits the current objects of the picks; a special file counts as one,
// since it goes with its folder.
func each(ctx context.Context, p place.Place, picks []Pick, visit func(*object.Entry) error) error {
	for _, pick := range picks {
		if !pick.Prefix {
			e, err := p.Stat(ctx, object.Ref{Key: pick.Key})
			if err == nil {
				err = visit(&e)
			}
			if err != nil && place.KindOf(err) != place.NotFound {
				return err
			}
			continue
		}
		for e, err := range p.List(ctx, pick.Key, place.ListOptions{}) {
			if err == nil {
				err = visit(&e)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// eachState visits every version and marker of the picks.
func eachState(ctx context.Context, p place.Versioned, picks []Pick, visit func(*object.Entry) error) error {
	for _, pick := range picks {
		for e, err := range p.Versions(ctx, pick.Key, false) {
			if err != nil {
				return err
			}
			if !pick.Prefix && e.Key != pick.Key {
				break // longer keys sort behind
			}
			if err := visit(&e); err != nil {
				return err
			}
		}
	}
	return nil
}

// Measure counts the picks, with all their versions and unfinished uploads when
// deep. grow, when not nil, hears of the count as it grows.
func Measure(ctx context.Context, p place.Place, picks []Pick, deep bool, grow func(Count)) (Count, error) {
	var c Count
	n := 0
	visit := func(e *object.Entry) error {
		c.add(e)
		if n++; grow != nil && n%1000 == 0 {
			grow(c)
		}
		return nil
	}
	v := place.Can(p).Versions
	if !deep || v == nil {
		err := each(ctx, p, picks, visit)
		return c, err
	}
	if err := eachState(ctx, v, picks, visit); err != nil {
		return c, err
	}
	uploads, err := uploadsOf(ctx, p, picks)
	c.Uploads = int64(len(uploads))
	return c, err
}

func uploadsOf(ctx context.Context, p place.Place, picks []Pick) ([]place.Upload, error) {
	can := place.Can(p)
	if can.Parts == nil || can.Tree {
		return nil, nil
	}
	all, err := can.Parts.Uploads(ctx)
	var found []place.Upload
	for _, u := range all {
		for _, pick := range picks {
			if pick.Covers(u.Key) {
				found = append(found, u)
				break
			}
		}
	}
	return found, err
}

// Matching lists the objects below the prefix whose keys, without it, match the
// pattern: "*" and "?" stay within a part of the key, "**/" spans parts. It
// gives up to most of them and counts the rest.
func Matching(ctx context.Context, p place.Place, prefix, pattern string, most int) (found []object.Entry,
	count Count, err error) {
	err = each(ctx, p, []Pick{{Key: prefix, Prefix: true}}, func(e *object.Entry) error {
		if e.Kind == object.Object && Match(pattern, e.Key[len(prefix):]) {
			count.add(e)
			if len(found) < most {
				found = append(found, *e)
			}
		}
		return nil
	})
	return found, count, err
}

// Match tells whether a key matches a pattern; see [Matching].
func Match(pattern, key string) bool {
	if rest, ok := strings.CutPrefix(pattern, "**/"); ok {
		for {
			if Match(rest, key) {
				return true
			}
			i := strings.IndexByte(key, '/')
			if i < 0 {
				return false
			}
			key = key[i+1:]
		}
	}
	head, rest, more := strings.Cut(pattern, "/")
	part, below, deeper := strings.Cut(key, "/")
	if ok, err := path.Match(head, part); err != nil || !ok || more != deeper {
		return false
	}
	return !more || Match(rest, below)
}
