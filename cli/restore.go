package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"lumtra/core/handle"
	"lumtra/core/place"
	"lumtra/service"
	"lumtra/service/browse"
)

// restore tells how the cold objects among the arguments stand, and asks for those that cannot
// be read once their number is approved.
func (a *app) restore(ctx context.Context, s *service.Service, c *cobra.Command, t *things, args []string,
	opts place.RestoreOptions, status bool) error {
	picks, err := a.pick(ctx, s, t, args)
	if err != nil {
		return a.nothingThere(err)
	}
	total, err := a.measure(ctx, s, picks, false)
	if err != nil {
		return err
	}
	r, err := s.Restoration(ctx, picks, total, true)
	switch {
	case err != nil:
		return err
	case opts.Tier != "" && len(r.Tiers) > 0 && !slices.Contains(r.Tiers, opts.Tier):
		return misused("--tier %s: this store has %s", opts.Tier, strings.Join(r.Tiers, ", "))
	case status || r.States.Archived.Objects == 0:
		a.sayCold(&r)
		if !status {
			return errNothing
		}
		return nil
	}
	cold := r.States.Archived
	if cold.Objects > 1 {
		what := fmt.Sprintf("This asks for %s at %s, for %s", countedText(cold), picks[0],
			plural(int64(opts.Days), "day", "days"))
		if amount, known := r.Cost(cold.Bytes, opts.Days); known {
			what += fmt.Sprintf("; by the endpoint's rates it costs about %.4g %s", amount, r.Rates.Currency)
		}
		t.given = c.Flags().Changed("approve")
		if err := a.approved(ctx, cold.Objects, t.approve, t.given, what+".", countFields(cold),
			again(c, args)...); err != nil {
			return err
		}
	}
	act, err := s.Restore(picks, opts, total)
	if err != nil {
		return err
	}
	return a.finish(ctx, act, "Asked for")
}

// sayCold tells how cold objects stand.
func (a *app) sayCold(r *browse.Restoration) {
	text := "Of cold objects"
	fields := map[string]any{}
	for _, x := range []struct {
		name, words string
		n           handle.Count
	}{{"archived", "must be asked for", r.States.Archived}, {"restoring", "being restored", r.States.Restoring},
		{"readable", "can be read", r.States.Readable}} {
		fields[x.name], fields[x.name+"_bytes"] = x.n.Objects, x.n.Bytes
		text += fmt.Sprintf("\n    %-18s %s", x.words, countedText(x.n))
	}
	if !r.States.Until.IsZero() {
		fields["until"] = r.States.Until
		text += "\n    the first of them until " + r.States.Until.Local().Format("2006-01-02 15:04 MST")
	}
	a.out.say("cold", fields, text)
}
