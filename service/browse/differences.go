package browse

import (
	"context"
	"errors"
	"iter"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"lumtra/core/compare"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/service/workspace"
)

// Side is where something is, of two places that are held beside each other.
type Side int

// The sides.
const (
	AtBoth Side = iota
	AtLeft
	AtRight
)

// Difference is one object that is not the same at both places.
type Difference struct {
	// Key is below both places.
	Key string
	// Only is where it is, if it is at one alone.
	Only Side
	// Left and Right are its sizes; Why says how they differ, where both have it.
	Left, Right int64
	Why         string
}

// Differences are those between two places.
type Differences struct {
	Lines []Difference // by key, at most as many as were asked for
	// OnlyLeft, OnlyRight, Other and Same count all, those without a line too. Same is of
	// one size, and of one content where Checked.
	OnlyLeft, OnlyRight, Other, Same int64
	Checked                          bool
}

// All counts what is not the same.
func (d *Differences) All() int64 { return d.OnlyLeft + d.OnlyRight + d.Other }

// beside is how many pairs are compared by checksum at a time.
const beside = 8

// Differences holds two places beside each other, by key and size and, with sums, by the
// checksums of what has one size: stored ones, or those of files that are read for it. It
// keeps the first most lines; grow, when not nil, hears of the counts as they grow.
func (s *Browser) Differences(ctx context.Context, left, right workspace.At, sums bool, most int,
	grow func(Differences)) (Differences, error) {
	var places [2]place.Place
	for i, at := range []workspace.At{left, right} {
		var err error
		if s.ws.AtTop(at) || at.Key != "" && !strings.HasSuffix(at.Key, "/") {
			return Differences{},
				workspace.BadInput(errors.New("buckets and folders are held beside each other: go into one"))
		}
		if places[i], err = s.ws.Place(ctx, at.Text()); err != nil {
			return Differences{}, err
		}
	}
	d := &differing{most: most, grow: grow, d: Differences{Checked: sums}}
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(beside)
	err := merged(ctx, places[0], places[1], func(a, b *object.Entry) {
		switch {
		case b == nil:
			d.add(Difference{Key: a.Key, Only: AtLeft, Left: a.Size})
		case a == nil:
			d.add(Difference{Key: b.Key, Only: AtRight, Right: b.Size})
		case a.Size != b.Size:
			d.add(Difference{Key: a.Key, Left: a.Size, Right: b.Size, Why: "another size"})
		case !sums:
			d.same()
		default:
			x, y := *a, *b
			work.Go(func() error { return d.compare(ctx, places[0], places[1], &x, &y) })
		}
	})
	if err = errors.Join(err, work.Wait()); err != nil {
		return Differences{}, err
	}
	slices.SortFunc(d.d.Lines, func(a, b Difference) int { return strings.Compare(a.Key, b.Key) })
	return d.d, nil
}

// differing gathers differences, from many goroutines.
type differing struct {
	most int
	grow func(Differences)

	mu sync.Mutex
	d  Differences
}

func (x *differing) add(line Difference) {
	x.mu.Lock()
	defer x.mu.Unlock()
	switch line.Only {
	case AtLeft:
		x.d.OnlyLeft++
	case AtRight:
		x.d.OnlyRight++
	default:
		x.d.Other++
	}
	if len(x.d.Lines) < x.most {
		x.d.Lines = append(x.d.Lines, line)
	}
	x.tell()
}

func (x *differing) same() {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.d.Same++
	x.tell()
}

func (x *differing) tell() {
	if x.grow != nil {
		now := x.d
		now.Lines = nil
		x.grow(now)
	}
}

// compare holds two objects of one size against each other by their checksums.
func (x *differing) compare(ctx context.Context, left, right place.Place, a, b *object.Entry) error {
	res, err := compare.Contents(ctx, compare.ByStoredSum, left, a, right, b)
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		x.add(Difference{Key: a.Key, Left: a.Size, Right: b.Size, Why: "not compared: " + err.Error()})
	case !res.Same:
		x.add(Difference{Key: a.Key, Left: a.Size, Right: b.Size, Why: res.Why})
	default:
		x.same()
	}
	return nil
}

// merged walks the objects of two places in the order of their keys. An entry is good until
// the next call.
func merged(ctx context.Context, left, right place.Place, take func(a, b *object.Entry)) error {
	var next [2]func() (object.Entry, error, bool)
	for i, p := range []place.Place{left, right} {
		n, stop := iter.Pull2(p.List(ctx, "", place.ListOptions{}))
		defer stop()
		next[i] = n
	}
	step := func(i int) (*object.Entry, error) {
		for {
			e, err, ok := next[i]()
			if err != nil || !ok {
				return nil, err
			}
			if e.Kind == object.Object {
				return &e, nil
			}
		}
	}
	a, err := step(0)
	b, bad := step(1)
	for err = errors.Join(err, bad); err == nil && (a != nil || b != nil); {
		switch {
		case b == nil || a != nil && a.Key < b.Key:
			take(a, nil)
			a, err = step(0)
		case a == nil || b.Key < a.Key:
			take(nil, b)
			b, err = step(1)
		default:
			take(a, b)
			if a, err = step(0); err == nil {
				b, err = step(1)
			}
		}
	}
	return err
}
