package engine

import (
	"fmt"
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
)

// endTasks ends what a person asked for of some members, once it has come true.
func (w *pass) endTasks() []state.Fact {
	var facts []state.Fact
	for _, t := range w.Tasks {
		if t.Active() && !slices.ContainsFunc(t.Members, func(name field.MemberName) bool {
			m := w.Members[name]
			return m != nil && !w.settled(m, t.What)
		}) {
			facts = append(facts, state.RolloutEnded{What: t.What, Task: t.Number})
		}
	}
	return facts
}

// endRollout closes the rollout when everything wanted has come true.
func (w *pass) endRollout() []state.Fact {
	if !w.Rollout.Active() || w.Rollout.Paused {
		return nil
	}
	for _, group := range w.members {
		for _, m := range group {
			if !w.settled(m, "") {
				return nil
			}
		}
	}
	for _, n := range w.Nodes {
		if n.Asked && !n.Comes() && !n.Releasing && !n.Released || len(n.Strays) > 0 && !n.Unreachable || n.Releasing && !n.Released && !n.Unreachable { // one that cannot be reached is freed when it can be
			return nil
		}
	}
	for i := range w.Field.Roles {
		r := &w.Field.Roles[i]
		members := w.active(r.Name)
		if len(members) < r.Members || w.Founding(r) {
			return nil
		}
		if awaited, _ := w.LinkAwaited(r); awaited != nil && len(members) > 0 {
			return nil // they are still to be told of it
		}
		running := slices.ContainsFunc(members, func(m *state.Member) bool { return !m.Halted })
		if running && r.Program != nil && r.Program.Leader != nil && w.RoleOf(r.Name).Leader == "" {
			return nil // who has a leader is not done before somebody leads
		}
	}
	return []state.Fact{state.RolloutEnded{What: w.Rollout.What}}
}

// settled tells whether a member is as it shall be, or as a stop, start or restart of it wants it.
func (w *pass) settled(m *state.Member, what string) bool {
	switch {
	case what == "stop":
		return !m.Halted || m.Phase == state.Stopped || m.Phase == state.Gone || m.Ordered.Want == ""
	case what != "" && (m.Phase == state.Gone || m.Leaving || m.Halted):
		return true // something else was asked for meanwhile
	case m.Leaving && m.Left && w.Nodes[m.Node].Unreachable:
		return true // it ends when its node can be reached again
	case m.Leaving, m.RestartDue, m.Awaited(), w.beingChanged(m):
		return false
	case m.Halted && m.Phase != state.Stopped && m.Ordered.Want != "":
		return false
	}
	return m.Halted || w.IsReady(m)
}

// stopOnRefusal ends a rollout of which a member has refused what it was given.
func (w *pass) stopOnRefusal() []state.Fact {
	if !w.Rollout.Active() || w.Rollout.What == "retire" {
		return nil
	}
	for _, m := range state.SortedMembers(w.State) {
		if m.Unfit != "" && m.Phase != state.Gone && !m.Leaving {
			return []state.Fact{state.RolloutFailed{What: w.Rollout.What, Why: fmt.Sprintf("%s was not changed and goes on as before: %s", m.Name, m.Unfit)}}
		}
	}
	return nil
}
