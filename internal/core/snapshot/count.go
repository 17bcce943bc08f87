package snapshot

import (
	"lanternfield/internal/core/quorum"
	"lanternfield/internal/core/state"
)

// Counts is what the tide draws.
type Counts struct {
	Lit, Want int
	Survives  int  // of the weakest voting role
	Votes     bool // there is one that has had its quorum
}

// Count counts lanterns without making a snapshot.
func Count(s *state.State) Counts {
	var c Counts
	if s.Field == nil || s.Retired {
		return c
	}
	groups := s.ByRole()
	for i := range s.Field.Roles {
		role := &s.Field.Roles[i]
		members := groups[role.Name]
		joined, lit := 0, 0
		for _, m := range members {
			if s.IsReady(m) {
				lit++
			}
			if !m.ReadyAt.IsZero() {
				joined++
			}
		}
		c.Lit += min(lit, role.Members)
		c.Want += role.Members
		if voters, ready := s.Votes(role, members); role.Votes && joined >= quorum.Needed(voters) {
			survives := s.Survives(role, members, ready)
			if !c.Votes || survives < c.Survives {
				c.Survives, c.Votes = survives, true
			}
		}
	}
	return c
}
