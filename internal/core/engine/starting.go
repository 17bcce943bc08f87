package engine

import (
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
)

// open tells whether all gates of a role are open.
func (w *pass) open(role *field.Role) bool {
	if awaited, _ := w.LinkAwaited(role); awaited != nil {
		return false
	}
	for on, gate := range w.Field.Needs(role) {
		if target := w.Field.Role(on); target != nil && !w.Gate(target, gate, w.active(on)).Open {
			return false
		}
	}
	return true
}

// startMembers orders every member whose time has come to run.
func (w *pass) startMembers() []state.Fact {
	var facts []state.Fact
	for i := range w.Field.Roles {
		role := &w.Field.Roles[i]
		if !w.RoleOf(role.Name).Founded {
			continue
		}
		members := w.active(role.Name)
		opened, checked := false, false
		for index, m := range members {
			if m.Halted || m.Ordered.Want == order.Run || w.held && !m.Asked {
				continue
			}
			if m.Ordered.Want == order.Stop && m.Phase != state.Stopped {
				continue // it ends first
			}
			if w.RoleOf(role.Name).Cold && !m.Begins {
				continue // who begins comes first
			}
			if !checked {
				opened, checked = w.open(role) && !w.readdressed(role), true
			}
			if !opened || !w.IsThere(m) || !w.turn(role, members, index) {
				continue
			}
			o := w.order(m, order.Run, "the draft has it")
			if m.Ordered.Want == order.Stop {
				o.Why = "started again"
			}
			if !m.Founding && m.Via == "" {
				o.Via = w.RoleOf(role.Name).Leader
			}
			if role.Votes {
				o.Order.StartDelay = time.Duration(len(facts)%startSteps) * startStep
			}
			if o.Order.Spec = w.spec(m, o.Via); o.Order.Spec != nil {
				facts = append(facts, o)
			}
		}
	}
	return facts
}

// How far apart voters are started that are ordered together; see order.Order.Lag.
const (
	startStep  = 20 * time.Millisecond
	startSteps = 5
)

// turn tells whether the role's way of starting lets this member start now. Those that were members before come back
// together: they may need each other for a quorum.
func (w *pass) turn(role *field.Role, members []*state.Member, index int) bool {
	m := members[index]
	if m.Joined || m.Founding {
		return true
	}
	if state.Procedural(role) { // whose templates may ask who leads
		return m.Admitted && (role.Program.Leader == nil || m.Via != "" || w.RoleOf(role.Name).Leader != "")
	}
	if role.Start == field.Together {
		return true
	}
	if role.Program.Leader != nil && w.RoleOf(role.Name).Leader == "" {
		return false // it is admitted by whoever leads
	}
	if role.Start == field.SeedFirst {
		return slices.ContainsFunc(members, func(o *state.Member) bool { return o.Joined && w.IsReady(o) })
	}
	for _, before := range members[:index] {
		if !before.Halted && !w.IsReady(before) {
			return false
		}
	}
	return true
}

// waitsOn tells whether a role needs another, by gate.
func (w *pass) waitsOn(role, on field.RoleName) bool {
	r := w.Field.Role(role)
	if r == nil {
		return false
	}
	_, needs := w.Field.Needs(r)[on]
	return needs
}
