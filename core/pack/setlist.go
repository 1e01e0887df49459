package pack

import (
	"container/heap"
	"context"
	"iter"
	"slices"
	"strings"

	"lumtra/core/object"
	"lumtra/core/place"
)

// List lists what is in the packs and beside them, in the order of keys. Of the packs only those are open
// whose names come between others'.
func (s *Set) List(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		names, firsts, err := s.begin(ctx)
		if err != nil {
			yield(object.Entry{}, err)
			return
		}
		names = slices.DeleteFunc(slices.Clone(names), func(name string) bool {
			return firsts[name] == "" && !s.Pack(name).broken() // of a broken one it is told
		})
		slices.SortStableFunc(names, func(a, b string) int { return strings.Compare(firsts[a], firsts[b]) })
		var l lists
		defer l.close()
		if err := l.open(s.besides(ctx, prefix, opts), ""); err != nil {
			yield(object.Entry{}, err)
			return
		}
		last, begun := "", false
		for len(l) > 0 || len(names) > 0 {
			if len(names) > 0 && (len(l) == 0 || strings.TrimPrefix(firsts[names[0]], s.prefix) <= l[0].at.Key ||
				opts.Shallow || !strings.HasPrefix(firsts[names[0]], s.prefix)) {
				err := l.open(s.Pack(names[0]).List(ctx, prefix, opts), names[0])
				if err != nil && !yield(object.Entry{}, err) {
					return
				}
				names = names[1:]
				continue
			}
			e := l[0].at
			if !begun || e.Key != last {
				if !yield(e, nil) {
					return
				}
			}
			last, begun = e.Key, true
			if err := l.advance(s); err != nil && !yield(object.Entry{}, err) { // the others are listed all the same
				return
			}
		}
	}
}

// besides is what lies beside the packs.
func (s *Set) besides(ctx context.Context, prefix string, opts place.ListOptions) iter.Seq2[object.Entry, error] {
	return func(yield func(object.Entry, error) bool) {
		for e, err := range s.loose.List(ctx, prefix, opts) {
			if err == nil && s.isPack(s.prefix+e.Key) && e.Kind == object.Object {
				continue
			}
			if !yield(e, err) {
				return
			}
		}
	}
}

// list is one listing under way, at an entry.
type list struct {
	at   object.Entry
	from string // the pack's name, "" for what lies beside
	next func() (object.Entry, error, bool)
	stop func()
}

// lists are those under way, the one with the lowest key first: see [heap.Interface].
type lists []*list

func (l lists) Len() int { return len(l) }
func (l lists) Less(i, k int) bool {
	if l[i].at.Key != l[k].at.Key {
		return l[i].at.Key < l[k].at.Key
	}
	return l[i].from < l[k].from
}
func (l lists) Swap(i, k int) { l[i], l[k] = l[k], l[i] }
func (l *lists) Push(x any)   { *l = append(*l, x.(*list)) }
func (l *lists) Pop() any {
	x := (*l)[len(*l)-1]
	*l = (*l)[:len(*l)-1]
	return x
}

// open begins a listing.
func (l *lists) open(seq iter.Seq2[object.Entry, error], from string) error {
	x := &list{from: from}
	x.next, x.stop = iter.Pull2(seq)
	e, err, ok := x.next()
	if !ok || err != nil {
		x.stop()
		return err
	}
	x.at = e
	heap.Push(l, x)
	return nil
}

// advance moves the first on, or ends it.
func (l *lists) advance(s *Set) error {
	x := (*l)[0]
	e, err, ok := x.next()
	if ok && err == nil {
		x.at = e
		heap.Fix(l, 0)
		return nil
	}
	x.stop()
	heap.Pop(l)
	if x.from != "" {
		s.Pack(x.from).let()
	}
	return err
}

func (l *lists) close() {
	for _, x := range *l {
		x.stop()
	}
}

// let lets go of what was read of the pack, which stays open.
func (p *Place) let() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.opened != nil {
		p.opened.raw.forget()
	}
}
