// Package gather makes one place of things that lie in many: objects and
// folders, each under a name of its own at the top. Nothing can be written to
// it; each thing is read, and removed or moved aside, where it lies.
//
// It also makes the part of a place that a gathering would land on, so that a
// plan need not survey the rest.
package gather

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"path"
	"slices"
	"strings"

	"lumtra/core/handle"
	"lumtra/core/object"
	"lumtra/core/place"
)

// Item is one gathered thing.
type Item struct {
	From place.Place
	// Key is an object's in From, or a prefix that ends in "/".
	Key string
	// As is its name in the gathering: without "/" for an object, ending in
	// one for a prefix.
	As string
}

// Names gives each key its last part as a name, and numbers those that would
// be the same.
func Names(keys []string) []string {
	names, taken := make([]string, len(keys)), map[string]bool{}
	for i, key := range keys {
		base := object.Base(key)
		bare, slash := strings.TrimSuffix(base, "/"), ""
		if bare != base {
			slash = "/"
		}
		name := bare
		for n := 2; taken[name] || name == ""; n++ {
			ext := path.Ext(bare)
			if slash != "" {
				ext = ""
			}
			name = fmt.Sprintf("%s (%d)%s", strings.TrimSuffix(bare, ext), n, ext)
		}
		taken[name] = true
		names[i] = name + slash
	}
	return names
}

// Place is the gathering.
type Place struct {
	name  string
	items []Item // by As
}

// New gathers items, whose names must differ.
func New(name string, items []Item) *Place {
	items = slices.Clone(items)
	slices.SortFunc(items, func(a, b Item) int { return strings.Compare(a.As, b.As) })
	return &Place{name, items}
}

var _ place.Place = (*Place)(nil)

// Name is the gathering's.
func (p *Place) Name() string { return p.name }

// Abilities are what all the places it is made of have in common.
func (p *Place) Abilities() place.Abilities {
	all := place.Abilities{Protocol: "gathered", ReadOnly: true}
	for i, it := range p.items {
		a := it.From.Abilities()
		if i == 0 {
			all.StoredSums = a.StoredSums
		} else if all.StoredSums != a.StoredSums {
			all.StoredSums = object.NoSum
		}
		all.Tree = (i == 0 || all.Tree) && a.Tree
		all.KeepsMetadata = all.KeepsMetadata || a.KeepsMetadata
		all.TimeStep, all.Clock = max(all.TimeStep, a.TimeStep), all.Clock.Join(a.Clock)
	}
	return all
}

// entry is one of the item's with the key it has here.
func (it *Item) entry(e object.Entry) object.Entry {
	e.Key = it.As + e.Key[len(it.Key):]
	return e
}

// rename puts the key an object has here into an error.
func (p *Place) rename(it *Item, err error) error {
	var e *place.Error
	if !errors.As(err, &e) || len(e.Key) < len(it.Key) {
		return err
	}
	own := *e
	own.Place, own.Key = p.name, it.As+e.Key[len(it.Key):]
	return &own
}

// List lists each thing in turn.
func (p *Place) List(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		for i := range p.items {
			it := &p.items[i]
			if !strings.HasPrefix(prefix, it.As) && !strings.HasPrefix(it.As, prefix) ||
				it.As <= opts.After && !(strings.HasSuffix(it.As, "/") && it.As < opts.After &&
					strings.HasPrefix(opts.After, it.As)) {
				continue
			}
			if !p.list(ctx, it, prefix, opts, yield) {
				return
			}
		}
	}
}

func (p *Place) list(ctx context.Context, it *Item, prefix string, opts place.ListOptions,
	yield func(object.Entry, error) bool) bool {
	if !strings.HasSuffix(it.As, "/") {
		e, err := it.From.Stat(ctx, object.Ref{Key: it.Key})
		if err != nil {
			return yield(object.Entry{}, p.rename(it, err))
		}
		return yield(it.entry(e), nil)
	}
	if opts.Shallow && !strings.HasPrefix(prefix, it.As) {
		return yield(object.Entry{Key: it.As, Kind: object.Prefix}, nil)
	}
	inner := it.Key
	if rest, ok := strings.CutPrefix(prefix, it.As); ok {
		inner += rest
	}
	if rest, ok := strings.CutPrefix(opts.After, it.As); ok {
		opts.After = it.Key + rest
	} else {
		opts.After = ""
	}
	for e, err := range it.From.List(ctx, inner, opts) {
		if err == nil {
			e = it.entry(e)
		} else {
			err = p.rename(it, err)
		}
		if !yield(e, err) {
			return false
		}
	}
	return true
}

func (p *Place) find(op, key string) (*Item, string, error) {
	for i := range p.items {
		it := &p.items[i]
		if key == it.As || strings.HasSuffix(it.As, "/") && strings.HasPrefix(key, it.As) {
			return it, it.Key + key[len(it.As):], nil
		}
	}
	return nil, "", place.NewError(p.name, op, key, place.NotFound, nil)
}

// Stat asks where the thing lies.
func (p *Place) Stat(ctx context.Context, ref object.Ref) (object.Entry, error) {
	it, key, err := p.find("stat", ref.Key)
	if err != nil {
		return object.Entry{}, err
	}
	ref.Key = key
	e, err := it.From.Stat(ctx, ref)
	if err != nil {
		return e, p.rename(it, err)
	}
	return it.entry(e), nil
}

// Read reads where the thing lies.
func (p *Place) Read(ctx context.Context, key string, opts place.ReadOptions) (io.ReadCloser, object.Entry, error) {
	it, inner, err := p.find("read", key)
	if err != nil {
		return nil, object.Entry{}, err
	}
	r, e, err := it.From.Read(ctx, inner, opts)
	if err != nil {
		return nil, e, p.rename(it, err)
	}
	return r, it.entry(e), nil
}

func (p *Place) readOnly(op, key string) error {
	return place.NewError(p.name, op, key, place.Unsupported, errors.New("what was gathered is only read"))
}

// Write refuses.
func (p *Place) Write(ctx context.Context, key string, body io.Reader, size int64,
	opts place.WriteOptions) (object.Entry, error) {
	return object.Entry{}, p.readOnly("write", key)
}

// Remove removes things where they lie.
func (p *Place) Remove(ctx context.Context, refs ...object.Ref) []error {
	errs := make([]error, len(refs))
	for i, ref := range refs {
		it, key, err := p.find("delete", ref.Key)
		if err == nil {
			ref.Key = key
			err = p.rename(it, it.From.Remove(ctx, ref)[0])
		}
		errs[i] = err
	}
	return errs
}

// Move moves a thing where it lies: beside itself, or below the prefix it was
// gathered from.
func (p *Place) Move(ctx context.Context, src object.Ref, key string) (object.Entry, error) {
	it, inner, err := p.find("move", src.Key)
	if err != nil {
		return object.Entry{}, err
	}
	e, err := it.From.Stat(ctx, object.Ref{Key: inner})
	if err == nil && src.IfMark != "" && e.Mark() != src.IfMark {
		err = place.NewError(p.name, "move", src.Key, place.Changed, nil)
	}
	if err == nil {
		err = handle.MoveOne(ctx, it.From, &e, path.Join(path.Dir(it.Key), key))
	}
	return it.entry(e), p.rename(it, err)
}

// Landing is the part of target that the gathering would land on, for surveys.
func (p *Place) Landing(target place.Place) place.Place {
	var items []Item
	for _, it := range p.items {
		items = append(items, Item{target, it.As, it.As})
	}
	return &landing{target, &Place{target.Name(), items}}
}

// landing lists only what is gathered, and is the target otherwise, with all it can do. What
// is not there yet is no error.
type landing struct {
	place.Place
	part *Place
}

// Wrapped is the target.
func (l *landing) Wrapped() place.Place { return l.Place }

func (l *landing) List(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		for e, err := range l.part.List(ctx, prefix, opts) {
			var miss *place.Error
			if errors.As(err, &miss) && miss.Kind == place.NotFound &&
				(miss.Key != "" || l.Place.Abilities().MakesRoot) {
				continue
			}
			if !yield(e, err) {
				return
			}
		}
	}
}

// Describe tells what a file system keeps of a thing, where it lies in one: see [place.Describer].
func (p *Place) Describe(ctx context.Context, key string) (place.File, error) {
	it, inner, err := p.find("stat", key)
	if err != nil {
		return place.File{}, err
	}
	d := place.Can(it.From).Describes
	if d == nil {
		return place.File{}, place.NewError(p.name, "stat", key, place.Unsupported, nil)
	}
	f, err := d.Describe(ctx, inner)
	return f, p.rename(it, err)
}

// Attributes are those of a thing that lies in a file system: see [place.Describer].
func (p *Place) Attributes(ctx context.Context, key string) (map[string]string, error) {
	it, inner, err := p.find("stat", key)
	if err != nil {
		return nil, err
	}
	d := place.Can(it.From).Describes
	if d == nil {
		return nil, nil
	}
	all, err := d.Attributes(ctx, inner)
	return all, p.rename(it, err)
}

// Beside yields the folders and links of the things that lie in file systems, of those below a folder of
// the top.
func (p *Place) Beside(ctx context.Context, folder string) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		for i := range p.items {
			it := &p.items[i]
			d := place.Can(it.From).Describes
			if d == nil || !strings.HasSuffix(it.As, "/") || !strings.HasPrefix(it.As, folder) {
				continue
			}
			if it.Key != "" && !yield(it.As, nil) {
				return
			}
			for key, err := range d.Beside(ctx, it.Key) {
				if err == nil {
					key = it.As + key[len(it.Key):]
				}
				if !yield(key, p.rename(it, err)) {
					return
				}
			}
		}
	}
}
