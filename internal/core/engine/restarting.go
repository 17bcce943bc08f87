package engine

import (
	"cmp"
	"fmt"
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// restart restarts members one at a time, role by role in the order of deployment. Those known to be down come first: that is
// how a mended configuration gets in. The leader comes last. Nobody that works is touched while another of its role is not
// ready, or cannot be heard; whoever cannot be heard is never next.
func (w *work) restart() []Fact {
	for _, stage := range w.Field.Stages() {
		for _, role := range stage {
			members := w.active(role)
			due := func(m *Member) bool { return m.RestartDue && (!w.held || m.RestartWhy == askedFor) }
			if !slices.ContainsFunc(members, due) {
				continue
			}
			next := w.nextRestart(role, members, due)
			if next == nil {
				if slices.ContainsFunc(members, func(m *Member) bool { return due(m) && m.RestartWhy == askedFor }) {
					continue // others that were asked for need not wait for this role
				}
				return nil
			}
			o := w.order(next, order.Run, cmp.Or(next.RestartWhy, "as ordered before"))
			o.Restart = true
			o.Order.Round++
			if o.Order.Spec = w.spec(next, ""); o.Order.Spec == nil {
				return nil
			}
			return []Fact{o}
		}
	}
	return nil
}

// nextRestart chooses who of a role is restarted next; nil while that must wait. See waitsToRestart for the words.
func (w *work) nextRestart(role field.RoleName, members []*Member, due func(*Member) bool) *Member {
	var next *Member
	for _, m := range members {
		if m.Ordered.Revision > m.Taken && !w.IsReady(m) {
			continue // its agent has not even the order before
		}
		if due(m) && w.down(m) && next == nil {
			next = m
		}
	}
	if next != nil || w.blocker(w.members[role]) != nil {
		return next
	}
	for _, m := range members {
		if due(m) && w.IsReady(m) && (next == nil || w.role(m.Role).Leader == next.Name) {
			next = m
		}
	}
	return next
}

// down tells whether a member is known not to work.
func (s *State) down(m *Member) bool {
	if m.Halted || m.Ordered.Want != order.Run {
		return false
	}
	switch s.PhaseOf(m) {
	case Failed, Unready, Starting, Joining:
		return true
	}
	return false
}

// blocker is a member of a role for which the others wait before one that works is restarted.
func (s *State) blocker(members []*Member) *Member {
	for _, m := range members {
		if !m.Halted && !m.Leaving && !s.IsReady(m) && m.Ordered.Want != "" || m.Leaving && !s.Nodes[m.Node].Dark {
			return m
		}
	}
	return nil
}

// stall ends a rollout of which a member has refused what it was given.
func (w *work) stall() []Fact {
	if !w.Rollout.Active() || w.Rollout.What == "retire" || w.Rollout.What == "stop" {
		return nil
	}
	for _, m := range SortedMembers(w.State) {
		if m.Unfit != "" && m.Phase != Gone && !m.Leaving {
			return []Fact{RolloutFailed{What: w.Rollout.What, Why: fmt.Sprintf("%s was not changed and goes on as before: %s", m.Name, m.Unfit)}}
		}
	}
	return nil
}
