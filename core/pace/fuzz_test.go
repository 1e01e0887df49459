package pace

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Whatever is written for hours is refused in words, or is a limit at every time, with a
// next change that lies ahead.
func FuzzHours(f *testing.F) {
	f.Add("mon-fri 08:00-18:00 20 MB/s\n100 MB/s", "Europe/Berlin", int64(1_790_000_000))
	f.Add("22:00-06:00 free\nsat,sun 1 B/s", "", int64(0))
	f.Add("00:00-24:00 0", "America/New_York", int64(1<<40))
	f.Fuzz(func(t *testing.T, lines, zone string, at int64) {
		h, err := ParseHours(strings.Split(lines, "\n"), zone)
		if err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		now := time.Unix(at%(1<<34), 0)
		l := h.At(now)
		require.GreaterOrEqual(t, l.Rate, 0.0)
		require.NotEmpty(t, l.String())
		if next := h.Until(now); !next.IsZero() {
			require.True(t, next.After(now), "%s is not after %s", next, now)
		}
	})
}
