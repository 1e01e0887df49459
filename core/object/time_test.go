package object_test

import (
	"encoding/binary"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"lumtra/core/object"
	"lumtra/testkit"
)

// Every time that a file system can hold comes back to the nanosecond, and two states
// of a file that differ by one have other marks.
func TestTimes(t *testing.T) {
	testkit.Check(t, func(t *rapid.T) {
		sec := rapid.OneOf(rapid.Int64Range(-1<<40, 1<<40), rapid.Int64Range(-10_000_000_000, 10_000_000_000)).Draw(t,
			"seconds")
		at := time.Unix(sec, rapid.Int64Range(0, 999_999_999).Draw(t, "nanoseconds"))
		b := object.AppendTime(nil, at)
		got := object.ReadTime(func() int64 {
			n, size := binary.Varint(b)
			b = b[size:]
			return n
		})
		assert.True(t, at.Equal(got), "%s, not %s", got, at)
		assert.Empty(t, b)
		x, y := object.Entry{Size: 1, Modified: at}, object.Entry{Size: 1, Modified: at.Add(1)}
		assert.NotEqual(t, x.Mark(), y.Mark())
	})
}

// What cannot be an object is not taken for one.
func TestSane(t *testing.T) {
	long := string(make([]byte, object.MostName+1))
	for _, e := range []object.Entry{{Size: -1}, {Size: object.MostSize + 1}, {Key: long}, {ETag: long},
		{Version: long}, {Class: long}} {
		assert.Error(t, e.Sane())
	}
	e := object.Entry{Key: "a", Size: object.MostSize}
	assert.NoError(t, e.Sane())
}
