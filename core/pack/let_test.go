package pack

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/folder"
)

// A pack of many that was looked into holds nothing of what was read in memory, and is read again where it is asked.
func TestPackLetsGo(t *testing.T) {
	end, err := folder.OpenEndpoint("studio", t.TempDir(), folder.Options{})
	require.NoError(t, err)
	defer end.Close()
	outer, err := end.Open("")
	require.NoError(t, err)
	var raw bytes.Buffer
	w, err := NewWriter(t.Context(), &raw, Options{Form: Plain, Digest: object.SHA256})
	require.NoError(t, err)
	_, err = w.Add(Member{Name: "take.wav", Kind: File, Size: 8}, &Content{Reader: strings.NewReader("the tide")})
	require.NoError(t, err)
	_, err = w.Close()
	require.NoError(t, err)
	_, err = outer.Write(t.Context(), "day.tar", &raw, int64(raw.Len()), place.WriteOptions{})
	require.NoError(t, err)
	p := In(outer, "day.tar", "")
	look := func() {
		t.Helper()
		e, err := p.Stat(t.Context(), object.Ref{Key: "take.wav"})
		require.NoError(t, err)
		assert.EqualValues(t, 8, e.Size)
	}
	p.let()
	look()
	require.NotNil(t, p.opened)
	assert.NotEmpty(t, p.opened.raw.kept)
	p.let()
	assert.Empty(t, p.opened.raw.kept)
	look()
}
