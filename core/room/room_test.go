package room_test

import (
	"bytes"
	"io"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lumtra/core/room"
	"lumtra/testkit"
)

// A reader that somebody still holds when the room was given back never gives what the
// next one wrote there.
func TestReadersEndWithTheRoom(t *testing.T) {
	a := room.New(1000)
	copy(a.Data, bytes.Repeat([]byte("a"), 1000))
	held := a.Reader()
	begun := make([]byte, 10)
	_, err := io.ReadFull(held, begun)
	require.NoError(t, err)
	assert.Equal(t, "aaaaaaaaaa", string(begun))
	a.Release()
	b := room.New(1000)
	copy(b.Data, bytes.Repeat([]byte("b"), 1000))
	n, err := held.Read(begun)
	assert.Zero(t, n)
	assert.Error(t, err)
	assert.NotErrorIs(t, err, io.EOF, "it is not the end of the content")
	whole, err := io.ReadAll(b.Reader())
	require.NoError(t, err)
	assert.Equal(t, bytes.Repeat([]byte("b"), 1000), whole)
	a.Release() // twice is once
	b.Release()
}

// A room has the size that was wanted, and its readers give all of it, each from the
// start, whatever others do meanwhile.
func TestRooms(t *testing.T) {
	testkit.Check(t, func(t *rapid.T) {
		var all sync.WaitGroup
		for _, size := range rapid.SliceOfN(rapid.Int64Range(1, 9000), 1, 8).Draw(t, "sizes") {
			all.Go(func() {
				r := room.New(size)
				defer r.Release()
				if int64(len(r.Data)) != size {
					panic("a room of another size")
				}
				for i := range r.Data {
					r.Data[i] = byte(size)
				}
				for range 2 {
					x := r.Reader()
					half, err := io.ReadAll(io.LimitReader(x, size/2))
					rest, err2 := io.ReadAll(x)
					back, err3 := x.Seek(0, io.SeekStart)
					again, err4 := io.ReadAll(x)
					if err != nil || err2 != nil || err3 != nil || err4 != nil || back != 0 ||
						int64(len(half)+len(rest)) != size || !bytes.Equal(again, r.Data) {
						panic("a reader that gives something else")
					}
				}
			})
		}
		all.Wait()
	})
}
