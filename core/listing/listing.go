package listing

import (
	"context"
	"iter"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"lumtra/core/object"
	"lumtra/core/place"
)

const (
	// first is how much of a prefix is read before it is split: less than a
	// store's page would be asked for twice.
	first = 1000
	// thin is the number of keys a request should bring on average. Where
	// prefixes hold fewer, splitting costs more than it gains and ends.
	thin = 100
	// sample is after how many prefixes that is looked at.
	sample = 64
)

// All yields what p.List yields for the prefix, in the same order, with up to
// streams listings under way at a time. An error ends the listing of the part
// it belongs to, as in [place.Place.List], and the others go on.
func All(ctx context.Context, p place.Place, prefix string, streams int) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		ctx, stop := context.WithCancel(ctx)
		l := &lister{ctx: ctx, p: p, turns: make(chan struct{}, max(streams, 1))}
		defer l.all.Wait()
		defer stop()
		l.emit(l.start(prefix, "", streams > 1), yield)
	}
}

// lister is one listing under way.
type lister struct {
	ctx   context.Context
	p     place.Place
	turns chan struct{} // a place in it is the right to talk to the store
	all   sync.WaitGroup
}

// part is the listing of one prefix: a stream of events in order of keys.
type part struct{ events chan event }

// event is some entries, an error, or a part whose events come here.
type event struct {
	entries []object.Entry
	err     error
	below   *part
}

// emit hands out a part's events, those of parts within it in their places. It
// returns false when the caller has had enough.
func (l *lister) emit(x *part, yield func(object.Entry, error) bool) bool {
	for e := range x.events {
		switch {
		case e.below != nil:
			if !l.emit(e.below, yield) {
				return false
			}
		case e.err != nil:
			if !yield(object.Entry{}, e.err) {
				return false
			}
		}
		for i := range e.entries {
			if !yield(e.entries[i], nil) {
				return false
			}
		}
	}
	return true
}

// start lists a prefix, behind the key after, on a goroutine of its own.
func (l *lister) start(prefix, after string, split bool) *part {
	x := &part{make(chan event, 4)}
	l.all.Go(func() {
		defer close(x.events)
		l.list(x, prefix, after, split)
	})
	return x
}

// send passes an event on; false means that nobody wants it.
func (l *lister) send(x *part, e event) bool {
	select {
	case x.events <- e:
		return true
	case <-l.ctx.Done():
		return false
	}
}

// pages runs a listing and hands on its entries, some at a time, with the
// right to talk to the store given back while they wait. It stops early when
// take says so, and tells whether it came to the end.
func (l *lister) pages(prefix string, opts place.ListOptions, take func([]object.Entry, error) bool) bool {
	turn := func() bool {
		select {
		case l.turns <- struct{}{}:
			return true
		case <-l.ctx.Done():
			return false
		}
	}
	if !turn() {
		return false
	}
	mine := true
	defer func() {
		if mine {
			<-l.turns
		}
	}()
	var batch []object.Entry
	hand := func(err error) bool {
		<-l.turns
		mine = false
		if !take(batch, err) {
			return false
		}
		batch = nil
		mine = turn()
		return mine
	}
	for e, err := range l.p.List(l.ctx, prefix, opts) {
		if err == nil {
			batch = append(batch, e)
		}
		if (err != nil || len(batch) == first) && !hand(err) {
			return false
		}
	}
	return len(batch) == 0 || hand(nil)
}

// list lists a prefix: the first keys as they come, then, when there are more,
// what lies below each prefix on its own.
func (l *lister) list(x *part, prefix, after string, split bool) {
	last, full := after, false
	l.pages(prefix, place.ListOptions{After: after}, func(batch []object.Entry, err error) bool {
		if len(batch) > 0 {
			last = batch[len(batch)-1].Key
		}
		more := l.send(x, event{entries: batch}) && (err == nil || l.send(x, event{err: err}))
		full = more && split && err == nil && len(batch) == first
		return more && !full
	})
	if full {
		l.split(x, prefix, last)
	}
}

// split goes on behind the key last: with the rest of the prefix it lies in,
// then level by level.
func (l *lister) split(x *part, prefix, last string) {
	done := last
	if i := strings.IndexByte(last[len(prefix):], '/'); i >= 0 {
		within := last[:len(prefix)+i+1]
		if !l.send(x, event{below: l.start(within, last, true)}) {
			return
		}
		done = within
	}
	// Many parts may be under way here, but no more than can be kept busy.
	wide := &part{make(chan event, 2*cap(l.turns))}
	if !l.send(x, event{below: wide}) {
		close(wide.events)
		return
	}
	var begun, finished, found atomic.Int64
	worth := func() bool { return finished.Load() < sample || found.Load() >= thin*finished.Load() }
	ended := l.pages(prefix, place.ListOptions{Shallow: true, After: done}, func(batch []object.Entry, err error) bool {
		for len(batch) > 0 {
			n := slices.IndexFunc(batch, func(e object.Entry) bool { return e.Kind == object.Prefix })
			if n < 0 {
				n = len(batch)
			}
			if n > 0 {
				done = batch[n-1].Key
				if !l.send(wide, event{entries: batch[:n]}) {
					return false
				}
				batch = batch[n:]
				continue
			}
			if begun.Load() >= sample && !worth() {
				return false
			}
			begun.Add(1)
			done = batch[0].Key
			if !l.send(wide, event{below: l.counted(l.start(done, "", true), &finished, &found)}) {
				return false
			}
			batch = batch[1:]
		}
		return err == nil || l.send(wide, event{err: err})
	})
	close(wide.events)
	if ended || l.ctx.Err() != nil || worth() {
		return
	}
	l.rest(x, prefix, done)
}

// rest lists what comes behind a key in one go: prefixes that hold little are not worth a
// request each. Of what a prefix done holds nothing comes again.
func (l *lister) rest(x *part, prefix, done string) {
	from := done
	if strings.HasSuffix(done, "/") {
		from += "\U0010FFFF"
	}
	l.pages(prefix, place.ListOptions{After: from}, func(batch []object.Entry, err error) bool {
		kept := batch[:0]
		for _, e := range batch {
			if !strings.HasSuffix(done, "/") || !strings.HasPrefix(e.Key, done) {
				kept = append(kept, e)
			}
		}
		return l.send(x, event{entries: kept}) && (err == nil || l.send(x, event{err: err}))
	})
}

// counted passes a part's events on and counts what it held.
func (l *lister) counted(x *part, finished, found *atomic.Int64) *part {
	y := &part{make(chan event, 1)}
	l.all.Go(func() {
		defer close(y.events)
		defer finished.Add(1)
		for e := range x.events {
			found.Add(int64(len(e.entries)))
			if e.below != nil {
				found.Add(thin) // too many for one page
			}
			if !l.send(y, e) {
				for range x.events { // so that it can end
				}
				return
			}
		}
	})
	return y
}
