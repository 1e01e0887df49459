package places

import (
	"sort"
	"strings"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/level"
	"lumtra/core/object"
	"lumtra/service/workspace"
)

// wanted is what the cursor was on in a level that is listed anew, so that it comes back to
// it: acting on a thing does not put the cursor on another.
type wanted struct {
	at  workspace.At
	row int // where it was, should it be gone
}

// within tells whether at lies somewhere below spot.
func within(spot, at workspace.At) bool {
	switch {
	case spot.Endpoint != at.Endpoint || spot == at:
		return false
	case spot.Bucket == "" && spot.Key == "":
		return true
	case spot.Bucket != at.Bucket:
		return false
	}
	return spot.Key == "" || strings.HasSuffix(spot.Key, "/") && strings.HasPrefix(at.Key, spot.Key)
}

// toward is what leads from a level to a thing: where that lies in a pack, the pack.
func (s *Screen) toward(b *branch, at workspace.At) workspace.At {
	for b.at.Bucket != at.Bucket {
		in, ok := s.Service.PackOf(at)
		if !ok {
			break
		}
		at = in
	}
	return at
}

// locate finds the row of a thing, or of the folder that it lies in; -1 for neither, with whether it may
// still come as the level is listed.
func (b *branch) locate(at workspace.At, hasBuckets bool) (row int, exact, mayCome bool) {
	mayCome = !b.state.Ended && b.state.Err == nil || b.making
	is := func(row int) (bool, bool) {
		spot := b.spot(b.entry(row), hasBuckets)
		return spot == at || within(spot, at), spot == at
	}
	if b.view == nil && b.order == level.ByName { // in the order of keys
		key := at.Key
		if b.at.Bucket == "" && hasBuckets {
			key = at.Bucket
		} else if i := strings.IndexByte(strings.TrimPrefix(key, b.at.Key), '/'); i >= 0 {
			key = key[:len(b.at.Key)+i+1]
		}
		row = sort.Search(b.own(), func(i int) bool {
			have := b.entry(i).Key
			if b.at.Bucket == "" && hasBuckets {
				have = strings.TrimSuffix(have, "/")
			}
			return have >= key
		})
		if row < b.own() {
			if here, exact := is(row); here {
				return row, exact, false
			}
		}
		return -1, false, mayCome && row == b.own() // else the names have gone past it
	}
	for row := range b.own() {
		if here, exact := is(row); here {
			return row, exact, false
		}
	}
	return -1, false, mayCome
}

// stay gives up taking the cursor back to what it was on, and keeps why.
func (s *Screen) stay(why string) {
	if s.wanted != nil {
		s.wanted, s.lost = nil, why
	}
}

const isGone = "what the cursor was on is gone"

// orphaned gives it up where nothing that is being opened leads there any more.
func (s *Screen) orphaned() {
	if s.opening == 0 && (s.here.in == nil || s.here.row < 0 || s.here.in.child(s.here.row) == nil) {
		s.stay(isGone)
	}
}

// seek puts the cursor back on what it was on, as far as that is listed by now.
func (s *Screen) seek() tea.Cmd {
	w := s.wanted
	if w == nil || s.here.in == nil || s.here.row < 0 {
		return nil
	}
	for b := s.here.in.child(s.here.row); b != nil; {
		to := s.toward(b, w.at)
		row, exact, mayCome := b.locate(to, s.hasBuckets(b.at.Endpoint))
		exact = exact && to == w.at
		switch {
		case mayCome:
			b.level.Want(max(w.row, b.own()) + s.page)
			return nil
		case row < 0: // it is gone: its neighbour then
			if b.own() > 0 {
				s.here = line{b, min(w.row, b.own()-1)}
			}
			s.stay(isGone)
		case exact:
			s.here, s.wanted = line{b, row}, nil
		default:
			s.here = line{b, row}
			if child := b.child(row); child != nil {
				b = child
				continue
			}
			s.place()
			spot := b.spot(b.entry(row), s.hasBuckets(b.at.Endpoint))
			if b.entry(row).Kind != object.Prefix {
				in, ok := opensAs(b.entry(row), spot)
				if !ok {
					s.stay(isGone)
					return nil
				}
				spot = in
			}
			return s.openLevel(b, row, spot, nil)
		}
		s.place()
		return s.rested()
	}
	return nil
}
