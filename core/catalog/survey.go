package catalog

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"lumtra/core/place"
	"lumtra/core/retry"
)

// Progress tells how far a survey has come. Any goroutine may read it.
type Progress struct {
	Objects, Bytes atomic.Int64
}

// keptProblems is how many problems a catalog tells in words.
const keptProblems = 20

// Survey lists the place into a catalog at path and returns it open.
//
// Parts that cannot be listed are noted in the catalog, which is then
// incomplete; when nothing can be, that is the error. A place that is absent
// but would come into being by writing makes an empty catalog.
func Survey(ctx context.Context, p place.Place, path string, progress *Progress) (*Catalog, error) {
	w, err := Create(path, Info{Place: p.Name(), Began: time.Now()})
	if err != nil {
		return nil, err
	}
	defer w.Abandon()
	first, err := w.list(ctx, p, progress)
	if err != nil {
		return nil, err
	}
	if first != nil && w.info.Objects == 0 {
		if place.KindOf(first) != place.NotFound || !p.Abilities().MakesRoot {
			return nil, first
		}
		w.info.Problems, w.info.Missed, w.info.Absent = nil, 0, true
	}
	if _, err := w.Finish(); err != nil {
		return nil, fmt.Errorf("keeping the survey of %s: %w", p.Name(), err)
	}
	return Open(path)
}

// list writes the whole listing and returns the first problem that left a gap
// in it, and the error that made going on senseless. A listing that broke is
// taken up again behind the last key.
func (w *Writer) list(ctx context.Context, p place.Place, progress *Progress) (gap, fatal error) {
	last := ""
	for attempt := 1; ; attempt++ {
		var broke error
		for e, err := range p.List(ctx, "", place.ListOptions{After: last}) {
			if err != nil {
				if broke = err; retry.Worth(err) || ctx.Err() != nil {
					break
				}
				gap = cmp.Or(gap, err)
				w.problem(err)
				continue
			}
			if err := w.Add(&e); err != nil {
				if e.Key <= last {
					err = place.NewError(p.Name(), "list", e.Key, place.ServerFault, errors.New("the listing is not in byte order"))
				}
				return gap, err
			}
			last, attempt, broke = e.Key, 1, nil
			if progress != nil {
				progress.Objects.Add(1)
				progress.Bytes.Add(e.Size)
			}
		}
		switch {
		case ctx.Err() != nil:
			return gap, cmp.Or(broke, ctx.Err())
		case !retry.Worth(broke):
			return gap, nil
		case attempt >= retry.Usual.Tries:
			w.problem(broke)
			return cmp.Or(gap, broke), nil
		case !retry.Usual.Wait(ctx, attempt, broke):
			return gap, broke
		}
	}
}

func (w *Writer) problem(err error) {
	if w.info.Missed++; len(w.info.Problems) < keptProblems {
		w.info.Problems = append(w.info.Problems, err.Error())
	}
}
