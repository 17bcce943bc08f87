package draw

import (
	"testing"

	"lanternfield/internal/core/health"
)

// TestWhatStaysTheSameIsDrawnInTheMiddle: of a value that hardly moves, the numbers at the side differ, and it lies between them.
func TestWhatStaysTheSameIsDrawnInTheMiddle(t *testing.T) {
	for _, c := range []struct {
		low, high float64
		unit      string
	}{{73 << 30, 73 << 30, "bytes"}, {73 << 30, 73<<30 + 4096, "bytes"}, {20 << 10, 20 << 10, "bytes"}, {1, 1, ""}} {
		ticks := ticksOf(c.low, c.high, &health.Chart{Unit: c.unit})
		if first, last := ticks[0], ticks[len(ticks)-1]; first >= c.low || last <= c.high || (last-first) < c.high/50 {
			t.Errorf("%v to %v %s is drawn from %v to %v", c.low, c.high, c.unit, first, last)
		}
	}
}
