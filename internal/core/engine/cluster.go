package engine

import (
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/membership"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/quorum"
)

// procedural tells whether members of a role join or leave its cluster by procedure.
func procedural(role *field.Role) bool {
	return role != nil && role.Program != nil &&
		len(role.Program.Join)+len(role.Program.Leave)+len(role.Program.Promote)+len(role.Program.HandOver) > 0
}

// dissolving tells whether the whole cluster of a role goes: then nobody needs to be dismissed from it.
func (s *State) dissolving(role field.RoleName, members []*Member) bool {
	r := s.Field.Role(role)
	return r == nil || r.Members == 0 || !slices.ContainsFunc(members, func(m *Member) bool { return !m.Leaving })
}

// entry finds a member on its cluster's own list: by name, or by the identity that was captured as it joined, since some
// programs list a member without its name until it has started.
func (s *State) entry(m *Member) *order.RosterEntry {
	r := s.Roles[m.Role]
	if r == nil {
		return nil
	}
	if i := slices.IndexFunc(r.Roster, m.isEntry); i >= 0 {
		return &r.Roster[i]
	}
	return nil
}

func (m *Member) isEntry(e order.RosterEntry) bool {
	return e.Name == string(m.Name) || e.ID != "" && e.ID == m.Captured["id"]
}

// seat is where a member stands in its cluster: as the roster has it, or, where there is none, as its procedures have
// gone.
func (s *State) seat(role *field.Role, m *Member) membership.Seat {
	r := s.Roles[m.Role]
	if r != nil && r.Roster != nil {
		switch e := s.entry(m); {
		case e == nil:
			return membership.Outside
		case e.Voter:
			return membership.Voter
		}
		return membership.Learner
	}
	switch {
	case !m.Admitted || m.Left, m.Leaving && role.Program != nil && len(role.Program.Leave) > 0 && m.Steps[order.Leave] >= len(role.Program.Leave):
		return membership.Outside
	case s.joins(m):
		return membership.Outside // steps that come after its start are still to be done
	case !m.Founding && role.Program != nil && m.Steps[order.Promote] < len(role.Program.Promote):
		return membership.Learner
	}
	return membership.Voter
}

// works tells whether a member does its work in its cluster, on its way out too.
func (s *State) works(m *Member) bool {
	if n := s.Nodes[m.Node]; n != nil && n.Dark {
		return false
	}
	return m.Phase == Ready || m.Phase == Draining && m.PID != 0 && !m.ReadyAt.IsZero() && m.ProbeError == ""
}

// takenOff tells whether somebody else has taken a member off its cluster's list.
func (s *State) takenOff(m *Member) bool {
	r := s.Roles[m.Role]
	return r != nil && r.Roster != nil && m.Listed && !m.Leaving && s.entry(m) == nil
}

// strangers are the entries of a cluster's list that are none of our members.
func (s *State) strangers(role field.RoleName, members []*Member) []order.RosterEntry {
	r := s.Roles[role]
	if r == nil {
		return nil
	}
	var out []order.RosterEntry
	for _, e := range r.Roster {
		if !slices.ContainsFunc(members, func(m *Member) bool { return m.isEntry(e) }) {
			out = append(out, e)
		}
	}
	return out
}

// cluster is what package membership needs to know of a role.
func (s *State) cluster(role *field.Role, members []*Member) *membership.Cluster {
	c := &membership.Cluster{Name: role.Name, Voteless: !role.Votes}
	if p := role.Program; p != nil {
		c.Learners, c.HandsOver = len(p.Promote) > 0, len(p.HandOver) > 0
	}
	for _, e := range s.strangers(role.Name, members) {
		if e.Voter {
			c.Strangers++
		}
	}
	for _, m := range members {
		seat := s.seat(role, m)
		c.Members = append(c.Members, membership.Member{Name: m.Name, Seat: seat, Healthy: s.works(m), Leads: s.role(role.Name).Leader == m.Name,
			Leaving: m.Leaving, Absent: m.Halted || s.takenOff(m)})
	}
	return c
}

// under is the change of membership that an operation makes.
func under(op *order.Operation) membership.Change {
	if op == nil {
		return membership.Change{}
	}
	kind := map[order.Procedure]membership.Kind{order.Join: membership.Admit, order.Promote: membership.Promote, order.Leave: membership.Dismiss}[op.Procedure]
	return membership.Change{Kind: kind, Member: op.Member}
}

// survives is how many more members of a role may be lost at the same time with its work going on, also while a change
// of its membership is under way; -1 when it cannot do its work.
func (s *State) survives(role *field.Role, members []*Member, ready int) int {
	switch {
	case role.Members == 0 && len(members) == 0:
		return 0
	case !role.Votes:
		return ready - 1
	}
	r := s.role(role.Name)
	if r.Roster == nil && !procedural(role) {
		return quorum.Survives(s.Votes(role, members))
	}
	c := s.cluster(role, members)
	if voters, _ := c.Votes(); voters == 0 {
		return -1
	}
	return membership.Survives(c, under(r.Op))
}
