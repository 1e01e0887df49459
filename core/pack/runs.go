package pack

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
)

// errThrough means that a pack cannot be written anew inside its store: its content passes through here.
var errThrough = errors.New("its content passes through here")

// mostPlaced is how many members a pack may have whose places are held in memory, 16 bytes each.
const mostPlaced = 4 << 20

// mostHead is how many bytes of the stream there may be between one member's content and the next: the
// head of that, with its long name and extended attributes. blockSize is what all in a tar is a multiple of.
const (
	mostHead  = 1 << 20
	blockSize = 512
)

// layout is where the frames of a pack begin, in the object and in the stream of members; the last of both
// is where they end. A plain pack has none: its object is its stream.
type layout struct{ object, stream []int64 }

// begin is a layout without frames.
func begin() *layout { return &layout{object: []int64{0}, stream: []int64{0}} }

// add puts a frame behind those there are.
func (l *layout) add(packed, raw int64) {
	l.object = append(l.object, l.object[len(l.object)-1]+packed)
	l.stream = append(l.stream, l.stream[len(l.stream)-1]+raw)
}

// frames is how many there are.
func (l *layout) frames() int { return len(l.object) - 1 }

// row is how long a frame is, in the object and in the stream.
func (l *layout) row(i int) (packed, raw int64) {
	return l.object[i+1] - l.object[i], l.stream[i+1] - l.stream[i]
}

// holds is the frame that a byte of the stream lies in; that behind the last is in the frame to come.
func (l *layout) holds(at int64) int {
	return sort.Search(len(l.stream), func(i int) bool { return l.stream[i] > at }) - 1
}

// table is the rows of the seek table of the Zstandard seekable format; none for a plain pack.
func (l *layout) table() (rows []byte) {
	if l == nil {
		return nil
	}
	for i := range l.frames() {
		packed, raw := l.row(i)
		rows = appendRow(rows, packed, raw)
	}
	return rows
}

// holdsObject is the frame that begins at an offset in the object.
func (l *layout) holdsObject(at int64) int {
	i, _ := slices.BinarySearch(l.object, at)
	return i
}

// layout reads where the frames of a pack lie, from its seek table.
func (p *Pack) layout(ctx context.Context) (*layout, error) {
	table, err := p.table(ctx)
	if err != nil {
		return nil, err
	}
	l := begin()
	for ; len(table) >= 8; table = table[8:] {
		packed, raw := int64(le.Uint32(table)), int64(le.Uint32(table[4:]))
		if raw == 0 || raw > FrameSize || packed == 0 || packed > 2*FrameSize { // not one of ours
			return nil, fmt.Errorf("a frame of %d bytes: %w", raw, errThrough)
		}
		l.add(packed, raw)
	}
	if n := l.frames(); l.object[n] != p.foot.end || l.stream[n] != p.foot.stream {
		return nil, fmt.Errorf("the seek table does not fit the pack: %w", errThrough)
	}
	return l, nil
}

// run is a stretch of the stream of members that stays, or goes.
type run struct {
	from, to int64
	live     bool
	// new is where it begins in the stream of the new pack.
	new int64
}

// placed is a member's content in the stream: where it begins, and its length with a bit behind it that
// tells whether it is still there. A pack has millions.
type placed struct{ at, size int64 }

// runs finds which stretches of the stream are still there. A member's stretch begins with its head, right
// behind the content of the one before, and ends with the padding of its content; the order of the stream is
// not that of the index. l is nil for a plain pack.
func (p *Pack) runs(ctx context.Context, l *layout) ([]run, error) {
	if p.foot.members+p.foot.dropped > mostPlaced {
		return nil, fmt.Errorf("it has very many members: %w", errThrough)
	}
	all, err := p.places(ctx, l)
	if err != nil {
		return nil, err
	}
	var runs []run
	var end, kept int64
	for i := 0; i < len(all); {
		at, size, live := all[i].at, all[i].size>>1, false
		for ; i < len(all) && all[i].at == at; i++ { // versions of a name may share their content
			live = live || all[i].size&1 == 1
			if all[i].size>>1 != size {
				return nil, fmt.Errorf("two members lie at one place: %w", errThrough)
			}
		}
		if head := at - end; head < blockSize || head%blockSize != 0 || head > mostHead {
			return nil, fmt.Errorf("%d bytes before a member are none's: %w", head, errThrough)
		}
		from := end
		end = at + (size+blockSize-1)/blockSize*blockSize
		if n := len(runs); n > 0 && runs[n-1].live == live {
			runs[n-1].to = end
		} else {
			runs = append(runs, run{from, end, live, kept})
		}
		if live {
			kept += end - from
		}
	}
	if end != p.foot.stream || len(runs) == 0 {
		return nil, fmt.Errorf("the index does not tell of all that is in the pack: %w", errThrough)
	}
	return runs, nil
}

// places gives where all members lie in the stream, in its order, with those that are there no more.
func (p *Pack) places(ctx context.Context, l *layout) ([]placed, error) {
	var all []placed
	last := ""
	c := p.cursor(ctx, "")
	for c.Next() {
		m, err := memberAt(c)
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return nil, p.wrong("list", "", err)
		}
		newest := m.Name != last
		last = m.Name
		switch {
		case m.Implied:
			continue
		case m.Kind == Hardlink: // the index has where the content lies that it leads to, and not itself
			return nil, fmt.Errorf("it has files with several names: %w", errThrough)
		case m.Kind != File:
			m.Size = 0
		}
		at := m.span.at
		if l != nil {
			i, ok := slices.BinarySearch(l.object, m.span.at)
			if !ok {
				return nil, fmt.Errorf("%s lies in no frame: %w", m.Name, errThrough)
			}
			at = l.stream[i] + m.span.skip
		}
		size := m.Size << 1
		if newest && !m.Dropped {
			size |= 1
		}
		all = append(all, placed{at, size})
	}
	if err := c.Err(); err != nil {
		return nil, p.wrong("list", "", err)
	}
	slices.SortFunc(all, func(a, b placed) int {
		if a.at < b.at {
			return -1
		}
		if a.at > b.at {
			return 1
		}
		return 0
	})
	return all, nil
}

// what becomes of a piece of the object.
type fate int

const (
	stays fate = iota
	goes
	partly // a frame of which some stays
)

// piece is a stretch of the object.
type piece struct {
	from, to int64
	fate     fate
	frame    int // its first
}

// lying are the runs as they lie in the object.
func lying(runs []run, l *layout) (all []piece) {
	add := func(x piece) {
		if n := len(all); n > 0 && all[n-1].fate == x.fate && x.fate != partly {
			all[n-1].to = x.to
			return
		}
		all = append(all, x)
	}
	if l == nil {
		for _, r := range runs {
			x := piece{from: r.from, to: r.to, fate: goes}
			if r.live {
				x.fate = stays
			}
			add(x)
		}
		return all
	}
	for i, at := 0, 0; i < l.frames(); i++ {
		from, to := l.stream[i], l.stream[i+1]
		for at < len(runs)-1 && runs[at].to <= from {
			at++
		}
		x := piece{from: l.object[i], to: l.object[i+1], fate: goes, frame: i}
		switch {
		case runs[at].to < to:
			x.fate = partly
		case runs[at].live:
			x.fate = stays
		}
		add(x)
	}
	return all
}

// first is the first run that reaches behind a byte of the stream.
func first(runs []run, at int64) int {
	return sort.Search(len(runs), func(i int) bool { return runs[i].to > at })
}

// moved is where a byte of the stream that stays, or that behind it, lies in the new one.
func moved(runs []run, at int64) int64 {
	i := sort.Search(len(runs), func(i int) bool { return runs[i].from > at }) - 1
	return runs[i].new + at - runs[i].from
}

// place is where content lies in frames, as a [Writer] notes it: from a byte of the stream on.
func (l *layout) place(at, size int64) (s span) {
	i := l.holds(at)
	s.at, s.end, s.skip = l.object[i], l.object[i], at-l.stream[i]
	if size == 0 {
		return s
	}
	last := l.holds(at + size - 1)
	s.end = l.object[last+1]
	for k := i; k < last; k++ {
		if _, raw := l.row(k); raw != FrameSize { // then places to begin cannot be told by steps
			return s
		}
	}
	frames := int64(last - i + 1)
	stride := max(1, (frames+mostStops)/(mostStops+1))
	s.step = stride * FrameSize
	for n := stride; n < frames; n += stride {
		s.stops = append(s.stops, l.object[int64(i)+n])
	}
	return s
}
