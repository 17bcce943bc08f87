package control

import (
	"testing"
	"time"
)

// TestAJumpIsToldFromTimeThatPasses gives what the clock says, and how much time has passed.
func TestAJumpIsToldFromTimeThatPasses(t *testing.T) {
	for _, test := range []struct{ clock, passed, want time.Duration }{
		{time.Second, time.Second, 0},
		{1500 * time.Millisecond, time.Second, 0}, // set a little at a time
		{time.Minute, time.Minute, 0},             // this process was stopped
		{time.Hour + time.Second, time.Second, time.Hour},
		{-time.Hour + time.Second, time.Second, -time.Hour},
	} {
		if got := jump(test.clock, test.passed); got != test.want {
			t.Errorf("the clock went on by %s in %s: %s", test.clock, test.passed, got)
		}
	}
	var c clock
	now := time.Now()
	if c.jumped(now) != 0 || c.jumped(now.Add(time.Minute)) != 0 {
		t.Error("time that passes is a jump")
	}
}
