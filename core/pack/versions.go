package pack

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"strconv"
	"strings"

	"lumtra/core/object"
	"lumtra/core/place"
)

// Versions lists all versions of members that are still in the pack, and those that say that a member was
// dropped, newest first within a name: see [place.Versioned]. They stay until the pack is written anew.
func (p *Place) Versions(ctx context.Context, prefix string, shallow bool) iter.Seq2[object.Entry, error] {
	return p.list(ctx, prefix, place.ListOptions{Shallow: shallow}, true)
}

// state is a version of a member as an entry.
func (p *Place) state(m *Member, latest bool) object.Entry {
	e := p.entry(m)
	e.Version, e.Latest = strconv.Itoa(m.Turn), latest
	if m.Dropped {
		e.Kind, e.Size, e.Sums = object.Marker, 0, nil
	}
	return e
}

// version is one version of a member by its key here.
func (p *Place) version(ctx context.Context, op, key, name string) (*Pack, Member, bool, error) {
	x, err := p.Pack(ctx)
	if err != nil {
		return nil, Member{}, false, p.outerWrong(op, key, err)
	}
	all, err := x.Versions(ctx, p.prefix+key)
	if err != nil {
		return nil, Member{}, false, p.outerWrong(op, key, err)
	}
	for i, m := range all {
		if strconv.Itoa(m.Turn) == name && m.Kind != Folder {
			return x, m, i == 0, nil
		}
	}
	return nil, Member{}, false, place.NewError(p.Name(), op, key, place.NotFound, nil)
}

// Undelete makes the newest content of a member that was dropped the current one again. Nothing of it is sent:
// it is still in the pack.
func (p *Place) Undelete(ctx context.Context, key string) error {
	x, err := p.Pack(ctx)
	if err != nil {
		return p.outerWrong("undelete", key, err)
	}
	all, err := x.Versions(ctx, p.prefix+key)
	if err != nil {
		return p.outerWrong("undelete", key, err)
	}
	if len(all) == 0 {
		return place.NewError(p.Name(), "undelete", key, place.NotFound, nil)
	}
	if !all[0].Dropped {
		return nil
	}
	for _, m := range all {
		if !m.Dropped {
			return p.again(ctx, "undelete", key, m.Turn)
		}
	}
	return place.NewError(p.Name(), "undelete", key, place.NotFound, nil)
}

// again makes a version of a member the current one.
func (p *Place) again(ctx context.Context, op, key string, turn int) error {
	defer p.Renew()
	return p.outerWrong(op, key, Change(ctx, p.outer, p.key, 0, Options{Dir: p.keeping.Dir}, func(w *Writer) error {
		return w.Again(p.prefix+key, turn)
	}))
}

// CanCopyFrom tells that a member may become again what it was: nothing else is copied within a pack.
func (p *Place) CanCopyFrom(from place.Place) bool { return Of(from) == p }

// CopyFrom makes an older version of a member the current one.
func (p *Place) CopyFrom(ctx context.Context, from place.Place, src object.Ref, key string,
	_ place.WriteOptions) (object.Entry, error) {
	turn, err := strconv.Atoi(src.Version)
	if !p.CanCopyFrom(from) || src.Key != key || err != nil {
		return object.Entry{}, p.together("copy", key)
	}
	if err := p.again(ctx, "bring back", key, turn); err != nil {
		return object.Entry{}, err
	}
	return p.Stat(ctx, object.Ref{Key: key})
}

// removeVersion refuses: what a version takes goes with all the others that nobody sees.
func (p *Place) removeVersion(ref object.Ref) error {
	return place.NewError(p.Name(), "delete", ref.Key, place.Unsupported, fmt.Errorf(
		"version %s stays until the pack is written anew, as `lumtra pack rewrite` does", object.Display(ref.Version)))
}

// Again makes a version of a member of the pack that is added to the current one, whose content is in it
// already.
func (w *Writer) Again(name string, turn int) error {
	if w.old == nil {
		return errNotThere
	}
	all, err := w.old.Versions(w.ctx, name)
	if err != nil {
		return err
	}
	for _, m := range all {
		if m.Turn != turn || m.Dropped || m.Implied || strings.HasSuffix(m.Name, "/") {
			continue
		}
		if m.Kind != File && m.Kind != Symlink && m.Kind != Hardlink {
			return errors.New("it is neither a file nor a link")
		}
		newest := all[0]
		if newest.Turn == turn {
			return nil
		}
		if !newest.Dropped {
			w.gone(&newest)
		}
		w.foot.members++
		w.foot.size += m.Size
		w.foot.dropped--
		w.foot.dead -= m.Size
		m.Turn = newest.Turn + 1
		w.record(m)
		return nil
	}
	return errNotThere
}
