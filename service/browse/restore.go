package browse

import (
	"context"
	"fmt"

	"lumtra/core/handle"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/price"
	"lumtra/service/workspace"
)

// Restoration is what asking for cold objects would mean.
type Restoration struct {
	// Tiers are how urgently the store can be asked, the usual one first.
	Tiers []string
	// States counts the cold objects by how they stand; nil when there are more than
	// [statesLooked] and nobody asked for all.
	States *handle.ColdStates
	// Rates are what the endpoint asks, nil where they are not known.
	Rates *price.Rates
}

// statesLooked is up to how many cold objects are looked at one by one, at a request each,
// before anybody has asked for it.
const statesLooked = 1000

// Restoration tells what asking for the cold objects among the picks would mean, total being
// what was measured. With all, every one is looked at however many they are.
func (s *Browser) Restoration(ctx context.Context, picks []workspace.At, total handle.Count, all bool) (Restoration,
	error) {
	p, list, err := s.together(picks)
	if err != nil {
		return Restoration{}, err
	}
	r := Restoration{Rates: s.ws.Workspace().Rates[picks[0].Endpoint]}
	if can := place.Can(p).Restores; can != nil {
		r.Tiers = can.RestoreTiers()
	}
	if all || total.Cold <= statesLooked {
		states, err := handle.LookAtCold(ctx, p, list)
		if err != nil {
			return r, err
		}
		r.States = &states
	}
	return r, nil
}

// daysOfMonth are how many days prices by the month stand for.
const daysOfMonth = 30

// Cost is what so many bytes cost to bring back and to be kept readable for so many days, in
// Rates.Currency, and whether that is known.
func (r *Restoration) Cost(bytes int64, days int) (amount float64, known bool) {
	if r.Rates == nil || r.Rates.Retrieval == 0 {
		return 0, false
	}
	for _, c := range r.Rates.Costs("", price.Use{Retrieved: bytes, Stored: bytes}) {
		if c.Monthly {
			c.Amount *= float64(days) / daysOfMonth
		}
		amount += c.Amount
	}
	return amount, true
}

// Restore asks for the cold objects among the picks.
func (s *Browser) Restore(picks []workspace.At, opts place.RestoreOptions, total handle.Count) (*Act, error) {
	p, list, err := s.together(picks)
	if err != nil {
		return nil, err
	}
	what := "restore for " + object.Count(int64(opts.Days), "day")
	if opts.Tier != "" {
		what += fmt.Sprintf(" (%s)", opts.Tier)
	}
	return s.act(what, picks, total, true,
		func(ctx context.Context, a *handle.Action) error { return a.Restore(ctx, p, list, opts) })
}
