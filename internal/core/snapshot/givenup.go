package snapshot

import (
	"slices"

	"lanternfield/internal/core/state"
)

// giveUpAfter is how many failures in a row of one member end the wait for a rollout.
const giveUpAfter = 3

// GivenUp finds a member that keeps a rollout from ending, if waiting for it makes no sense.
func (snap *Snapshot) GivenUp(names []string) *MemberView {
	if snap.Rollout.What == "retire" || snap.Rollout.What == "stop" {
		return nil // what fails ends all the same
	}
	for i := range snap.Members {
		m := &snap.Members[i]
		if len(names) > 0 && !slices.Contains(names, string(m.Member)) && !slices.Contains(names, string(m.Role)) && !slices.Contains(names, string(m.Node)) {
			continue // it fails for reasons of its own
		}
		if snap.Rollout.Active && (m.Trouble != "" || m.Phase == state.Failed && m.Attempt >= giveUpAfter) {
			return m
		}
	}
	return nil
}
