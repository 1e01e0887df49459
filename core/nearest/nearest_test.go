package nearest

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func ExampleHint() {
	jobs := []string{"masters", "letters", "night-tapes"}
	fmt.Println("there is no job called \"mastres\"" + Hint("mastres", jobs))
	fmt.Println("there is no job called \"night\"" + Hint("night", jobs))
	fmt.Println("there is no job called \"herons\"" + Hint("herons", jobs))
	// Output:
	// there is no job called "mastres"; did you mean "masters"?
	// there is no job called "night"; did you mean "night-tapes"?
	// there is no job called "herons"; there are letters, masters, night-tapes
}

func TestOf(t *testing.T) {
	known := []string{"sync", "source", "target", "target-only", "a"}
	for typed, meant := range map[string]string{"souce": "source", "TARGET": "target", "target-onyl": "target-only",
		"b": "a", "syn": "sync", "moon": "", "": "", "elsewhere": ""} {
		assert.Equal(t, meant, Of(typed, known), "%q", typed)
	}
	assert.Empty(t, Of("anything", nil))
}

func TestHint(t *testing.T) {
	assert.Equal(t, "; there are none yet", Hint("x", nil))
	assert.Equal(t, "; there is only studio", Hint("moonlight", []string{"studio"}))
	many := strings.Fields("aa bb cc dd ee ff gg hh ii jj kk ll mm nn")
	assert.Contains(t, Hint("somewhere", many), "ll and 2 more")
	assert.NotContains(t, Hint("somewhere", many), "nn")
}
