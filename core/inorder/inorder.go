// Package inorder does work in parallel on a stream and hands the results on
// in the order of the stream, holding only a bounded number at a time. It does
// no work of its own.
package inorder

import (
	"context"
	"sync"
)

// Map reads items from next until it returns false, works on up to workers of
// them at once, and passes each result to out in order, on the caller's
// goroutine. The first error of out, or the end of ctx, stops everything; Map
// returns when all its goroutines have.
func Map[T, R any](ctx context.Context, workers int, next func() (T, bool), work func(context.Context, T) R,
	out func(R) error) error {
	ctx, stop := context.WithCancel(ctx)
	type slot struct {
		item   T
		result chan R
	}
	tasks, order := make(chan slot), make(chan slot, workers*4)
	var all sync.WaitGroup
	defer all.Wait()
	defer stop()
	all.Go(func() {
		defer close(tasks)
		defer close(order)
		for {
			item, ok := next()
			if !ok {
				return
			}
			s := slot{item, make(chan R, 1)}
			for _, to := range []chan slot{order, tasks} {
				select {
				case to <- s:
				case <-ctx.Done():
					return
				}
			}
		}
	})
	for range workers {
		all.Go(func() {
			for s := range tasks {
				s.result <- work(ctx, s.item)
			}
		})
	}
	for s := range order {
		select {
		case r := <-s.result:
			if err := out(r); err != nil {
				return err
			}
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return ctx.Err()
}
