package notifier

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"lumtra/core/transfer"
)

// A rate is of a time that went by: two samples of one moment have none, which no message could carry.
func TestRatesOfARun(t *testing.T) {
	assert.Empty(t, ratesOf(nil))
	assert.Equal(t, []float64{100, 50}, ratesOf([]transfer.Sample{{}, {At: time.Second, Bytes: 100},
		{At: time.Second, Bytes: 120}, {At: 3 * time.Second, Bytes: 220}}))
}
