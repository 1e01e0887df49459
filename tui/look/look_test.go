package look

import (
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"lumtra/core/history"
	"lumtra/core/plan"
)

func TestGroundFrom(t *testing.T) {
	for _, c := range []struct {
		own, fgbg string
		want      Ground
	}{
		{"dark", "0;15", Dark}, {"light", "15;0", Light}, {"", "0;15", Light}, {"", "0;7", Light}, {"", "15;0", Dark},
		{"", "15;default;8", Dark},
		{"", "", Unknown}, {"", "15;3", Unknown}, {"neither", "15;0", Dark},
	} {
		env := map[string]string{"LUMTRA_BACKGROUND": c.own, "COLORFGBG": c.fgbg}
		assert.Equal(t, c.want, GroundFrom(func(name string) string { return env[name] }), "%+v", c)
	}
}

// Without any colour effects, ends and rates are still told apart.
func TestGlyphsCarryTheMeaning(t *testing.T) {
	for _, ground := range []Ground{Unknown, Dark, Light} {
		theme, seen := New(ground), map[string]plan.Kind{}
		for _, k := range plan.Kinds {
			glyph, _ := theme.Effect(k)
			other, double := seen[glyph]
			assert.False(t, double, "%s looks like %s", k, other)
			assert.Equal(t, 1, ansi.StringWidth(glyph))
			seen[glyph] = k
		}
		good, _ := theme.End(history.Clean)
		for _, e := range []history.End{history.Failures, history.Broken, history.Running, history.Stopped,
			history.Interrupted} {
			glyph, _ := theme.End(e)
			assert.NotEqual(t, good, glyph, "%s looks like done", e)
		}
		faint := []string{}
		for _, level := range []float64{0, 0.2, 0.4, 0.6, 0.8, 1} {
			faint = append(faint, ansi.Strip(theme.Glow(level)))
		}
		assert.Equal(t, []string{"·", "░", "▒", "▓", "█", "█"}, faint)
		assert.Equal(t, []string{"·", "█"}, []string{ansi.Strip(theme.Glow(-1)), ansi.Strip(theme.Glow(9))})
		assert.Equal(t, []string{"▁", "░", "▒", "▓", "█", "█"},
			[]string{ansi.Strip(theme.Past(-1)), ansi.Strip(theme.Past(0.2)), ansi.Strip(theme.Past(0.5)),
				ansi.Strip(theme.Past(0.7)), ansi.Strip(theme.Past(1)), ansi.Strip(theme.Past(2))})
	}
	assert.NotEqual(t, New(Dark).Paper.GetForeground(), New(Light).Paper.GetForeground())
}
