package snapshot

import (
	"slices"

	"lanternfield/internal/core/field"
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
	type counted struct {
		votes       bool
		joined, lit int
		members     []*state.Member // of a role that votes
	}
	roles := make(map[field.RoleName]*counted, len(s.Field.Roles))
	for i := range s.Field.Roles {
		roles[s.Field.Roles[i].Name] = &counted{votes: s.Field.Roles[i].Votes}
	}
	for _, m := range s.Members { // it is counted after each event, and there may be thousands
		of := roles[m.Role]
		if of == nil || m.Phase == state.Gone {
			continue
		}
		if s.IsReady(m) {
			of.lit++
		}
		if !m.ReadyAt.IsZero() {
			of.joined++
		}
		if of.votes {
			of.members = append(of.members, m)
		}
	}
	for i := range s.Field.Roles {
		role := &s.Field.Roles[i]
		of := roles[role.Name]
		c.Lit += min(of.lit, role.Members)
		c.Want += role.Members
		if !role.Votes {
			continue
		}
		members := of.members
		slices.SortFunc(members, func(a, b *state.Member) int { return a.Number - b.Number })
		if voters, ready := s.Votes(role, members); of.joined >= quorum.Needed(voters) {
			survives := s.Survives(role, members, ready)
			if !c.Votes || survives < c.Survives {
				c.Survives, c.Votes = survives, true
			}
		}
	}
	return c
}
