package kit

import (
	"fmt"
	"math"
	"strings"
	"time"

	"lumtra/core/estimate"
	"lumtra/core/object"
	"lumtra/tui/look"
)

// EstimateText is time and money of what a run would take, in a few words.
func EstimateText(e *estimate.Estimate) string {
	text := "about " + Span(e.Expect)
	if e.Currency != "" {
		text += " · " + Money(e.Total, e.Currency)
	}
	return text
}

// EstimateLines tell what a run would take: time with its range, requests,
// money, and how earlier estimates turned out.
func EstimateLines(t *look.Theme, e *estimate.Estimate, width int) []string {
	row := func(name, text string) []string {
		var lines []string
		for i, l := range Wrap(text, width-10) {
			if i > 0 {
				name = ""
			}
			lines = append(lines, t.Ash.Render(Fit(name, 10))+t.Paper.Render(l))
		}
		return lines
	}
	took := fmt.Sprintf("about %s (%s to %s)", Span(e.Expect), Span(e.Soon), Span(e.Late))
	if e.Waiting > 0.6 && e.Expect > 10*time.Second {
		took += fmt.Sprintf("; %.0f %% of it waits for answers: many small objects; more streams help", 100*e.Waiting)
	}
	lines := row("takes", took)
	if len(e.Assumed) > 0 {
		lines = append(lines, row("", "guessed for "+strings.Join(e.Assumed, " and ")+
			", never measured: y in Places does")...)
	}
	if e.Digesting >= time.Millisecond {
		lines = append(lines, row("digests", Span(e.Digesting)+" of processor time on this machine")...)
	}
	if e.Rereading >= time.Millisecond {
		text := Span(e.Rereading) + " of it for reading the source a second time"
		lines = append(lines, row("", text)...)
	}
	if n := len(e.Past); n > 0 {
		p := e.Past[0]
		lines = append(lines,
			row("learnt", fmt.Sprintf("from %d; last said %s, was %s", e.Calibrated, Span(p.Estimated),
				Span(p.Actual)))...)
	}
	if e.Source.All()+e.Target.All() > 0 {
		lines = append(lines,
			row("requests", fmt.Sprintf("%s at the source, %s at the target", Count(e.Source.All()),
				Count(e.Target.All())))...)
	}
	if e.Currency != "" {
		money := fmt.Sprintf("%s once, %s a month", Money(e.Total, e.Currency), Money(e.Monthly, e.Currency))
		if e.Example {
			money += ", by rates that are only examples"
		}
		lines = append(lines, row("costs", money)...)
	}
	if p := e.AsPack; p != nil {
		text := fmt.Sprintf("about %s as one pack, by %s at the target", Span(p.Expect),
			object.Count(p.Target.All(), "request"))
		if p.Currency != "" {
			text += ", " + Money(p.Total, p.Currency) + " once"
		}
		lines = append(lines, row("packed", text+": m puts it into packs")...)
	}
	if len(e.Unpriced) > 0 {
		lines = append(lines, row(map[bool]string{true: "costs", false: ""}[e.Currency == ""], "not known for "+
			strings.Join(e.Unpriced, " and ")+": rates.toml has no rates for it")...)
	}
	return lines
}

// money is an amount with its currency, as fine as it takes to see any.
// Money is an amount in a currency, small ones with more digits.
func Money(amount float64, currency string) string {
	digits := 2
	if amount != 0 && math.Abs(amount) < 0.0001 {
		return map[bool]string{true: "under 0.0001 ", false: "just under 0 "}[amount > 0] + currency
	}
	if amount != 0 && amount < 1 && amount > -1 {
		digits = 4
	}
	return fmt.Sprintf("%.*f %s", digits, amount, currency)
}
