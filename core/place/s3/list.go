package s3

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/wire"
)

// List pages through the bucket (ListObjectsV2). While one page is being
// handed out the next is on its way. A store that does not list in byte order, as the
// reference has it, is found out here, and from then on its listings are sorted:
// then all keys below the prefix are held in memory.
func (p *Place) List(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	if p.store.known.Lacks(place.ListsInOrder) {
		return p.sorted(ctx, prefix, opts)
	}
	return func(yield func(object.Entry, error) bool) {
		last := ""
		for e, err := range p.paged(ctx, prefix, opts) {
			if err == nil && e.Key <= last {
				p.store.known.Learn(place.ListsInOrder, place.Ignored)
				err = place.NewError(p.name, "list", e.Key, place.Otherwise,
					fmt.Errorf("behind %q: %w", last, place.ErrDisorder))
			}
			if last = e.Key; !yield(e, err) || err != nil {
				return
			}
		}
	}
}

// sorted lists a store whose order is its own. It is asked from the start, since what
// lies behind a key is also the store's own.
func (p *Place) sorted(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		var all []object.Entry
		for e, err := range p.paged(ctx, prefix, place.ListOptions{Shallow: opts.Shallow}) {
			if err != nil { // what lies before the gap cannot be told
				yield(object.Entry{}, err)
				return
			}
			if e.Key > opts.After {
				all = append(all, e)
			}
		}
		slices.SortStableFunc(all, func(a, b object.Entry) int { return strings.Compare(a.Key, b.Key) })
		for i := range all {
			if i > 0 && all[i].Key == all[i-1].Key {
				continue // told twice
			}
			if !yield(all[i], nil) {
				return
			}
		}
	}
}

// paged yields what a store lists, in its order.
func (p *Place) paged(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		ctx, stop := context.WithCancel(ctx)
		pages := make(chan page, 1)
		done := make(chan struct{})
		go func() {
			defer close(done)
			defer close(pages)
			p.fetchPages(ctx, prefix, opts, pages)
		}()
		defer func() { stop(); <-done }()
		for pg := range pages {
			for i := range pg.entries {
				if !yield(pg.entries[i], nil) {
					return
				}
			}
			if pg.err != nil {
				yield(object.Entry{}, pg.err)
				return
			}
		}
		if ctx.Err() != nil {
			yield(object.Entry{}, p.fail("list", prefix, ctx.Err()))
		}
	}
}

// page is one answer of a listing.
type page struct {
	entries []object.Entry
	next    string // continuation token, "" at the end
	err     error
}

func (p *Place) fetchPages(ctx context.Context, prefix string, opts place.ListOptions, pages chan<- page) {
	var buf []byte
	token := ""
	var round wire.Round
	for {
		var pg page
		pg, buf = p.fetchPage(ctx, prefix, token, opts, buf)
		if pg.err == nil && pg.next != "" && round.Again(pg.next) {
			pg.err = p.circles("list", prefix)
		}
		select {
		case pages <- pg:
		case <-ctx.Done():
			return
		}
		if token = pg.next; token == "" || pg.err != nil {
			return
		}
	}
}

// circles is the error for pages that lead back to one that was there before.
func (p *Place) circles(op, key string) error {
	return place.NewError(p.name, op, key, place.ServerFault,
		errors.New("the store gives the same page again and again"))
}

func (p *Place) fetchPage(ctx context.Context, prefix, token string, opts place.ListOptions, buf []byte) (page,
	[]byte) {
	query := url.Values{"list-type": {"2"}, "encoding-type": {"url"}, "max-keys": {"1000"}}
	if all := p.prefix + prefix; all != "" {
		query.Set("prefix", all)
	}
	if opts.Shallow {
		query.Set("delimiter", "/")
	}
	if token != "" {
		query.Set("continuation-token", token)
	} else if opts.After != "" {
		query.Set("start-after", p.prefix+opts.After)
	}
	resp, err := p.do(ctx, request{method: http.MethodGet, op: "list", key: prefix, query: query})
	if err != nil {
		return page{err: err}, buf
	}
	defer resp.Body.Close()
	buf, err = readInto(buf[:0], wire.Limited(resp.Body, wire.MostAnswer))
	if err != nil {
		return page{err: p.transportError(ctx, "list", prefix, err)}, buf
	}
	pg, err := scanPage(buf)
	for i := range pg.entries {
		err = cmp.Or(err, pg.entries[i].Sane())
	}
	if err != nil {
		return page{err: place.NewError(p.name, "list", prefix, place.ServerFault, err)}, buf
	}
	// Keys are relative to the place; a store that ignores the prefix or the
	// start is caught here rather than believed.
	kept := pg.entries[:0]
	for _, e := range pg.entries {
		key, ok := strings.CutPrefix(e.Key, p.prefix)
		if !ok || !strings.HasPrefix(key, prefix) || key <= opts.After || key == "" {
			continue
		}
		e.Key = key
		kept = append(kept, e)
	}
	pg.entries = kept
	return pg, buf
}

// readInto reads all of r behind buf, growing it as needed.
func readInto(buf []byte, r io.Reader) ([]byte, error) {
	if cap(buf) == 0 {
		buf = make([]byte, 0, 512<<10)
	}
	for {
		if len(buf) == cap(buf) {
			buf = append(buf, 0)[:len(buf)]
		}
		n, err := r.Read(buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		if err == io.EOF {
			return buf, nil
		}
		if err != nil {
			return buf, err
		}
	}
}
