package main

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every package stands on a floor, and imports only from what stands before it.
func TestImportsGoDown(t *testing.T) {
	imports, err := readImports("../..")
	require.NoError(t, err)
	order := map[string]int{}
	for _, f := range laidOut(imports) {
		for _, room := range f.rooms {
			assert.Contains(t, imports, room, "there is no such package")
			order[room] = len(order) + 1
		}
	}
	for room, all := range imports {
		require.NotZero(t, order[room], "%s stands on no floor", room)
		for _, other := range all {
			assert.Less(t, order[other], order[room], "%s imports %s", room, other)
			for from, doors := range forbidden {
				for _, door := range doors {
					if strings.HasPrefix(room, from) {
						assert.False(t, other == door || strings.HasSuffix(door, "/") &&
							strings.HasPrefix(other, door), "%s imports %s", room, other)
					}
				}
			}
		}
	}
}

// A plain import of an interface of core/place is asked of what a place can do, not of the
// place: a wrapper would hide it, and what a test found would be forgotten.
func TestPlacesAreAsked(t *testing.T) {
	found, err := assertions("../..")
	require.NoError(t, err)
	assert.Empty(t, found)
}
