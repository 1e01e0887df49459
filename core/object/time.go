package object

import (
	"encoding/binary"
	"math"
	"time"
)

// The years that nanoseconds since 1970 in 64 bits reach safely. Files may have times
// beyond: file systems keep seconds.
const firstNano, lastNano = 1680, 2260

func inNanos(t time.Time) bool { return t.Year() >= firstNano && t.Year() <= lastNano }

// AppendTime adds a time in a form for files: nanoseconds since 1970 (varint), or,
// where these do not reach, the least number there is and then seconds and
// nanoseconds.
func AppendTime(b []byte, t time.Time) []byte {
	if t.IsZero() || inNanos(t) {
		return binary.AppendVarint(b, t.UnixNano())
	}
	b = binary.AppendVarint(b, math.MinInt64)
	return binary.AppendVarint(binary.AppendVarint(b, t.Unix()), int64(t.Nanosecond()))
}

// ReadTime reads what [AppendTime] has written, number by number.
func ReadTime(next func() int64) time.Time {
	n := next()
	if n == math.MinInt64 {
		sec := next()
		return time.Unix(sec, next())
	}
	return time.Unix(0, n)
}
