package place

import (
	"context"
	"errors"
	"fmt"
	"io"

	"lumtra/core/object"
)

// Guard keeps a write from overwriting what its caller has not seen. Where a store
// is known to decide that itself in the moment of writing, it does. Else the place
// is looked at just before and just after: another writer may come between, which
// is then told, though not prevented.
type Guard struct {
	// Sends tells that the condition goes along with the request.
	Sends bool
	// Looks tells that the place is looked at before and after.
	Looks bool
	// Ask is what the condition asks of the store.
	Ask Ask
	p   Place
	op  string
	key string
}

// NewGuard looks before a write, if need be. absent and still are what the two
// conditions ask of the store in this act.
func NewGuard(ctx context.Context, p Place, k *Known, op, key string, opts WriteOptions, absent, still Ask) (*Guard,
	error) {
	g := &Guard{p: p, op: op, key: key, Ask: absent}
	if opts.Condition == Always {
		return g, nil
	}
	if opts.Condition == IfStill {
		g.Ask = still
	}
	// A mark is a listing's: where those are other ETags than the store decides by, it can't decide.
	other := opts.Condition == IfStill && k.Lacks(ListsETags)
	g.Sends, g.Looks = k.Of(g.Ask) != Refused && !other, !k.Does(g.Ask) || other
	if !g.Looks {
		return g, nil
	}
	ref := object.Ref{Key: key}
	if opts.Condition == IfStill {
		ref.IfMark = opts.Mark
	}
	there, err := p.Stat(ctx, ref)
	switch gone := err != nil && KindOf(err) == NotFound; {
	case err != nil && !gone:
		return g, err
	case opts.Condition == IfAbsent && !gone:
		return g, NewError(p.Name(), op, key, Exists, errors.New("something is there"))
	case opts.Condition == IfStill && gone:
		return g, NewError(p.Name(), op, key, NotFound, errors.New("it is gone"))
	case opts.Condition == IfStill && there.Mark() != opts.Mark:
		return g, NewError(p.Name(), op, key, Changed, nil)
	}
	return g, nil
}

// Asks are what a refusal of the request may be about.
func (g *Guard) Asks() []Ask {
	if !g.Sends {
		return nil
	}
	return []Ask{g.Ask}
}

// After looks whether what is there now is what was written, and fills in what the
// answer did not tell.
func (g *Guard) After(ctx context.Context, e *object.Entry) error {
	if !g.Looks {
		return nil
	}
	there, err := g.p.Stat(ctx, object.Ref{Key: g.key})
	switch {
	case err != nil && KindOf(err) != NotFound:
		return err
	case err != nil, e.ETag != "" && there.ETag != e.ETag, e.Version != "" && there.Version != e.Version:
		return NewError(g.p.Name(), g.op, g.key, Changed,
			errors.New("another writer came between; look at both before planning again"))
	}
	return Told(g.p, g.op, e, &there)
}

// Told fills in, from what is there, what an answer did not tell of an object that
// was written. One of another size is [Corrupt].
func Told(p Place, op string, e, there *object.Entry) error {
	if there.Size != e.Size {
		return Damaged(p, op, there, fmt.Errorf("%d bytes are there, %d were sent", there.Size, e.Size))
	}
	if e.ETag == "" {
		e.ETag, e.Version = there.ETag, there.Version
	}
	if e.Modified.IsZero() {
		e.Modified = there.Modified
	}
	return nil
}

// Damaged is the error for content that is there since a write and is not what was
// sent.
func Damaged(p Place, op string, e *object.Entry, why error) error {
	bad := NewError(p.Name(), op, e.Key, Corrupt, why)
	bad.Left = e.Mark()
	return bad
}

// readBacks is how often at most what was written is read to see what is there.
const readBacks = 8

// ReadBack reads what was written and holds it against its checksum. Content may be
// damaged on the way back too, so that only what comes out the same wrong twice
// counts as damaged there. Where reading is not allowed the entry is marked
// unverified. open opens the content, without a check of its own.
func ReadBack(ctx context.Context, p Place, op string, e *object.Entry, want object.Sum,
	open func() (io.ReadCloser, error)) error {
	var err error
	wrong := map[object.Sum]int{}
	for range readBacks {
		var got object.Sum
		got, err = readSum(p, e.Key, want.Kind, open)
		switch kind := KindOf(err); {
		case ctx.Err() != nil:
			return NewError(p.Name(), op, e.Key, Cancelled, nil)
		case err != nil && (kind == Denied || kind == Archived || kind == Unsupported):
			e.Unverified = true
			return nil
		case err != nil && (kind == Unreachable || kind == ServerFault || kind == Throttled):
			continue
		case err != nil:
			return err
		case got == want:
			return nil
		}
		err = Damaged(p, op, e, fmt.Errorf("%s is there, %s was sent", got, want))
		if wrong[got]++; wrong[got] == 2 {
			return err
		}
	}
	var bad *Error
	if errors.As(err, &bad) { // it is there, and may be right
		mine := *bad
		mine.Left, err = e.Mark(), &mine
	}
	return err
}

func readSum(p Place, key string, kind object.SumKind, open func() (io.ReadCloser, error)) (object.Sum, error) {
	r, err := open()
	if err != nil {
		return object.Sum{}, err
	}
	defer r.Close()
	h := kind.New()
	if _, err := io.Copy(h, r); err != nil {
		return object.Sum{}, Wrap(p.Name(), "read back", key, err)
	}
	return object.SumOf(kind, h), nil
}
