package catalog

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"lumtra/core/listing"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/retry"
)

// Progress tells how far a survey has come. Any goroutine may read it.
type Progress struct {
	Objects, Bytes atomic.Int64
	// Done tells that its end was reached, or that a kept survey served.
	Done atomic.Bool
}

// keptProblems is how many problems a catalog tells in words.
const keptProblems = 20

// Options shape a survey. The zero value lists everything over one connection.
type Options struct {
	// Streams is how many listings may be under way at a time at a place that
	// answers slowly; such a place is listed by prefixes found on the way.
	Streams int
	// Progress, when not nil, is told how far it is.
	Progress *Progress
	// Old and Prefix, when Old is not nil, list only what starts with the prefix
	// and take the rest from the older survey.
	Old    *Catalog
	Prefix string
	// Now is the clock that the survey is dated by; nil is the machine's.
	Now func() time.Time
}

// Survey lists the place into a catalog at path and returns it open.
//
// Parts that cannot be listed are noted in the catalog, which is then
// incomplete; when nothing can be, that is the error. A place that is absent
// but would come into being by writing makes an empty catalog.
func Survey(ctx context.Context, p place.Place, path string, opts Options) (*Catalog, error) {
	c, err := surveyOnce(ctx, p, path, opts)
	if errors.Is(err, place.ErrDisorder) { // its listings are sorted from now on
		if opts.Progress != nil {
			opts.Progress.Objects.Store(0)
			opts.Progress.Bytes.Store(0)
		}
		c, err = surveyOnce(ctx, p, path, opts)
	}
	return c, err
}

func surveyOnce(ctx context.Context, p place.Place, path string, opts Options) (*Catalog, error) {
	if opts.Now == nil {
		opts.Now = time.Now
	}
	w, err := Create(path, Info{Place: p.Name(), Began: opts.Now()})
	if err != nil {
		return nil, err
	}
	defer w.Abandon()
	s := &survey{w: w, p: p, opts: opts, patient: &patient{p}}
	if opts.Progress == nil {
		s.opts.Progress = &Progress{}
	}
	if old := opts.Old; old != nil {
		// As old as the older part, and as incomplete.
		w.info.Began, w.info.Problems, w.info.Missed = old.Info.Began, slices.Clone(old.Info.Problems), old.Info.Missed
		if err := s.copyOld(old.Cursor(""), func(key string) bool {
			return key < opts.Prefix &&
				!strings.HasPrefix(key, opts.Prefix)
		}); err != nil {
			return nil, err
		}
	}
	gap, err := s.list(ctx)
	if err != nil {
		return nil, err
	}
	if old := opts.Old; old != nil {
		c := old.Cursor(opts.Prefix)
		for c.Next() && strings.HasPrefix(c.Entry().Key, opts.Prefix) {
		}
		if c.Entry().Key > opts.Prefix && !strings.HasPrefix(c.Entry().Key, opts.Prefix) {
			if err := s.add(c.Entry()); err != nil {
				return nil, err
			}
		}
		if err := s.copyOld(c, func(string) bool { return true }); err != nil {
			return nil, err
		}
	}
	if gap != nil && w.info.Objects == 0 {
		if place.KindOf(gap) != place.NotFound || !place.Can(p).MakesRoot {
			return nil, gap
		}
		w.info.Problems, w.info.Missed, w.info.Absent = nil, 0, true
	}
	if _, err := w.Finish(); err != nil {
		return nil, fmt.Errorf("keeping the survey of %s: %w", p.Name(), err)
	}
	return Open(path)
}

// survey is one under way.
type survey struct {
	w       *Writer
	p       place.Place
	patient *patient
	opts    Options
	last    string
}

func (s *survey) add(e *object.Entry) error {
	if err := e.Sane(); err != nil {
		return place.NewError(s.p.Name(), "list", "", place.ServerFault, err)
	}
	if err := s.w.Add(e); err != nil {
		if e.Key <= s.last {
			err = place.NewError(s.p.Name(), "list", e.Key, place.ServerFault,
				errors.New("the listing is not in byte order"))
		}
		return err
	}
	s.last = e.Key
	s.opts.Progress.Objects.Add(1)
	s.opts.Progress.Bytes.Add(e.Size)
	return nil
}

// copyOld takes over entries of an older survey, as long as they fit.
func (s *survey) copyOld(c *Cursor, fits func(key string) bool) error {
	for c.Next() && fits(c.Entry().Key) {
		if err := s.add(c.Entry()); err != nil {
			return err
		}
	}
	return c.Err()
}

const (
	// firstPage is how many entries are listed over one connection before it is
	// known how fast the place answers; slowPage is how long that may take where
	// one connection is best.
	firstPage = 1000
	slowPage  = 15 * time.Millisecond
)

// list lists what is wanted and returns the first problem that left a gap, and
// the error that made going on senseless.
func (s *survey) list(ctx context.Context) (gap, fatal error) {
	began, seen, slow := time.Now(), 0, false
	for e, err := range s.patient.List(ctx, s.opts.Prefix, place.ListOptions{}) {
		if gap, fatal = s.take(&e, err, gap); fatal != nil || ctx.Err() != nil {
			return gap, cmp.Or(fatal, ctx.Err())
		}
		if seen++; seen == firstPage && s.opts.Streams > 1 && !place.Can(s.p).Tree && time.Since(began) > slowPage {
			slow = true
			break
		}
	}
	if ctx.Err() != nil || !slow {
		return gap, ctx.Err()
	}
	have := s.last
	for e, err := range listing.All(ctx, s.patient, s.opts.Prefix, s.opts.Streams) {
		if err == nil && e.Key <= have {
			continue
		}
		if gap, fatal = s.take(&e, err, gap); fatal != nil || ctx.Err() != nil {
			break
		}
	}
	return gap, cmp.Or(fatal, ctx.Err())
}

// take adds an entry, or notes what could not be listed.
func (s *survey) take(e *object.Entry, err, gap error) (error, error) {
	if err == nil {
		return gap, s.add(e)
	}
	if errors.Is(err, place.ErrDisorder) {
		return gap, err // nothing of it holds
	}
	s.w.problem(err)
	return cmp.Or(gap, err), nil
}

// patient is a place whose listings, when they break, are taken up again
// behind the last key.
type patient struct{ place.Place }

// List yields what the place does; an error that another try did not mend is
// yielded, and ends the listing.
func (p *patient) List(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		for attempt := 1; ; attempt++ {
			var broke error
			for e, err := range p.Place.List(ctx, prefix, opts) {
				if err != nil && !errors.Is(err, place.ErrDisorder) && (retry.Worth(err) || ctx.Err() != nil) {
					broke = err
					break
				}
				if !yield(e, err) {
					return
				}
				if err == nil {
					opts.After, attempt, broke = e.Key, 1, nil
				}
			}
			switch {
			case broke == nil:
				return
			case ctx.Err() != nil || attempt >= retry.Usual.Tries || !retry.Usual.Wait(ctx, attempt, broke):
				yield(object.Entry{}, broke)
				return
			}
		}
	}
}

func (w *Writer) problem(err error) {
	if w.info.Missed++; len(w.info.Problems) < keptProblems {
		w.info.Problems = append(w.info.Problems, err.Error())
	}
}
