package arrive

import (
	"context"
	"encoding/binary"
	"hash/fnv"
	"iter"
	"time"

	"lumtra/core/object"
)

// Store watches a place by listing it now and then.
type Store struct {
	Every time.Duration
	// List lists the place.
	List func(ctx context.Context) iter.Seq2[object.Entry, error]
	// Came is called when objects are others than at the listing before, with how many there are.
	Came func(objects int)
	// Failed is told why the place could not be listed.
	Failed func(error)
}

// Watch lists until ctx ends. The first listing tells as well: what came while nobody listed is not
// known.
func (w *Store) Watch(ctx context.Context) {
	var was uint64
	tick := time.NewTicker(w.Every)
	defer tick.Stop()
	for {
		sum, n, err := w.print(ctx)
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			w.Failed(err)
		case sum != was && n > 0:
			was = sum
			w.Came(n)
		case err == nil:
			was = sum
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// print is a sum over what is listed, which other objects have another of.
func (w *Store) print(ctx context.Context) (sum uint64, n int, err error) {
	h := fnv.New64a()
	for e, err := range w.List(ctx) {
		if err != nil {
			return 0, 0, err
		}
		if e.Kind != object.Object {
			continue
		}
		n++
		h.Write([]byte(e.Key))
		h.Write([]byte{0})
		h.Write([]byte(e.ETag))
		h.Write(binary.LittleEndian.AppendUint64(nil, uint64(e.Size)))
		h.Write(binary.LittleEndian.AppendUint64(nil, uint64(e.Modified.UnixNano())))
	}
	return h.Sum64(), n, nil
}
