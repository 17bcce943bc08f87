package snapshot

import (
	"fmt"

	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
)

// What roles have lost, and what they can lose, in words.

// paused says where nobody takes over from a leader that is lost.
func paused(s *state.State) (parts []string) {
	for i := range s.Field.Roles {
		if r := &s.Field.Roles[i]; r.Guarded() && r.Lease.Paused {
			parts = append(parts, fmt.Sprintf("taking over is paused in %s", r.Name))
		}
	}
	return parts
}

func lostWork(r RoleView) string {
	if r.Votes {
		return fmt.Sprintf("%s has %d of %d votes and needs %d: writes have stopped", r.Role, r.VotesReady, r.Voters, r.VotesNeeded)
	}
	if r.Leased && r.Ready > 0 {
		return fmt.Sprintf("%s has too few to confirm writes, %d of %d: writes wait", r.Role, r.Ready, r.Want)
	}
	return fmt.Sprintf("%s has nobody left to do its work", r.Role)
}

// strengths words what a whole field can lose.
func strengths(snap *Snapshot) []string {
	var parts []string
	for _, r := range snap.Roles {
		if r.Votes && r.Want > 0 && (r.Survives > 0 || r.Voters == 1) {
			losses := "no loss"
			if r.Survives > 0 {
				losses = fmt.Sprintf("%d more %s", r.Survives, wording.Plural(r.Survives, "loss", "losses"))
			}
			parts = append(parts, fmt.Sprintf("%s holds %d of %d votes and survives %s", r.Role, r.VotesReady, r.Voters, losses))
		}
		if r.Leased && r.Survives > 0 {
			parts = append(parts, fmt.Sprintf("%s survives %d more %s", r.Role, r.Survives, wording.Plural(r.Survives, "loss", "losses")))
		}
	}
	return parts
}

// Weakest is the smallest number of losses that a role whose members vote survives; ok is false where there is none.
func (snap *Snapshot) Weakest() (survives int, ok bool) {
	for _, r := range snap.Roles {
		if r.Votes && (!ok || r.Survives < survives) {
			survives, ok = r.Survives, true
		}
	}
	return survives, ok
}
