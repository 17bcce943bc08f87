package engine

import (
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/membership"
	"lanternfield/internal/core/order"
)

// changing words the change of a cluster's membership that is under way; "" when there is none.
func (s *State) changing(role *field.Role, members []*Member) string {
	r := s.Roles[role.Name]
	if r == nil || !r.Founded {
		return ""
	}
	if op := r.Op; op != nil {
		verb := map[order.Procedure]string{order.Join: "adds %s", order.Promote: "gives %s a vote", order.Leave: "removes %s",
			order.HandOver: "takes the lead from %s", order.Found: "is being founded by %s", order.Rank: "reads how advanced the data of %s is"}[op.Procedure]
		text := string(role.Name) + " " + fmt.Sprintf(verb, op.Member)
		if r.Retried != "" {
			text += fmt.Sprintf(" (not yet: %s)", r.Retried)
		}
		return text
	}
	if r.Cold && r.Waits.For != "" {
		return string(role.Name) + " waits for " + r.Waits.For
	}
	if r.Waits.For != "" && procedural(role) && slices.ContainsFunc(members, func(m *Member) bool {
		return m.Leaving && !m.Left || !m.Leaving && !m.Halted && s.seat(role, m) != membership.Voter
	}) {
		return string(role.Name) + " waits for " + r.Waits.For
	}
	return ""
}

// waitsFor words what keeps a member from being lit, as far as it is something else than the member itself.
func (s *State) waitsFor(m *Member, role *RoleView, peers []*Member) string {
	r := s.Field.Role(m.Role)
	if c := s.Roles[m.Role]; c != nil && r != nil {
		if op := c.Op; op != nil && op.Member == m.Name {
			text := fmt.Sprintf("%s to %s", m.Role, procedureVerb(op.Procedure, m.Name))
			if c.Retried != "" {
				text += ", which says: " + c.Retried
			}
			return text
		}
		if procedural(r) && c.Founded && c.Waits.For != "" && m.Ordered.Want == "" == !m.Leaving && (m.Leaving && !m.Left || !m.Leaving && s.seat(r, m) != membership.Voter) && !m.Halted {
			return c.Waits.For
		}
	}
	if c := s.Roles[m.Role]; c != nil && c.Cold && !m.Begins && !m.Halted && c.Waits.For != "" {
		return c.Waits.For
	}
	if m.RestartDue {
		if b := s.blocker(peers); b != nil && b != m {
			return fmt.Sprintf("%s to be %s, before it is restarted", b.Name, b.awaited())
		}
		return "its turn to be restarted"
	}
	if s.takenOff(m) {
		return fmt.Sprintf("%s to list it again: somebody has taken it off by hand", m.Role)
	}
	switch phase := s.PhaseOf(m); phase {
	case Planned:
		if s.Rollout.Paused {
			return "the rollout to go on, which is paused"
		}
		var closed []string
		for _, g := range role.Gates {
			if !g.Open {
				closed = append(closed, g.String())
			}
		}
		if len(closed) > 0 {
			return strings.Join(closed, ", ")
		}
		if procedural(r) && !m.Founding && s.role(m.Role).Founded && !(m.Admitted && r.Program.Leader != nil && role.Leader == "") {
			return fmt.Sprintf("its turn to join %s, one member at a time", m.Role)
		}
		if !m.Founding && r != nil && r.Program.Leader != nil && role.Leader == "" && s.role(m.Role).Founded {
			return fmt.Sprintf("somebody to lead %s", m.Role)
		}
		for _, p := range peers {
			if p.Number < m.Number && !s.IsReady(p) {
				return fmt.Sprintf("%s to be ready first", p.Name)
			}
		}
	case Placing:
		if n := s.Nodes[m.Node]; n != nil && n.Dark {
			return fmt.Sprintf("%s to answer (%s)", n.Name, n.DarkWhy)
		}
		return fmt.Sprintf("the agent of %s", m.Node)
	case Starting:
		if m.ProbeError != "" {
			return "its ready probe to succeed: " + m.ProbeError
		}
		return "its ready probe to succeed"
	case Joining:
		if s.learns(m) {
			return fmt.Sprintf("%s to give it a vote", m.Role)
		}
		return fmt.Sprintf("%s to list it as a member", m.Role)
	}
	return ""
}

// String words a gate: "store: quorum (1 of 2)".
func (g GateView) String() string {
	if g.Founding {
		return fmt.Sprintf("%s to be founded", g.On)
	}
	if g.Have > g.Need {
		return fmt.Sprintf("%s: %s (%d ready, %d needed)", g.On, g.Gate, g.Have, g.Need)
	}
	return fmt.Sprintf("%s: %s (%d of %d ready)", g.On, g.Gate, g.Have, g.Need)
}
