package engine

import (
	"slices"

	"lanternfield/internal/core/state"
)

// Settled tells whether nothing is left to do: no rollout goes on, nothing is on its way to an agent, no member is on its way to anything.
// What a paused rollout has not begun is not to be done either.
func Settled(s *state.State) bool {
	switch {
	case s.Retired || s.Field == nil:
		return true
	case s.Listening() > 0 || s.Retiring || s.Rollout.Active() && !s.Rollout.Held() || slices.ContainsFunc(s.Tasks, state.Task.Active):
		return false
	}
	if len(s.ProofsDue()) > 0 || s.SecretsPending() {
		return false
	}
	for _, n := range s.Nodes {
		if n.Releasing && !n.Released {
			return false
		}
	}
	for _, m := range s.Members {
		switch {
		case m.Phase == state.Gone || m.Phase == state.Planned && s.Rollout.Held():
		case m.RestartDue && !s.Rollout.Held(), m.Awaited(), m.Phase == state.Stopping, m.Phase == state.Placing, m.Phase == state.Starting, m.Phase == state.Draining:
			return false
		}
	}
	for _, cmd := range Commands(s) {
		if cmd.Give == 0 || !s.Nodes[cmd.Node].Comes() { // who has to bring a machine says so by an invitation
			return false
		}
	}
	return true
}
