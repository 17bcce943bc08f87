package engine

import (
	"maps"
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
)

// removeMembers ends members that are on their way out, once those that replace them are ready, or once their cluster has let
// them go. Where a whole cluster goes, dependants that go too go first.
func (w *pass) removeMembers() []state.Fact {
	var facts []state.Fact
	for _, role := range slices.Sorted(maps.Keys(w.members)) {
		whole := w.Dissolving(role, w.members[role])
		if whole && w.dependantsLeft(role, func(m *state.Member) bool { return m.Leaving }) {
			continue
		}
		byProcedure := !whole && state.Procedural(w.Field.Role(role))
		waiting := slices.ContainsFunc(w.active(role), func(m *state.Member) bool { return !m.Halted && !w.IsReady(m) })
		for _, m := range w.members[role] {
			if !m.Leaving || m.Ordered.Want == order.Gone || byProcedure && !m.Left || !byProcedure && waiting && w.IsReady(m) {
				continue
			}
			o := w.order(m, order.Gone, "it leaves")
			o.Order.Keep = m.Keeps && w.Field.Node(m.Node) != nil
			facts = append(facts, o)
		}
	}
	return facts
}

// takeDown takes everything down, dependants first, then frees the nodes.
func (w *pass) takeDown() []state.Fact {
	var facts []state.Fact
	left := func(*state.Member) bool { return true }
	for _, role := range slices.Sorted(maps.Keys(w.members)) {
		if w.dependantsLeft(role, left) {
			continue
		}
		for _, m := range w.members[role] {
			switch {
			case m.Ordered.Want == order.Gone, w.othersFirst(m, left):
			case m.Ordered.Revision == 0:
				facts = append(facts, state.MemberGone{Member: m.Name})
			default:
				facts = append(facts, w.order(m, order.Gone, "the field is retired"))
			}
		}
	}
	if len(facts) > 0 || len(w.members) > 0 {
		return facts
	}
	if facts = w.freeNodes(); len(facts) > 0 {
		return facts
	}
	for _, n := range w.Nodes {
		if !n.Released {
			return nil
		}
	}
	return []state.Fact{state.FieldRetired{}}
}

// stopMembers stops members, dependants first, and those of one role as the role says: all at once, or one by one with the leader
// last.
func (w *pass) stopMembers() []state.Fact {
	pending := func(m *state.Member) bool { return m.Halted && m.Phase != state.Stopped && m.Ordered.Want != "" }
	var facts []state.Fact
	for _, role := range slices.Sorted(maps.Keys(w.members)) {
		oneByOne := w.Field.Role(role) != nil && w.Field.Role(role).StopsOneByOne()
		if oneByOne && slices.ContainsFunc(w.members[role], func(m *state.Member) bool { return w.ending(m) && m.Halted }) {
			continue
		}
		for _, m := range w.members[role] {
			if m.Leaving || !pending(m) || m.Ordered.Want != order.Run || w.dependantsLeft(role, pending) || w.othersFirst(m, pending) {
				continue
			}
			facts = append(facts, w.order(m, order.Stop, "stop asked for"))
			if oneByOne && !w.Nodes[m.Node].Unreachable {
				break
			}
		}
	}
	return facts
}

// ending tells whether a member that was told to stop is still to be seen to have stopped.
func (w *pass) ending(m *state.Member) bool {
	return m.Ordered.Want == order.Stop && m.Phase != state.Stopped && m.Phase != state.Gone && !w.Nodes[m.Node].Unreachable
}

// othersFirst tells whether a leader should wait until the others of its role that are to end have ended: one that ends
// first hands over to members that are ending too.
func (w *pass) othersFirst(m *state.Member, pending func(*state.Member) bool) bool {
	if w.RoleOf(m.Role).Leader != m.Name {
		return false
	}
	return slices.ContainsFunc(w.members[m.Role], func(o *state.Member) bool { return o != m && pending(o) && w.PhaseOf(o) != state.Unknown })
}

// dependantsLeft tells whether a role that waits on this one still has members to be dealt with.
func (w *pass) dependantsLeft(on field.RoleName, pending func(*state.Member) bool) bool {
	for role, members := range w.members {
		if w.waitsOn(role, on) && slices.ContainsFunc(members, pending) {
			return true
		}
	}
	return false
}
