package state

import (
	"maps"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/membership"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/quorum"
)

// Procedural tells whether members of a role join or leave its cluster by procedure.
func Procedural(role *field.Role) bool {
	return role != nil && role.Program != nil &&
		len(role.Program.Join)+len(role.Program.Leave)+len(role.Program.Promote)+len(role.Program.HandOver) > 0
}

// Dissolving tells whether the whole cluster of a role goes: then nobody needs to be dismissed from it.
func (s *State) Dissolving(role field.RoleName, members []*Member) bool {
	r := s.Field.Role(role)
	return r == nil || r.Members == 0 || !slices.ContainsFunc(members, func(m *Member) bool { return !m.Leaving })
}

// Entry finds a member on its cluster's own list: by name, or by the identity that was captured as it joined, since some
// programs list a member without its name until it has started.
func (s *State) Entry(m *Member) *order.RosterEntry {
	r := s.Roles[m.Role]
	if r == nil {
		return nil
	}
	if i := slices.IndexFunc(r.Roster, m.isEntry); i >= 0 {
		return &r.Roster[i]
	}
	return nil
}

// ListsAny tells whether a cluster's own list, as it was told last, has any member of the role.
func (s *State) ListsAny(role field.RoleName) bool {
	for _, m := range s.Members {
		if m.Role == role && s.Entry(m) != nil {
			return true
		}
	}
	return false
}

func (m *Member) isEntry(e order.RosterEntry) bool {
	return e.Name == string(m.Name) || e.ID != "" && e.ID == m.Captured["id"]
}

// Seat is where a member stands in its cluster: as the roster has it, or, where there is none, as its procedures have
// gone.
func (s *State) Seat(role *field.Role, m *Member) membership.Seat {
	r := s.Roles[m.Role]
	if r != nil && r.Roster != nil {
		switch e := s.Entry(m); {
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

// Works tells whether a member does its work in its cluster, on its way out too.
func (s *State) Works(m *Member) bool {
	if n := s.Nodes[m.Node]; n != nil && n.Unreachable {
		return false
	}
	return m.Phase == Ready || m.Phase == Draining && m.PID != 0 && !m.ReadyAt.IsZero() && m.ProbeError == ""
}

// TakenOff tells whether somebody else has taken a member off its cluster's list.
func (s *State) TakenOff(m *Member) bool {
	r := s.Roles[m.Role]
	return r != nil && r.Roster != nil && m.Listed && !m.Leaving && s.Entry(m) == nil
}

// Strangers are the entries of a cluster's list that are none of our members.
func (s *State) Strangers(role field.RoleName, members []*Member) []order.RosterEntry {
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

// Cluster is what package membership needs to know of a role.
func (s *State) Cluster(role *field.Role, members []*Member) *membership.Cluster {
	c := &membership.Cluster{Name: role.Name, Voteless: !role.Votes}
	if p := role.Program; p != nil {
		c.Learners, c.HandsOver = len(p.Promote) > 0, len(p.HandOver) > 0
	}
	for _, e := range s.Strangers(role.Name, members) {
		if e.Voter {
			c.Strangers++
		}
	}
	for _, m := range members {
		seat := s.Seat(role, m)
		c.Members = append(c.Members, membership.Member{Name: m.Name, Seat: seat, Healthy: s.Works(m), Leads: s.RoleOf(role.Name).Leader == m.Name,
			Leaving: m.Leaving, Absent: m.Halted || s.TakenOff(m) || !s.IsThere(m)})
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

// Survives is how many more members of a role may be lost at the same time with its work going on, also while a change
// of its membership is under way; -1 when it cannot do its work.
func (s *State) Survives(role *field.Role, members []*Member, ready int) int {
	switch {
	case role.Members == 0 && len(members) == 0:
		return 0
	case !role.Votes:
		return ready - 1 - s.Field.Confirms(role, len(members))
	}
	r := s.RoleOf(role.Name)
	if r.Roster == nil && !Procedural(role) {
		return quorum.Survives(s.Votes(role, members))
	}
	c := s.Cluster(role, members)
	if voters, _ := c.Votes(); voters == 0 {
		return -1
	}
	return membership.Survives(c, under(r.Op))
}

func EntryNames(entries []order.RosterEntry) string {
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = e.Name
		if e.Name == "" {
			names[i] = "a member without a name"
		}
		if e.ID != "" && e.ID != e.Name {
			names[i] += " (" + e.ID + ")"
		}
	}
	return strings.Join(names, ", ")
}

// Troubled are the members whose procedures came to nothing.
func (s *State) Troubled() []field.MemberName {
	var names []field.MemberName
	for _, name := range slices.Sorted(maps.Keys(s.Members)) {
		if m := s.Member(name); m.Phase != Gone && m.Trouble != "" {
			names = append(names, name)
		}
	}
	return names
}

// Down tells whether a member is known not to work.
func (s *State) Down(m *Member) bool {
	if m.Halted || m.Ordered.Want != order.Run {
		return false
	}
	switch s.PhaseOf(m) {
	case Failed, Unready, Starting, Joining:
		return true
	}
	return false
}

// Blocker is a member of a role for which the others wait before one that works is restarted.
func (s *State) Blocker(members []*Member) *Member {
	for _, m := range members {
		if !m.Halted && !m.Leaving && !s.IsReady(m) && m.Ordered.Want != "" || m.Leaving && !s.Nodes[m.Node].Unreachable {
			return m
		}
	}
	return nil
}
