package engine

import (
	"time"

	"lanternfield/internal/core/state"
)

// ClockJumped says that the clock went ahead of the time that has passed, or back.
type ClockJumped struct{ By time.Duration }

func (in ClockJumped) decide(s *state.State) ([]state.Fact, error) {
	if !s.Deployed() {
		return nil, nil
	}
	return []state.Fact{state.ClockJumped(in)}, nil
}
