package control

import "time"

// clock compares the clock of this machine with the time that passes, which nobody sets.
type clock struct{ last time.Time }

// leastJump is by how much the clock must go otherwise within a second to have jumped. Clocks that are set a little at a time do not.
const leastJump = 2 * time.Second

// jumped tells by how much the clock has gone ahead of the time that has passed since it was asked last, or back; 0 where it has not.
func (c *clock) jumped(now time.Time) time.Duration {
	last := c.last
	if c.last = now; last.IsZero() {
		return 0
	}
	return jump(now.Round(0).Sub(last.Round(0)), now.Sub(last)) // Round takes off what is read of the time that passes
}

func jump(clock, passed time.Duration) time.Duration {
	if by := clock - passed; by.Abs() >= leastJump {
		return by
	}
	return 0
}
