// Package look is the theme: colours by role, and the glyphs that carry the
// same meaning without any colour. Nothing else in the interface names a
// colour.
//
// The idea is light travelling at dusk: lamp for what moves now, tide for what
// is done and proven, dusk for what is to come, flare for what needs a person,
// ash for the rest. Brightness means rate.
package look

import (
	"image/color"
	"math"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/lucasb-eyer/go-colorful"

	"lumtra/core/history"
	"lumtra/core/plan"
)

// Theme is the set of styles for one kind of terminal.
type Theme struct {
	Paper, Strong, Ash, Rule, Lamp, Tide, Dusk, Flare lipgloss.Style
	// Chosen marks the line under the cursor.
	Chosen lipgloss.Style
	// Ground and Ink are the terminal's colours where the theme brings its own, nil where it
	// takes them as they are.
	Ground, Ink color.Color

	glow [glowSteps + 1]lipgloss.Style
}

const glowSteps = 5

type palette struct{ ink, paper, ash, rule, lamp, tide, dusk, flare, chosen string }

var (
	dark = palette{"#0e1116", "#d9d4c7", "#868891", "#3a3f4a", "#f2a541", "#4fb3a5", "#a08ee0", "#f4694a", "#232936"}
	// either is for terminals that do not tell their background: the terminal's
	// own foreground, and tones that can be read on both.
	either = palette{"", "", "#7d8087", "#8f939b", "#c27d1a", "#2c9384", "#8069cf", "#e24a2b", ""}
	// contrast is for eyes that need more of it, safe for those that tell fewer colours apart;
	// each on a dark and on a light ground.
	contrastDark = palette{"#000000", "#ffffff", "#c4c6cc", "#8a8f99", "#fae41f", "#34ffdb", "#9ca2ff", "#ff6150",
		"#2a3140"}
	contrastLight = palette{"#ffffff", "#000000", "#4a4843", "#7a766c", "#56281d", "#235068", "#411481", "#953700",
		"#dcd8cc"}
	safeDark = palette{"#0e1116", "#e6e2d8", "#92959e", "#3a3f4a", "#dfd140", "#3fd9ed", "#8672ff", "#c3684c",
		"#232936"}
	safeLight = palette{"#f4f1ea", "#1c2027", "#625e55", "#c9c2b2", "#65342c", "#197497", "#7339d4", "#d01b00",
		"#e2dccd"}
	light = palette{"#f4f1ea", "#22262e", "#6d685e", "#c9c2b2", "#9a5900", "#0b7466", "#6246b0", "#c2350f",
		"#e2dccd"}
)

// Ground is what is known of a terminal's background.
type Ground int

// The grounds.
const (
	Unknown Ground = iota
	Dark
	Light
)

// GroundFrom reads what the environment says: LUMTRA_BACKGROUND ("dark" or
// "light"), else COLORFGBG, which some terminals set to "foreground;background".
func GroundFrom(env func(string) string) Ground {
	switch env("LUMTRA_BACKGROUND") {
	case "dark":
		return Dark
	case "light":
		return Light
	}
	fgbg := env("COLORFGBG")
	switch fgbg[strings.LastIndexByte(fgbg, ';')+1:] {
	case "7", "15":
		return Light
	case "0", "8":
		return Dark
	}
	return Unknown
}

// Choice is the theme that a person has chosen, by the names of job.Themes.
type Choice string

// palette is that of the choice on a ground; own tells that the theme brings its ground along.
func (c Choice) palette(ground Ground) (p palette, own bool) {
	switch c {
	case "dark":
		return dark, true
	case "light":
		return light, true
	case "contrast":
		return [...]palette{contrastDark, contrastDark, contrastLight}[ground], true
	case "safe":
		return [...]palette{safeDark, safeDark, safeLight}[ground], true
	}
	return [...]palette{either, dark, light}[ground], false
}

// New makes the theme for a terminal.
func New(ground Ground) *Theme { return Chosen(ground, "") }

// Chosen makes the theme that a person has chosen. What brings its own ground sets Ink and
// Ground, so that its contrast is what it was made for.
func Chosen(ground Ground, choice Choice) *Theme {
	p, own := choice.palette(ground)
	fg := func(hex string) lipgloss.Style {
		if hex == "" {
			return lipgloss.NewStyle()
		}
		return lipgloss.NewStyle().Foreground(lipgloss.Color(hex))
	}
	t := &Theme{
		Paper: fg(p.paper), Strong: fg(p.paper).Bold(true), Ash: fg(p.ash), Rule: fg(p.rule),
		Lamp: fg(p.lamp), Tide: fg(p.tide), Dusk: fg(p.dusk), Flare: fg(p.flare).Bold(true),
		Chosen: lipgloss.NewStyle(),
	}
	if p.chosen != "" {
		t.Chosen = t.Chosen.Background(lipgloss.Color(p.chosen))
	}
	if own {
		t.Ground, t.Ink = lipgloss.Color(p.ink), lipgloss.Color(p.paper)
	}
	for i := range t.glow {
		// Even the faintest light is told from the ground.
		from := p.ink
		if from == "" {
			from = p.ash
		}
		t.glow[i] = lipgloss.NewStyle().Foreground(blend(from, p.lamp, 0.25+0.75*float64(i)/glowSteps))
	}
	return t
}

func blend(from, to string, share float64) color.Color {
	a, errA := colorful.Hex(from)
	b, errB := colorful.Hex(to)
	if errA != nil || errB != nil {
		return lipgloss.Color(to)
	}
	return lipgloss.Color(a.BlendLab(b, share).Clamped().Hex())
}

var glowGlyphs = [glowSteps + 1]string{"·", "░", "▒", "▓", "█", "█"}

// Glow is one cell of light for a rate between 0 and 1: brightness in colour,
// density without it.
func (t *Theme) Glow(level float64) string {
	i := int(math.Ceil(min(max(level, 0), 1) * glowSteps))
	if i == 0 {
		return t.Rule.Render(glowGlyphs[0])
	}
	return t.glow[i].Render(glowGlyphs[i])
}

// GlowStyle is the brightness alone.
func (t *Theme) GlowStyle(level float64) lipgloss.Style {
	return t.glow[int(math.Ceil(min(max(level, 0), 1)*glowSteps))]
}

// Effect is the glyph and style of a plan's effect.
func (t *Theme) Effect(k plan.Kind) (string, lipgloss.Style) {
	switch k {
	case plan.Add:
		return "█", t.Lamp
	case plan.Change:
		return "▓", t.Dusk
	case plan.Meta:
		return "▒", t.Dusk
	case plan.Remove:
		return "╳", t.Flare
	case plan.Conflict:
		return "?", t.Flare
	case plan.Blocked:
		return "▚", t.Flare
	case plan.Same:
		return "─", t.Tide
	case plan.LeftOut:
		return "·", t.Ash
	default:
		return "┄", t.Ash
	}
}

// End is the glyph, style and word of how a run ended.
func (t *Theme) End(e history.End) (string, lipgloss.Style) {
	switch e {
	case history.Clean:
		return "◗", t.Tide
	case history.Failures, history.Broken:
		return "▲", t.Flare
	case history.Running:
		return "▸", t.Lamp
	default:
		return "▌", t.Ash
	}
}

// Past is one cell of a finished run's rate between 0 and 1: the tide's colour,
// with the rate in the density.
func (t *Theme) Past(level float64) string {
	i := int(math.Ceil(min(max(level, 0), 1) * 4))
	return t.Tide.Render([]string{"▁", "░", "▒", "▓", "█"}[i])
}
