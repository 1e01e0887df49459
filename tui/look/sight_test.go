package look

import (
	"math"
	"testing"

	"github.com/lucasb-eyer/go-colorful"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sights are ways to see without one of the three receptors, in linear RGB (Machado, Oliveira,
// Fernandes 2009, severity 1), and with all.
var sights = map[string][3][3]float64{
	"all":      {{1, 0, 0}, {0, 1, 0}, {0, 0, 1}},
	"no red":   {{.152286, 1.052583, -.204868}, {.114503, .786281, .099216}, {-.003882, -.048116, 1.051998}},
	"no green": {{.367322, .860646, -.227968}, {.280085, .672501, .047413}, {-.011820, .042940, .968881}},
	"no blue":  {{1.255528, -.076749, -.178779}, {-.078411, .930809, .147602}, {.004733, .691367, .303900}},
}

func seen(c colorful.Color, by [3][3]float64) colorful.Color {
	r, g, b := c.LinearRgb()
	at := func(row [3]float64) float64 { return min(max(row[0]*r+row[1]*g+row[2]*b, 0), 1) }
	return colorful.LinearRgb(at(by[0]), at(by[1]), at(by[2]))
}

// contrast is the ratio of WCAG 2.2 ("contrast ratio"), 1 to 21.
func contrast(a, b colorful.Color) float64 {
	light := func(c colorful.Color) float64 {
		r, g, b := c.LinearRgb()
		return 0.2126*r + 0.7152*g + 0.0722*b + 0.05
	}
	x, y := light(a), light(b)
	return math.Max(x, y) / math.Min(x, y)
}

// Everything that is read stands out from its ground, in every theme that knows its ground: 4.5
// to 1 as WCAG asks of text, 7 to 1 where a person has asked for contrast. What colours mean is
// told apart whoever looks in "safe", and by most in "contrast".
func TestThemesCanBeSeen(t *testing.T) {
	hex := func(text string) colorful.Color {
		c, err := colorful.Hex(text)
		require.NoError(t, err, text)
		return c
	}
	for name, c := range map[string]struct {
		palette
		least, apart float64 // contrast to 1; distance in L*a*b* of 0 to 1, by whoever sees least
	}{
		"dark": {dark, 4.5, 0}, "light": {light, 4.5, 0},
		"contrast on dark": {contrastDark, 7, 0.25}, "contrast on light": {contrastLight, 7, 0.25},
		"safe on dark": {safeDark, 4.5, 0.3}, "safe on light": {safeLight, 4.5, 0.3},
	} {
		p := c.palette
		for role, colour := range map[string]string{"paper": p.paper, "ash": p.ash, "lamp": p.lamp, "tide": p.tide,
			"dusk": p.dusk, "flare": p.flare} {
			for where, ground := range map[string]string{"ground": p.ink, "chosen line": p.chosen} {
				least := c.least
				if where == "chosen line" { // for one line at a time, and bold where it matters
					least = min(least, 4.5) - 1.3
				}
				assert.GreaterOrEqual(t, contrast(hex(colour), hex(ground)), least, "%s on the %s in %s", role,
					where, name)
			}
		}
		meanings := []string{p.lamp, p.tide, p.dusk, p.flare}
		for sight, by := range sights {
			for i, a := range meanings {
				for _, b := range meanings[i+1:] {
					assert.Greater(t, seen(hex(a), by).DistanceLab(seen(hex(b), by)), c.apart,
						"%s and %s in %s, seen with %s",
						a, b, name, sight)
				}
			}
		}
	}
	for _, choice := range []Choice{"dark", "light", "contrast", "safe"} {
		for _, ground := range []Ground{Unknown, Dark, Light} {
			assert.NotNil(t, Chosen(ground, choice).Ground, "a chosen theme brings its ground")
		}
	}
	assert.Nil(t, New(Dark).Ground, "the terminal's own is left as it is")
	assert.NotEqual(t, Chosen(Dark, "safe").Lamp.GetForeground(), Chosen(Light, "safe").Lamp.GetForeground())
}
