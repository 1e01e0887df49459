package s3

import (
	"context"
	"net/http"

	"lumtra/core/object"
	"lumtra/core/place"
)

// guard is the [place.Guard] of a write, in the words of this API.
type guard struct {
	*place.Guard
	p         *Place
	key       string
	condition place.Condition
	mark      string
}

// conditionAsks are what a condition asks of each act.
var conditionAsks = map[string][2]place.Ask{
	"write": {place.PutIfAbsent, place.PutIfStill}, "finish": {place.JoinIfAbsent, place.JoinIfStill},
	"copy": {place.CopyIfAbsent, place.CopyIfStill},
}

// guard looks before a write.
func (p *Place) guard(ctx context.Context, op, key string, opts place.WriteOptions) (*guard, error) {
	asks := conditionAsks[op]
	g, err := place.NewGuard(ctx, p, p.store.known, op, key, opts, asks[0], asks[1])
	return &guard{g, p, key, opts.Condition, opts.Mark}, err
}

// header puts the condition into a request (API Reference, "conditional writes").
func (g *guard) header(h http.Header) {
	switch {
	case !g.Sends:
	case g.condition == place.IfAbsent:
		h.Set("If-None-Match", "*")
	default:
		h.Set("If-Match", g.p.match(g.mark))
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
	if !g.Sends || g.condition != place.IfStill || place.KindOf(err) != place.Changed {
		return err
	}
	k := g.p.store.known
	lists := k.Lacks(place.ListsETags)
	if _, changed := g.p.Stat(ctx, object.Ref{Key: g.key, IfMark: g.mark}); changed != nil {
		return err
	}
	switch {
	case !lists && k.Lacks(place.ListsETags): // learned by that look
	case k.Of(place.QuotedMatch) != place.Refused:
		k.Learn(place.QuotedMatch, place.Refused)
	case k.Of(g.Ask) != place.Refused:
		k.Learn(g.Ask, place.Refused)
	default:
		return err
	}
	return otherwise(err)
}
