package engine

import (
	"maps"
	"reflect"
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/state"
)

// updateSpecs gives running members their new spec when what it is made of has changed. What needs a restart is only marked: the
// new spec comes with the order to restart, so that a member which is not its turn yet is not changed by a crash. What a
// program takes while it runs is brought to one member of a role at a time.
func (w *pass) updateSpecs() []state.Fact {
	var facts []state.Fact
	for _, role := range slices.Sorted(maps.Keys(w.members)) {
		declared := w.Field.Role(role)
		if declared == nil || w.readdressed(declared) {
			continue
		}
		if awaited, _ := w.LinkAwaited(declared); awaited != nil { // they go on with what they have
			continue
		}
		u := update{pass: w, settled: w.joinedAll(declared), bringing: slices.ContainsFunc(w.members[role], w.beingChanged), giving: slices.ContainsFunc(w.members[role], w.beingGiven)}
		for _, m := range w.members[role] {
			if u.bringing && m.PID != 0 && w.WaitsForTurn(m.Name) {
				continue
			}
			if !m.Leaving && m.Ordered.Want == order.Run && w.Rendered[m.Name] != w.Shape {
				u.member(m)
			}
		}
		facts = append(facts, u.facts...)
		if len(u.due) > 0 {
			facts = append(facts, state.RestartAsked{Members: u.due, Why: state.ConfigurationChanged, Part: true})
		}
		if len(u.spared) > 0 {
			facts = append(facts, state.RestartSpared{Members: u.spared})
		}
	}
	return facts
}

// update is what one look at the specs of a role's members comes to.
type update struct {
	*pass
	settled  bool // no more of what they are told is to come
	bringing bool // a change that the program takes while it runs is being brought to one of them
	giving   bool // what takes effect at the next start is being given to one of them

	facts       []state.Fact
	due, spared []field.MemberName // are to be restarted, and not any more
}

// member compares what a member was ordered with what it is to be run with now.
func (u *update) member(m *state.Member) {
	spec := u.Drawn(m.Name, func() *order.Spec { return u.spec(m, "") })
	if spec == nil {
		return
	}
	if m.Began && !reflect.DeepEqual(spec, m.Ordered.Spec) && reflect.DeepEqual(u.specAsBegun(m), m.Ordered.Spec) {
		o := u.order(m, order.Run, "it has begun: should it be started again, its cluster is there")
		o.Order.Spec, o.Same = spec, true
		u.facts = append(u.facts, o)
		return
	}
	runs := m.Runs()
	if m.Phase == state.Stopping && m.Ordered.Spec != nil { // it comes back with what it was ordered last
		runs = m.Ordered.Spec
	}
	switch effect := order.Effect(runs, spec); {
	case effect == field.OnRestart && m.PID != 0:
		if m.RestartDue {
			u.Rendered[m.Name] = u.Shape
		} else if u.settled { // else more of the same is to come
			u.due = append(u.due, m.Name)
		}
		return
	case m.RestartDue && m.RestartWhy == state.ConfigurationChanged:
		u.spared = append(u.spared, m.Name)
	}
	if reflect.DeepEqual(spec, m.Ordered.Spec) && !m.Undone {
		u.Rendered[m.Name], u.Judged[m.Name] = u.Shape, u.Drafts
		return
	}
	u.give(m, spec)
}

// give orders a member its new spec, if it is its turn.
func (u *update) give(m *state.Member, spec *order.Spec) {
	if m.PID != 0 && order.Answered(m.Runs(), spec) {
		if u.bringing {
			u.Wait(m.Name)
			return
		}
		u.bringing = true
	}
	o := u.order(m, order.Run, state.OthersChanged)
	if runs := m.Runs(); runs != nil && runs.TLS != nil && !runs.ShowsAs(spec) {
		o.Why = state.TrustChanged
	} else if runs != nil && !render.SameSecrets(runs, spec) {
		o.Why = state.SecretsChanged
	}
	if o.Draft = u.Judged[m.Name] < u.Drafts; o.Draft {
		o.Why = state.DraftChanged
		if m.PID != 0 && len(order.Pending(m.Runs(), spec)) > 0 {
			if u.giving {
				return
			}
			u.giving = true
		}
	}
	o.Order.Spec = spec
	u.facts = append(u.facts, o)
}

// joinedAll tells whether everybody of a role has joined, and of the roles that it is told of: until then more of what it is
// told is to come. Who has failed is not waited for.
func (w *pass) joinedAll(role *field.Role) bool {
	for _, name := range append(append([]field.RoleName{role.Name}, role.Called()...), role.Known()...) {
		if name != role.Name && w.Field.Needs(role)[name] == "" && slices.Contains(role.Known(), name) && w.waitsOn(name, role.Name) {
			continue // that one waits for this one
		}
		if slices.ContainsFunc(w.active(name), func(m *state.Member) bool {
			return !m.Joined && !m.Halted && w.PhaseOf(m) != state.Failed && !w.refused(m)
		}) {
			return false
		}
	}
	return true
}

// refused tells whether a member's ground cannot give its node.
func (w *pass) refused(m *state.Member) bool {
	n := w.Nodes[m.Node]
	return n != nil && !n.There() && n.AskedWhy != ""
}

// beingChanged tells whether a member's agent has still to say what came of a change that needs no restart.
func (w *pass) beingChanged(m *state.Member) bool {
	return m.PID != 0 && m.Ordered.Want == order.Run && m.Ordered.Spec != nil && m.Running != nil && !m.Undone && m.Ordered.Revision > m.Applied &&
		!w.Nodes[m.Node].Unreachable && m.Phase != state.Stopping && order.Answered(m.Running, m.Ordered.Spec)
}

// beingGiven tells whether a member has what the draft changes and its agent has not taken it yet, or it has been started with it and does
// not come up: the others are not given it then, since each would take it at its next start.
func (w *pass) beingGiven(m *state.Member) bool {
	if m.Leaving || m.Halted || m.Ordered.Want != order.Run || w.Judged[m.Name] < w.Drafts {
		return false
	}
	if w.Nodes[m.Node].Unreachable {
		return false
	}
	return m.Ordered.Revision > m.Taken || m.Phase == state.Failed || m.Phase == state.Starting || m.Phase == state.Unready
}

// specAsBegun is what a member that has begun its cluster was begun with.
func (w *pass) specAsBegun(m *state.Member) *order.Spec {
	scene := w.scene()
	drawn := scene.Members[m.Name]
	begun := drawn
	begun.Begins = true
	scene.Members[m.Name] = begun
	spec, err := scene.Spec(m.Name)
	scene.Members[m.Name] = drawn
	if err != nil {
		return nil
	}
	return spec
}
