package state

import (
	"fmt"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/quorum"
)

// Votes counts the voters of a role and how many of them are ready: as the roster has them, or, before the cluster has
// told, as many as are wanted.
func (s *State) Votes(role *field.Role, members []*Member) (voters, ready int) {
	roster := map[string]bool{}
	known := false
	if r := s.Roles[role.Name]; r != nil && r.Roster != nil {
		known = true
		for _, e := range r.Roster {
			if e.Voter {
				voters++
				roster[e.Name] = true
			}
		}
	}
	if !known {
		voters = role.Members
	}
	for _, m := range members {
		if s.Works(m) && (!known && !s.Learns(m) || roster[string(m.Name)]) {
			ready++
		}
	}
	return voters, ready
}

// Gate is a gate with what it has and what it needs to open.
type Gate struct {
	On   field.RoleName `json:"on"`
	Gate field.Gate     `json:"gate"`
	Have int            `json:"have"`
	Need int            `json:"need"`
	Open bool           `json:"open"`

	Founding bool `json:"founding,omitempty"` // steps of founding its cluster are still to be done
	Unproved bool `json:"unproved,omitempty"` // a proof that it waits for has not passed yet
}

// Founding tells whether steps of founding a role's cluster are still to be done.
func (s *State) Founding(role *field.Role) bool {
	r := s.Roles[role.Name]
	return r != nil && r.Founded && role.Program != nil && r.FoundSteps < min(r.FoundDue, len(role.Program.Found))
}

func (s *State) Gate(on *field.Role, gate field.Gate, members []*Member) Gate {
	ready := 0
	for _, m := range members {
		if s.IsReady(m) && !m.Halted { // what is about to be stopped opens nothing
			ready++
		}
	}
	v := Gate{On: on.Name, Gate: gate, Have: ready}
	switch gate {
	case field.GateQuorum:
		voters, votes := s.Votes(on, members)
		v.Need, v.Have = quorum.Needed(max(voters, min(on.Members, voters+1))), votes
	case field.GateAll:
		v.Need = on.Members
	case field.GateProof:
		v.Need = on.Members
		v.Unproved = !s.Proved(on)
	case field.GateFirst:
		v.Need = min(1, on.Members)
	default:
		v.Need = min(gate.Number(), on.Members)
	}
	v.Founding = s.Founding(on)
	v.Open = v.Have >= v.Need && !v.Founding && !v.Unproved
	return v
}

// String words a gate: "store: quorum (1 of 2)".
func (g Gate) String() string {
	if g.Founding {
		return fmt.Sprintf("%s to be founded", g.On)
	}
	if g.Unproved && g.Have >= g.Need {
		return fmt.Sprintf("%s: proof", g.On)
	}
	if g.Have > g.Need {
		return fmt.Sprintf("%s: %s (%d ready, %d needed)", g.On, g.Gate, g.Have, g.Need)
	}
	return fmt.Sprintf("%s: %s (%d of %d ready)", g.On, g.Gate, g.Have, g.Need)
}
