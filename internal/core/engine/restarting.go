package engine

import (
	"cmp"
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
)

// restartNext restarts members one at a time, role by role in the order of deployment. Those known to be down come first: that is
// how a mended configuration gets in. The leader comes last. Nobody that works is touched while another of its role is not
// ready, or cannot be heard; whoever cannot be heard is never next. Who was ready when the restart was asked for, and is not while another
// comes back, may be what that one comes back from (it copies its data to it): it is waited for.
func (w *pass) restartNext() []state.Fact {
	for _, stage := range w.Field.Stages() {
		for _, role := range stage {
			members := w.active(role)
			due := func(m *state.Member) bool { return m.RestartDue && (!w.held || m.RestartWhy == state.AskedFor) }
			if !slices.ContainsFunc(members, due) || w.readdressed(w.Field.Role(role)) {
				continue
			}
			next := w.nextRestart(role, members, due)
			if next == nil {
				if slices.ContainsFunc(members, func(m *state.Member) bool { return due(m) && m.RestartWhy == state.AskedFor }) {
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
			return []state.Fact{o}
		}
	}
	return nil
}

// nextRestart chooses who of a role is restarted next; nil while that must wait. See waitsToRestart for the words.
func (w *pass) nextRestart(role field.RoleName, members []*state.Member, due func(*state.Member) bool) *state.Member {
	var next *state.Member
	for _, m := range members {
		if m.Ordered.Revision > m.Taken && !w.IsReady(m) {
			continue // its agent has not even the order before
		}
		if due(m) && w.Down(m) && next == nil && !(m.RestartFit && m.PID != 0 && m.Phase == state.Unready) {
			next = m
		}
	}
	if next != nil || w.Blocker(w.members[role]) != nil {
		return next
	}
	for _, m := range members {
		if due(m) && w.IsReady(m) && (next == nil || w.RoleOf(m.Role).Leader == next.Name) {
			next = m
		}
	}
	return next
}
