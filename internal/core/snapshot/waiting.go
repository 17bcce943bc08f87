package snapshot

import (
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/membership"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
	"lanternfield/internal/core/wording"
)

// changing words the change of a cluster's membership that is under way; "" when there is none.
func changing(s *state.State, role *field.Role, members []*state.Member) string {
	r := s.Roles[role.Name]
	if r == nil || !r.Founded {
		return ""
	}
	if op := r.Op; op != nil && !(op.Procedure == order.Rank && len(r.Answers) > 0) {
		verb := map[order.Procedure]string{order.Join: "adds %s", order.Promote: "gives %s a vote", order.Leave: "removes %s",
			order.HandOver: "takes the lead from %s", order.ChangeSecret: "takes another secret, through %s", order.Found: "is being founded by %s", order.Rank: "reads how advanced the data of %s is"}[op.Procedure]
		text := string(role.Name) + " " + fmt.Sprintf(verb, op.Member)
		if r.Retried != "" {
			text += fmt.Sprintf(" (not yet: %s)", r.Retried)
		}
		return text
	}
	if r.Cold && r.Waits.For != "" {
		return string(role.Name) + " waits for " + r.Waits.For
	}
	if r.Waits.For != "" && state.Procedural(role) && slices.ContainsFunc(members, func(m *state.Member) bool {
		return m.Leaving && !m.Left || !m.Leaving && !m.Halted && s.Seat(role, m) != membership.Voter
	}) {
		return string(role.Name) + " waits for " + r.Waits.For
	}
	return ""
}

// waitsFor words what keeps a member from being lit, as far as it is something else than the member itself.
func waitsFor(s *state.State, m *state.Member, role *RoleView, peers *peers) string {
	if text := changeWaits(s, m); text != "" {
		return text
	}
	if m.RestartDue {
		if b := peers.blocker; b != nil && b != m {
			return fmt.Sprintf("%s to be %s, before it is restarted", b.Name, awaited(b))
		}
		return "its turn to be restarted"
	}
	if s.TakenOff(m) {
		return fmt.Sprintf("%s to list it again: somebody has taken it off by hand", m.Role)
	}
	switch phase := s.PhaseOf(m); phase {
	case state.Planned:
		return plannedWaits(s, m, role, peers)
	case state.Placing:
		if n := s.Nodes[m.Node]; n != nil && n.Unreachable {
			return fmt.Sprintf("%s to answer (%s)", n.Name, n.UnreachableWhy)
		}
		return fmt.Sprintf("the agent of %s", m.Node)
	case state.Starting:
		if m.ProbeError != "" {
			return "its ready probe to succeed: " + m.ProbeError
		}
		return "its ready probe to succeed"
	case state.Joining:
		if s.Learns(m) {
			return fmt.Sprintf("%s to give it a vote", m.Role)
		}
		return fmt.Sprintf("%s to list it as a member", m.Role)
	}
	return ""
}

// waitsOn is the member of its role whose turn comes before, as far as that is what a member waits for.
func waitsOn(s *state.State, m *state.Member, peers *peers) field.MemberName {
	if m.RestartDue {
		if b := peers.blocker; b != nil && b != m {
			return b.Name
		}
		return ""
	}
	if s.PhaseOf(m) != state.Planned {
		return ""
	}
	role := s.Field.Role(m.Role)
	if role == nil || !s.RoleOf(m.Role).Founded || m.Founding {
		return ""
	}
	if op := s.RoleOf(m.Role).Op; op != nil && op.Member != m.Name {
		return op.Member
	}
	if p := peers.turn; p != nil && p.Number < m.Number {
		return p.Name
	}
	return ""
}

// changeWaits words what a change of the cluster's membership waits for, where that is about the member.
func changeWaits(s *state.State, m *state.Member) string {
	c, r := s.Roles[m.Role], s.Field.Role(m.Role)
	if c == nil {
		return ""
	}
	if op := c.Op; r != nil && op != nil && op.Member == m.Name && !(op.Procedure == order.Rank && len(c.Answers) > 0) {
		text := fmt.Sprintf("%s to %s", m.Role, state.ProcedureVerb(op.Procedure, m.Name))
		if c.Retried != "" {
			text += ", which says: " + c.Retried
		}
		return text
	}
	comesOrGoes := m.Leaving && !m.Left || !m.Leaving && r != nil && s.Seat(r, m) != membership.Voter
	if r != nil && state.Procedural(r) && c.Founded && m.Ordered.Want == "" == !m.Leaving && comesOrGoes && !m.Halted || c.Cold && !m.Begins && !m.Halted {
		return c.Waits.For
	}
	return ""
}

// plannedWaits words what a member waits for that has not been ordered to run yet.
func plannedWaits(s *state.State, m *state.Member, role *RoleView, peers *peers) string {
	if s.Rollout.Paused {
		return "the rollout to go on, which is paused"
	}
	if r := s.Field.Role(m.Role); r != nil && r.Linked() {
		if text := awaitedLink(s, r); text != "" {
			return text
		}
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
	if text := peers.awaits(s, m); text != "" {
		return text
	}
	r := s.Field.Role(m.Role)
	if text := awaitedLink(s, r); text != "" {
		return text
	}
	if state.Procedural(r) && !m.Founding && s.RoleOf(m.Role).Founded && !(m.Admitted && r.Program.Leader != nil && role.Leader == "") {
		return fmt.Sprintf("its turn to join %s, one member at a time", m.Role)
	}
	if !m.Founding && r != nil && r.Program.Leader != nil && role.Leader == "" && s.RoleOf(m.Role).Founded {
		return fmt.Sprintf("somebody to lead %s", m.Role)
	}
	if p := peers.unready; p != nil && p.Number < m.Number {
		return fmt.Sprintf("%s to be ready first", p.Name)
	}
	return ""
}

// peers is what the members of a role wait for of each other. It is found out once for all of them: there may be thousands.
type peers struct {
	declared map[field.NodeName]*field.Node

	nodes   string        // that are waited for before the cluster is founded, in words
	unready *state.Member // the first by number that is not ready
	turn    *state.Member // the first of those that neither rests nor leaves
	blocker *state.Member // who has to be ready before another is restarted
}

// peersOf finds that out of a role's members, by number.
func peersOf(s *state.State, role field.RoleName, all []*state.Member, declared map[field.NodeName]*field.Node) *peers {
	p := &peers{declared: declared, blocker: s.Blocker(all)}
	for _, m := range all {
		if s.IsReady(m) {
			continue
		}
		if p.unready == nil {
			p.unready = m
		}
		if !m.Halted && !m.Leaving {
			p.turn = m
			break
		}
	}
	if !s.RoleOf(role).Founded {
		p.nodes = awaitedNodes(s, all)
	}
	return p
}

// awaits words which nodes a member waits for to be there: its own, and, before its cluster is founded, those of all.
func (p *peers) awaits(s *state.State, m *state.Member) string {
	switch {
	case !s.RoleOf(m.Role).Founded:
		return p.nodes
	case s.IsThere(m):
		return ""
	}
	return awaitedNodes(s, []*state.Member{m})
}

// awaitedNodes words which nodes of members are waited for to be there.
func awaitedNodes(s *state.State, members []*state.Member) string {
	var names []string
	why, named := "", map[field.NodeName]bool{}
	for _, m := range members {
		n := s.Nodes[m.Node]
		if n == nil || n.There() || named[m.Node] {
			continue
		}
		named[m.Node] = true
		names = append(names, string(m.Node))
		if why == "" && n.AskedWhy != "" {
			why = fmt.Sprintf(" (%s cannot be had: %s; it is asked for again)", m.Node, n.AskedWhy)
			if n.Awaited {
				why = fmt.Sprintf(" (%s: %s)", m.Node, n.AskedWhy)
			}
		}
	}
	if len(names) == 0 {
		return ""
	}
	return wording.FirstOf(names, 3) + " to be there" + why
}

// awaitedLink words which role of another field is to be handed over before a role's members can be started.
func awaitedLink(s *state.State, role *field.Role) string {
	if role == nil {
		return ""
	}
	awaited, why := s.LinkAwaited(role)
	if awaited == nil {
		return ""
	}
	text := fmt.Sprintf("%s to hand over %s", awaited.External.Field, awaited.External.Role)
	if why != "" {
		text += ": " + why
	}
	return text
}

// unfiltered words on which machines the rules of the packet filter are not those that they should be.
func unfiltered(s *state.State) []string {
	var out []string
	for _, n := range state.SortedNodes(s) {
		if n.RulesWhy != "" && !n.Released {
			out = append(out, fmt.Sprintf("rules of the packet filter of %s were taken back, and are tried again: %s", n.Name, n.RulesWhy))
		}
	}
	return out
}
