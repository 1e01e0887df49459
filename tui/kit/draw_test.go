package kit

import (
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/estimate"
	"lumtra/core/plan"
	"lumtra/testkit"
	"lumtra/tui/look"
)

var dark = look.New(look.Dark)

// Whatever text there is, what is fitted takes exactly the room it was given, and a name
// that was cut keeps both its ends.
func TestFitsExactly(t *testing.T) {
	testkit.Check(t, func(rt *rapid.T) {
		s := rapid.StringOf(rapid.RuneFrom([]rune("ab/ é漢字\u0301🎵\x1b\n\u202e"))).Draw(rt, "text")
		width := rapid.IntRange(-1, 40).Draw(rt, "width")
		plain := strings.NewReplacer("\x1b", "", "\n", "").Replace(s)
		assert.Equal(rt, max(width, 0), ansi.StringWidth(Fit(plain, width)))
		assert.Equal(rt, max(width, 0), ansi.StringWidth(FitLeft(plain, width)))
		name := Name(s, width)
		assert.LessOrEqual(rt, ansi.StringWidth(name), max(width, 0))
		assert.NotContains(rt, name, "\x1b")
		assert.NotContains(rt, name, "\n")
		for _, l := range strings.Split(Lines([]string{plain, "x"}, width, 3), "\n") {
			assert.Equal(rt, max(width, 0), ansi.StringWidth(l))
		}
	})
	assert.Equal(t, "beginnin… the end", Name("beginning of a long name that has the end", 17))
	assert.Equal(t, "   ab", FitLeft("ab", 5))
	assert.Equal(t, "ab   ", Fit("ab", 5))
	assert.Equal(t, "a\nb\n ", Lines([]string{"a", "b"}, 1, 3))
	assert.Equal(t, "a", Lines([]string{"a", "b"}, 1, 1))
}

func TestStack(t *testing.T) {
	assert.Equal(t, "a\nb\nc", Stack("a\nb", "", "c"))
	assert.Equal(t, "a\nb", Stack("a", "b", ""), "a block without lines takes none")
	assert.Empty(t, Stack("", ""))
	assert.Equal(t, "a │ 1\nb │ 2", ansi.Strip(Beside(dark, "a\nb", "1\n2")))
	assert.Equal(t, "───", ansi.Strip(RuleLine(dark, 3)))
	assert.Empty(t, ansi.Strip(RuleLine(dark, -1)))
}

func TestFigures(t *testing.T) {
	for d, want := range map[time.Duration]string{
		0: "0 ms", 999 * time.Millisecond: "999 ms", time.Second: "1.0 s", 59900 * time.Millisecond: "59.9 s",
		time.Minute:             "1 min 00 s",
		time.Hour - time.Second: "59 min 59 s", time.Hour: "1 h 00 min", 47*time.Hour + 59*time.Minute: "47 h 59 min",
		48 * time.Hour: "2 days",
	} {
		assert.Equal(t, want, Span(d))
	}
	now := time.Date(2026, 3, 4, 5, 6, 7, 0, time.UTC)
	assert.Equal(t, "just now", Ago(now.Add(-9*time.Second), now))
	assert.Equal(t, "10.0 s ago", Ago(now.Add(-10*time.Second), now))
	assert.Equal(t, "1.0 KiB", Size(1024))
	assert.Equal(t, "0 B", Size(-5), "there is no size below nothing")
	assert.Equal(t, "1,234,567", Count(1234567))
	assert.Equal(t, "1.0 KiB/s", Rate(1024, false))
	assert.Equal(t, "8 kbit/s", Rate(1000, true))
	assert.Equal(t, "0 B/s", Rate(-3, false))
	for amount, want := range map[float64]string{0: "0.00 EUR", 12.345: "12.35 EUR", 0.5: "0.5000 EUR",
		0.00001: "under 0.0001 EUR", -0.00001: "just under 0 EUR", -0.5: "-0.5000 EUR", -3: "-3.00 EUR"} {
		assert.Equal(t, want, Money(amount, "EUR"))
	}
}

// A bar is never longer than its room, and shows every effect that fits.
func TestEffectBar(t *testing.T) {
	var totals plan.Totals
	totals[plan.Add] = plan.Total{Count: 1, Bytes: 900}
	totals[plan.Remove] = plan.Total{Count: 9, Bytes: 0}
	totals[plan.Change] = plan.Total{Count: 5, Bytes: 100}
	bar := func(byCount bool, scale int64, width int) string {
		return ansi.Strip(EffectBar(dark, &totals, byCount, scale, width))
	}
	assert.Equal(t, "█████████▓", bar(false, 1000, 10), "what is left has no room")
	assert.Equal(t, "██████████████████▓▓", bar(false, 1000, 20))
	assert.Equal(t, "█████████▓╳         ", bar(false, 2000, 20), "what has no bytes is seen all the same")
	assert.Equal(t, "█▓▓▓▓▓╳╳╳╳╳╳╳╳╳", bar(true, 15, 15))
	assert.Equal(t, "     ", bar(true, 0, 5))
	testkit.Check(t, func(rt *rapid.T) {
		var drawn plan.Totals
		for _, k := range plan.Kinds {
			drawn[k] = plan.Total{Count: rapid.Int64Range(0, 9).Draw(rt, "count"),
				Bytes: rapid.Int64Range(0, 1<<40).Draw(rt, "bytes")}
		}
		width := rapid.IntRange(0, 60).Draw(rt, "width")
		assert.Equal(rt, width,
			ansi.StringWidth(EffectBar(dark, &drawn, rapid.Bool().Draw(rt, "by"),
				rapid.Int64Range(0, 1<<41).Draw(rt, "scale"), width)))
	})
}

func TestAreaChart(t *testing.T) {
	plain := func(lines []string) string { return ansi.Strip(strings.Join(lines, "\n")) }
	assert.Equal(t, " ▀█ \n▀██ ", plain(AreaChart(dark, []float64{1, 3, 4}, nil, 4, 0, 0, 4, 2)))
	assert.Equal(t, "██", plain(AreaChart(dark, []float64{9, 4, 4}, nil, 4, 0, 0, 2, 1)),
		"the newest where there is not room for all")
	assert.Equal(t, "╌╌╌\n█ ╌", plain(AreaChart(dark, []float64{2, 0}, nil, 4, 3, 0, 3, 2))[:len("╌╌╌\n█ ")]+"╌",
		"a limit is a line behind the curve")
	assert.Equal(t, "▔  \n█  ", plain(AreaChart(dark, []float64{2}, []float64{4}, 4, 0, 0, 3, 2)),
		"what lies above is marked")
	assert.Equal(t, "   ", plain(AreaChart(dark, nil, nil, 0, 0, 0, 3, 1)))
	assert.Equal(t, "█ \n█·\n█·", plain(AreaChart(dark, []float64{6}, nil, 6, 0, 4, 2, 3)), "what is to come is hollow")
	assert.Equal(t, -1, LimitRow(0, 4, 2))
	assert.Equal(t, -1, LimitRow(5, 4, 2), "above the chart")
	assert.Equal(t, 0, LimitRow(4, 4, 2))
	assert.Equal(t, 1, LimitRow(1, 4, 2))
}

func TestRow(t *testing.T) {
	assert.Equal(t, "  text  ", Row(dark, "text", 8, false))
	lit := Row(dark, dark.Lamp.Render("te")+"xt", 8, true)
	assert.Equal(t, "▌ text  ", ansi.Strip(lit))
	open, _, _ := strings.Cut(dark.Chosen.Render("x"), "x")
	assert.Equal(t, strings.Count(lit, "\x1b[m"), strings.Count(lit, open),
		"the ground is laid again wherever a style ends, and ends with the line")
	plain := Row(look.New(look.Unknown), "text", 8, true)
	assert.Equal(t, "▌ text  ", ansi.Strip(plain), "without a ground of its own the mark tells the line")
}

// The cursor stays in the list and in the window, whatever is pressed and however the list
// and the window change.
func TestCursor(t *testing.T) {
	var c Cursor
	require.True(t, c.Key("G", 10, 3))
	assert.Equal(t, 9, c.At)
	require.True(t, c.Key("pgup", 10, 3))
	assert.Equal(t, 6, c.At)
	require.True(t, c.Key("k", 10, 3))
	require.True(t, c.Key("j", 10, 3))
	assert.Equal(t, 6, c.At)
	first, last := c.Window(10, 4)
	assert.Equal(t, []int{3, 7}, []int{first, last})
	assert.False(t, c.Key("x", 10, 3))
	testkit.Check(t, func(rt *rapid.T) {
		var c Cursor
		for range rapid.IntRange(1, 20).Draw(rt, "steps") {
			n, height := rapid.IntRange(0, 50).Draw(rt, "n"), rapid.IntRange(1, 20).Draw(rt, "height")
			c.Key(rapid.SampledFrom([]string{"up", "down", "pgup", "pgdown", "home", "end", "?"}).Draw(rt, "key"), n,
				height)
			first, last := c.Window(n, height)
			require.True(rt, 0 <= first && first <= last && last <= n && last-first <= height)
			require.Equal(rt, min(n, height), last-first, "no row is left empty while there are lines")
			require.True(rt, n == 0 && c.At == 0 || first <= c.At && c.At < last)
		}
	})
}

func TestWordsThatSteer(t *testing.T) {
	assert.Equal(t, "a·b··\x1b[31m", SafeView("a\nb\u202e\u009b\x1b[31m"))
	assert.Equal(t, []string{"one two", "three"}, Wrap("one two three", 9))
	assert.Equal(t, []string{"12345678", "9"}, Wrap("123456789", 1), "never narrower than can be read")
}

func TestEstimateLines(t *testing.T) {
	e := &estimate.Estimate{Expect: time.Minute, Soon: 50 * time.Second, Late: 2 * time.Minute, Waiting: 0.75,
		Assumed: []string{"north"}, Digesting: 3 * time.Second, Currency: "EUR", Total: 2, Monthly: 0.5,
		Example: true, Unpriced: []string{"studio"}}
	text := func() string { return ansi.Strip(strings.Join(EstimateLines(dark, e, 200), "\n")) }
	assert.Contains(t, text(), "about 1 min 00 s (50.0 s to 2 min 00 s); 75 % of it waits for answers")
	assert.Contains(t, text(), "guessed for north, never measured")
	assert.Contains(t, text(), "digests   3.0 s of processor time")
	assert.Contains(t, text(), "costs     2.00 EUR once, 0.5000 EUR a month, by rates that are only examples")
	assert.Contains(t, text(), "\n          not known for studio")
	e.Currency, e.Waiting = "", 0.5
	assert.Contains(t, text(), "\ncosts     not known for studio")
	assert.NotContains(t, text(), "waits for answers")
	assert.NotContains(t, text(), "EUR")
}
