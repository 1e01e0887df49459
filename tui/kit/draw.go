package kit

import (
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/dustin/go-humanize"

	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/tui/look"
)

// Fit cuts or pads styled text to exactly width cells.
func Fit(s string, width int) string {
	if width <= 0 {
		return ""
	}
	if ansi.StringWidth(s) > width {
		s = ansi.Truncate(s, width, "…") // a cell short where a character of two would have been cut
	}
	return s + strings.Repeat(" ", width-ansi.StringWidth(s))
}

// FitLeft is Fit with the text at the right end.
func FitLeft(s string, width int) string {
	if n := ansi.StringWidth(s); n < width {
		return strings.Repeat(" ", width-n) + s
	}
	return Fit(s, width)
}

// Name makes a key or file name safe to show and cuts it in the middle, where
// long names tell least.
func Name(s string, width int) string {
	s = object.DisplayKey(s)
	n := ansi.StringWidth(s)
	if n <= width {
		return s
	}
	if width < 8 {
		return ansi.Truncate(s, max(width, 0), "…")
	}
	tail := ansi.Cut(s, n-(width-1)/2, n) // a cell more where a character of two is cut
	return ansi.Truncate(s, width-1-ansi.StringWidth(tail), "") + "…" + tail
}

// Lines pads or cuts text to exactly height lines of exactly width cells.
func Lines(lines []string, width, height int) string {
	out := make([]string, height)
	for i := range out {
		if i < len(lines) {
			out[i] = Fit(lines[i], width)
		} else {
			out[i] = strings.Repeat(" ", max(width, 0))
		}
	}
	return strings.Join(out, "\n")
}

// Stack sets blocks of whole lines below one another. A block without lines
// takes no room.
func Stack(blocks ...string) string {
	return strings.Join(slices.DeleteFunc(blocks, func(b string) bool { return b == "" }), "\n")
}

// Beside sets two blocks of the same height side by side with a thin rule.
func Beside(t *look.Theme, left, right string) string {
	l, r := strings.Split(left, "\n"), strings.Split(right, "\n")
	for i := range l {
		l[i] += t.Rule.Render(" │ ") + r[i]
	}
	return strings.Join(l, "\n")
}

// RuleLine is the one thin rule.
func RuleLine(t *look.Theme, width int) string {
	return t.Rule.Render(strings.Repeat("─", max(width, 0)))
}

// decimal tells that sizes are in powers of 1,000.
var decimal atomic.Bool

// Decimal says whether sizes and rates are shown in powers of 1,000 (kB, MB) rather than of
// 1,024 (KiB, MiB). It is a person's preference and holds for the whole window.
func Decimal(on bool) { decimal.Store(on) }

// Size is a number of bytes with its unit, numbers aligned when set right.
func Size(n int64) string {
	if decimal.Load() {
		return humanize.Bytes(uint64(max(n, 0)))
	}
	return humanize.IBytes(uint64(max(n, 0)))
}

// Count is a number with its thousands parted.
func Count(n int64) string { return humanize.Comma(n) }

// Rate is a rate in bytes or bits a second.
func Rate(bytesPerSecond float64, bits bool) string {
	if bits {
		return humanize.SIWithDigits(bytesPerSecond*8, 1, "bit/s")
	}
	return Size(int64(max(bytesPerSecond, 0))) + "/s"
}

// Span is a length of time, as coarse as it is long.
func Span(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// Ago is how long ago a time was.
func Ago(t, now time.Time) string {
	if d := now.Sub(t); d < 10*time.Second {
		return "just now"
	}
	return Span(now.Sub(t)) + " ago"
}

// EffectBar draws totals as one bar of width cells, split by effect; scale is
// what a full bar stands for. A kind that is there at all has a cell.
func EffectBar(t *look.Theme, totals *plan.Totals, byCount bool, scale int64, width int) string {
	value := func(k plan.Kind) int64 {
		if byCount {
			return totals[k].Count
		}
		return totals[k].Bytes
	}
	var b strings.Builder
	used := 0
	for _, k := range plan.Kinds {
		if totals[k].Count == 0 || scale <= 0 {
			continue
		}
		n := int(float64(width) * float64(value(k)) / float64(scale))
		n = min(max(n, 1), width-used)
		if n <= 0 {
			break
		}
		glyph, style := t.Effect(k)
		b.WriteString(style.Render(strings.Repeat(glyph, n)))
		used += n
	}
	return Fit(b.String(), width)
}

// OverMark marks in an [AreaChart] how far a second curve lies above the first.
const OverMark = "▔"

// AreaChart draws values as columns of light, height lines high; top is the
// value of full height. What over lies above them is marked, and so is a limit that is not 0.
// Columns that have no value yet are to come: hollow, as high as the value given for that.
func AreaChart(t *look.Theme, values, over []float64, top, limit, hollow float64, width, height int) []string {
	lines, mark := make([]string, height), LimitRow(limit, top, height)
	if len(values) > width {
		values = values[len(values)-width:]
		over = over[max(len(over)-width, 0):]
	}
	filling := func(value float64, row int) float64 {
		if top <= 0 {
			return 0
		}
		return min(max(value/top*float64(height)-float64(height-1-row), 0), 1)
	}
	for row := range lines {
		var b strings.Builder
		for i, v := range values {
			fill := filling(v, row)
			if i < len(over) && fill < 0.06 && LimitRow(over[i], top, height) == row {
				b.WriteString(t.Ash.Render(OverMark))
				continue
			}
			if row == mark && fill < 0.06 {
				b.WriteString(t.Dusk.Render("╌"))
				continue
			}
			b.WriteString(columnCell(t.GlowStyle(v/max(top, 1e-9)), fill, v > 0 && row == height-1))
		}
		if rest := max(width-len(values), 0); row == mark {
			b.WriteString(t.Dusk.Render(strings.Repeat("╌", rest)))
		} else if filling(hollow, row) >= 0.5 || hollow > 0 && row == height-1 {
			b.WriteString(t.Rule.Render(strings.Repeat("·", rest)))
		}
		lines[row] = Fit(b.String(), width)
	}
	return lines
}

// columnCell is one cell of a column, filled so far from below. The light is the ground of the
// cell and the glyph, turned round, what lies above it: blocks of some fonts leave seams
// between lines, grounds never do.
func columnCell(style lipgloss.Style, fill float64, least bool) string {
	switch {
	case fill > 0.94:
		return style.Background(style.GetForeground()).Render("█")
	case fill > 0.69:
		return style.Reverse(true).Render("▔")
	case fill > 0.25:
		return style.Reverse(true).Render("▀")
	case least: // something, all the same
		return style.Render("▁")
	}
	return " "
}

// LimitRow is the row of a chart in which a limit lies; -1 for none.
func LimitRow(limit, top float64, height int) int {
	if limit <= 0 || limit > top {
		return -1
	}
	return min(max(height-1-int(limit/top*float64(height)), 0), height-1)
}

// Row draws one line of a list, lit when it is chosen.
func Row(t *look.Theme, text string, width int, chosen bool) string {
	mark := "  "
	if chosen {
		mark = t.Lamp.Render("▌ ")
	}
	line := Fit(mark+text, width)
	if chosen {
		return paint(t.Chosen, line)
	}
	return line
}

// paint lays a background under text that has styles of its own.
func paint(bg lipgloss.Style, line string) string {
	const reset = "\x1b[m"
	open, _, found := strings.Cut(bg.Render("x"), "x")
	if !found || open == "" {
		return line
	}
	return open + strings.ReplaceAll(line, reset, reset+open) + reset
}

// Cursor is a position in a list of which a window is shown.
type Cursor struct{ At, top int }

// Move moves the cursor and keeps it in a list of n lines.
func (c *Cursor) Move(by, n int) { c.At = min(max(c.At+by, 0), max(n-1, 0)) }

// Window returns the lines to show in height rows, with the cursor among them.
func (c *Cursor) Window(n, height int) (first, last int) {
	c.Move(0, n)
	if c.At < c.top {
		c.top = c.At
	}
	if c.At >= c.top+height {
		c.top = c.At - height + 1
	}
	c.top = max(min(c.top, n-height), 0)
	return c.top, min(c.top+height, n)
}

// Key moves the cursor by a key, and tells whether it was one for it.
func (c *Cursor) Key(key string, n, page int) bool {
	switch key {
	case "up", "k":
		c.Move(-1, n)
	case "down", "j":
		c.Move(1, n)
	case "pgup", "ctrl+b":
		c.Move(-page, n)
	case "pgdown", "ctrl+f":
		c.Move(page, n)
	case "home", "g":
		c.Move(-n, n)
	case "end", "G":
		c.Move(n, n)
	default:
		return false
	}
	return true
}
