package wire_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/place/wire"
)

func TestFenceTakesTheBodyAway(t *testing.T) {
	f := wire.NewFence(strings.NewReader("abcdef"))
	b := make([]byte, 3)
	_, err := f.Read(b)
	require.NoError(t, err)
	assert.NoError(t, f.Down())
	_, err = f.Read(b)
	assert.Error(t, err)
}
