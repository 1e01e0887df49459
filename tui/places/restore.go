package places

import (
	"errors"
	"fmt"
	"strconv"

	tea "charm.land/bubbletea/v2"

	"lumtra/core/handle"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/service/browse"
	"lumtra/service/workspace"
	"lumtra/tui/kit"
)

// restoreSheet asks before cold objects are asked for: how many there are, how they stand, how
// soon, for how long and for how much.
func (s *Screen) restoreSheet() tea.Cmd {
	picks := s.picks()
	return s.count("Restore "+pickText(picks), picks, false, func(all handle.Count) tea.Cmd {
		return func() tea.Msg { // while the count still stands there
			r, err := s.Service.Restoration(s.ctx, picks, all, false)
			if err != nil {
				return failedMsg{err}
			}
			return countedMsg{all, func(all handle.Count) tea.Cmd { return s.form(s.restoreForm(picks, all, r)) }}
		}
	})
}

// restoreForm asks for the number of those that the store is asked for.
func (s *Screen) restoreForm(picks []workspace.At, all handle.Count, r browse.Restoration) *kit.Form {
	cold := handle.Count{Objects: all.Cold, Bytes: all.ColdBytes}
	f := &kit.Form{Title: "Restore " + pickText(picks), Does: "ask for it",
		Notes: []string{fmt.Sprintf("%s in a cold class, of %s.", countText(cold), countText(all))}}
	if r.States != nil {
		f.Notes = append(f.Notes, kit.ColdText(r.States))
		cold = r.States.Archived
	}
	if cold.Objects == 0 {
		f.Does, f.Submit = "back", func(*kit.Form) tea.Cmd { return s.closeSheet() }
		f.Notes = append(f.Notes, "There is nothing to ask for.")
		return f
	}
	f.Notes = append(f.Notes, "It takes the store minutes to hours, by the tier; the pane of each object tells "+
		"how far "+
		"it is, and so does this key when it is pressed again.")
	f.Fields = []*kit.Field{{Name: "for days", Value: "7"}}
	if len(r.Tiers) > 0 {
		f.Fields = append(f.Fields, &kit.Field{Name: "tier", Value: r.Tiers[0], Choices: r.Tiers})
	}
	f.Foot = func(f *kit.Form) []string { return []string{restoreCost(f, &r, cold.Bytes)} }
	f.Behind = func(f *kit.Form) []string {
		more := []string{"--days", f.Get("for days")}
		if tier := f.Get("tier"); tier != "" && tier != r.Tiers[0] {
			more = append(more, "--tier", tier)
		}
		return words([]string{"restore"}, picks, append(more, number(cold.Objects)...)...)
	}
	touches(f, cold.Objects)
	f.Submit = func(f *kit.Form) tea.Cmd {
		if !told(f, cold.Objects) {
			return nil
		}
		days, err := strconv.Atoi(f.Get("for days"))
		if err != nil || days < 1 {
			f.Err = errors.New("days is a number, 1 or more")
			return nil
		}
		return s.start(f, func() (*browse.Act, error) {
			return s.Service.Restore(picks, place.RestoreOptions{Days: days, Tier: f.Get("tier")}, all)
		}, parents(picks[0]))
	}
	return f
}

// restoreCost says what it costs for the days that are typed.
func restoreCost(f *kit.Form, r *browse.Restoration, bytes int64) string {
	days, _ := strconv.Atoi(f.Get("for days"))
	amount, known := r.Cost(bytes, max(days, 0))
	if !known {
		return "What it costs is not known: rates.toml has no retrieval price for this endpoint."
	}
	text := fmt.Sprintf("It costs about %s for %s, by the endpoint's rates; tiers may differ.",
		kit.Money(amount, r.Rates.Currency), object.Count(int64(days), "day"))
	if r.Rates.Example {
		text += " These rates are only examples."
	}
	return text
}
