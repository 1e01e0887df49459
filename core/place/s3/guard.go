package s3

import (
	"context"
	"errors"
	"net/http"

	"lumtra/core/object"
	"lumtra/core/place"
)

// guard keeps a write from overwriting what its caller has not seen. Where the
// store is known to decide that itself in the moment of writing, it does. Else
// the place is looked at just before and just after: another writer may come
// between, which is then told, though not prevented.
type guard struct {
	p    *Place
	key  string
	opts place.WriteOptions
	ask  place.Ask
	// sends tells that the condition goes along, looks that it is looked at.
	sends, looks bool
}

// conditionAsks are what a condition asks of each act.
var conditionAsks = map[string][2]place.Ask{
	"write": {place.PutIfAbsent, place.PutIfStill}, "finish": {place.JoinIfAbsent, place.JoinIfStill}, "copy": {place.CopyIfAbsent, place.CopyIfStill},
}

// guard looks before a write.
func (p *Place) guard(ctx context.Context, op, key string, opts place.WriteOptions) (*guard, error) {
	g := &guard{p: p, key: key, opts: opts}
	if opts.Condition == place.Always {
		return g, nil
	}
	g.ask = conditionAsks[op][0]
	if opts.Condition == place.IfStill {
		g.ask = conditionAsks[op][1]
	}
	k := p.store.known
	g.sends, g.looks = k.Of(g.ask) != place.Refused, !k.Does(g.ask)
	if !g.looks {
		return g, nil
	}
	there, err := p.Stat(ctx, object.Ref{Key: key})
	switch gone := place.KindOf(err) == place.NotFound; {
	case err != nil && !gone:
		return g, err
	case opts.Condition == place.IfAbsent && !gone:
		return g, place.NewError(p.name, op, key, place.Exists, errors.New("something is there"))
	case opts.Condition == place.IfStill && gone:
		return g, place.NewError(p.name, op, key, place.NotFound, errors.New("it is gone"))
	case opts.Condition == place.IfStill && there.Mark() != opts.Mark:
		return g, place.NewError(p.name, op, key, place.Changed, nil)
	}
	return g, nil
}

// asks are what a refusal may be about.
func (g *guard) asks() []place.Ask {
	if !g.sends {
		return nil
	}
	return []place.Ask{g.ask}
}

// header puts the condition into a request (API Reference, "conditional writes").
func (g *guard) header(h http.Header) {
	switch {
	case !g.sends:
	case g.opts.Condition == place.IfAbsent:
		h.Set("If-None-Match", "*")
	default:
		h.Set("If-Match", g.p.match(g.opts.Mark))
	}
}

// match is a mark as this store takes it in If-Match.
func (p *Place) match(mark string) string {
	if p.store.known.Of(place.QuotedMatch) == place.Refused {
		return mark
	}
	return quoted(mark)
}

// refused looks into a condition that did not hold, as the store says: if what is
// there is what was asked for, the store reads conditions in another way.
func (g *guard) refused(ctx context.Context, err error) error {
	if !g.sends || g.opts.Condition != place.IfStill || place.KindOf(err) != place.Changed {
		return err
	}
	there, statErr := g.p.Stat(ctx, object.Ref{Key: g.key})
	if statErr != nil || there.Mark() != g.opts.Mark {
		return err
	}
	var e *place.Error
	errors.As(err, &e)
	other := *e
	other.Kind = place.Otherwise
	if k := g.p.store.known; k.Of(place.QuotedMatch) != place.Refused {
		k.Learn(place.QuotedMatch, place.Refused)
	} else if k.Of(g.ask) != place.Refused {
		k.Learn(g.ask, place.Refused)
	} else {
		return err
	}
	return &other
}

// after looks whether what is there now is what was written.
func (g *guard) after(ctx context.Context, op string, e *object.Entry) error {
	if !g.looks {
		return nil
	}
	there, err := g.p.Stat(ctx, object.Ref{Key: g.key})
	switch {
	case err != nil && place.KindOf(err) != place.NotFound:
		return err
	case err != nil, e.ETag != "" && there.ETag != e.ETag, e.Version != "" && there.Version != e.Version, there.Size != e.Size:
		return place.NewError(g.p.name, op, g.key, place.Changed, errors.New("another writer came between; look at both before planning again"))
	}
	if e.ETag == "" {
		e.ETag = there.ETag
	}
	return nil
}
