package engine

import (
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/render"
	"lanternfield/internal/core/state"
)

// decide looks for the next thing to do. Each part decides from the state alone, so that a controller which died at any
// event finds its place again.
func (reconcile) decide(s *state.State) ([]state.Fact, error) {
	if !s.Deployed() {
		return nil, nil
	}
	if s.Listening() > 0 {
		return nil, nil // first hear how things are, then decide
	}
	if s.Refused() {
		return nil, nil // this log lacks something: a person has to say how it goes on
	}
	w := &pass{State: s, members: s.ByRole(), held: s.Rollout.Held() || s.Stalled != ""}
	if s.Retiring {
		w.held = false
		return w.retire(), nil
	}
	parts := []func() []state.Fact{w.stall, w.dissolve, w.membership, w.found, w.procedures, w.warmUp, w.start, w.halt, w.leave, w.forget, w.restart, w.drift, w.release, w.end}
	if w.held { // what a person asks for of single members is done all the same
		parts = []func() []state.Fact{w.warmUp, w.start, w.halt, w.restart, w.end}
	}
	for _, part := range parts {
		if facts := part(); len(facts) > 0 {
			return facts, w.err
		}
	}
	return nil, w.err
}

// pass is one look for the next thing to do.
type pass struct {
	*state.State
	members  map[field.RoleName][]*state.Member
	revision uint64 // of the newest order of this look
	drawn    *render.Scene
	held     bool // nothing of the rollout is begun
	err      error
}

func (w *pass) order(m *state.Member, want order.Want, why string) state.MemberOrdered {
	w.revision = max(w.revision, w.Revision) + 1
	o := order.Order{Term: w.Term, Revision: w.revision, Member: m.Name, Want: want, Round: m.Ordered.Round, Spec: m.Ordered.Spec}
	return state.MemberOrdered{Order: o, Why: why}
}

// stage is what templates see, drawn once a look.
func (w *pass) stage() *render.Scene {
	if w.drawn == nil {
		w.drawn = w.Scene()
	}
	return w.drawn
}

// spec renders what the member's agent needs; via is who admits the member where that is only being decided.
func (w *pass) spec(m *state.Member, via field.MemberName) *order.Spec {
	w.stage()
	if via != "" {
		joiner := w.drawn.Members[m.Name]
		joiner.Via = via
		w.drawn.Members[m.Name] = joiner
	}
	spec, err := w.drawn.Spec(m.Name)
	if err != nil {
		w.err = err
		return nil
	}
	return spec
}

// active are the members of a role that are there to stay.
func (w *pass) active(role field.RoleName) []*state.Member {
	return slices.DeleteFunc(slices.Clone(w.members[role]), func(m *state.Member) bool { return m.Leaving })
}

// membership plans members that are missing and sends away those that are too many.
func (w *pass) membership() []state.Fact {
	if w.Planned.Valid && w.Planned.Census == w.Census {
		return nil
	}
	var facts []state.Fact
	p := plan.Make(w.Field, w.Live())
	defer func() {
		if len(facts) == 0 {
			w.Planned = state.PlanMemo{Census: w.Census, Valid: true, Unplaced: len(p.Unplaced) > 0}
		}
	}()
	next := map[field.RoleName]int{}
	for _, a := range p.Adds {
		role := w.Field.Role(a.Role)
		r := w.RoleOf(a.Role)
		if r.Founded && len(w.active(a.Role)) == 0 {
			continue // the old cluster ends first: there is nothing left of it to join
		}
		if before := w.Members[a.Name]; before != nil && before.Kept {
			facts = append(facts, state.MemberPlanned{Member: a, Number: before.Number, Returns: true})
			continue
		}
		next[a.Role] = max(next[a.Role], r.Highest) + 1
		facts = append(facts, state.MemberPlanned{Member: a, Number: next[a.Role],
			Founding: !r.Founded && role.Founds(len(w.active(a.Role))+next[a.Role]-r.Highest-1)})
	}
	for _, r := range p.Removes {
		if m := w.Members[r.Member]; m.Ordered.Revision == 0 && !w.tried(m) {
			facts = append(facts, state.MemberLeaving{Member: r.Member, Why: r.Why}, state.MemberGone{Member: r.Member, Kept: m.Kept, Bytes: m.Bytes})
			continue
		}
		facts = append(facts, state.MemberLeaving{Member: r.Member, Why: r.Why})
	}
	return facts
}

// tried tells whether a member's cluster may know it already.
func (w *pass) tried(m *state.Member) bool {
	op := w.RoleOf(m.Role).Op
	return m.Unsettled != "" || m.Admitted && !m.Founding || m.Steps[order.Join] > 0 || m.Listed || op != nil && op.Member == m.Name
}

// open tells whether all gates of a role are open.
func (w *pass) open(role *field.Role) bool {
	for on, gate := range w.Field.Needs(role) {
		if target := w.Field.Role(on); target != nil && !w.Gate(target, gate, w.active(on)).Open {
			return false
		}
	}
	return true
}

// found freezes the founders of a role whose gates have opened for the first time.
func (w *pass) found() []state.Fact {
	for i := range w.Field.Roles {
		role := &w.Field.Roles[i]
		members := w.active(role.Name)
		if w.RoleOf(role.Name).Founded || len(members) == 0 || !w.open(role) {
			continue
		}
		var founders []field.MemberName
		back := false
		for _, m := range members {
			if m.Founding && !m.Halted {
				founders = append(founders, m.Name)
			}
			back = back || m.Joined // with data that was kept: there is nothing to found
		}
		if len(founders) == 0 && !back {
			continue
		}
		return []state.Fact{state.RoleFounded{Role: role.Name, Founders: founders, Steps: len(role.Program.Found)}}
	}
	return nil
}

// start orders every member whose time has come to run.
func (w *pass) start() []state.Fact {
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
				opened, checked = w.open(role), true
			}
			if !opened || !w.turn(role, members, index) {
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
				o.Order.Lag = time.Duration(len(facts)%lagSteps) * lagStep
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
	lagStep  = 20 * time.Millisecond
	lagSteps = 5
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

// leave ends members that are on their way out, once those that replace them are ready, or once their cluster has let
// them go. Where a whole cluster goes, dependants that go too go first.
func (w *pass) leave() []state.Fact {
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

// forget has data deleted that was kept of members, where their role keeps none any more.
func (w *pass) forget() []state.Fact {
	var due []*state.Member
	for _, m := range w.Members {
		if m.Phase == state.Gone && m.Kept && !m.Keeps && w.Field.Node(m.Node) != nil {
			due = append(due, m)
		}
	}
	slices.SortFunc(due, func(a, b *state.Member) int { return strings.Compare(string(a.Name), string(b.Name)) })
	var facts []state.Fact
	for _, m := range due {
		facts = append(facts, w.order(m, order.Gone, "its data is no longer kept"))
	}
	return facts
}

// drift gives running members their new spec when what it is made of has changed. What needs a restart is only marked: the
// new spec comes with the order to restart, so that a member which is not its turn yet is not changed by a crash. What a
// program takes while it runs is brought to one member of a role at a time.
func (w *pass) drift() []state.Fact {
	var facts []state.Fact
	for _, role := range slices.Sorted(maps.Keys(w.members)) {
		declared := w.Field.Role(role)
		if declared == nil {
			continue
		}
		settled := w.joinedAll(declared)
		bringing := slices.ContainsFunc(w.members[role], w.beingChanged)
		var due, spared []field.MemberName
		for _, m := range w.members[role] {
			if m.Leaving || m.Ordered.Want != order.Run || w.Rendered[m.Name] == w.Shape {
				continue
			}
			spec := w.spec(m, "")
			if spec == nil {
				continue
			}
			if m.Began && !reflect.DeepEqual(spec, m.Ordered.Spec) && reflect.DeepEqual(w.specAsBegun(m), m.Ordered.Spec) {
				o := w.order(m, order.Run, "it has begun: should it be started again, its cluster is there")
				o.Order.Spec, o.Same = spec, true
				facts = append(facts, o)
				continue
			}
			effect := order.Effect(m.Runs(), spec)
			switch {
			case effect == field.OnRestart && m.PID != 0:
				if m.RestartDue {
					w.Rendered[m.Name] = w.Shape
				} else if settled { // else more of the same is to come
					due = append(due, m.Name)
				}
				continue
			case m.RestartDue && m.RestartWhy == state.ConfigurationChanged:
				spared = append(spared, m.Name)
			}
			if reflect.DeepEqual(spec, m.Ordered.Spec) && !m.Undone {
				w.Rendered[m.Name], w.Judged[m.Name] = w.Shape, w.Drafts
				continue
			}
			if m.PID != 0 && order.Answered(m.Runs(), spec) {
				if bringing {
					continue
				}
				bringing = true
			}
			o := w.order(m, order.Run, state.OthersChanged)
			if o.Draft = w.Judged[m.Name] < w.Drafts; o.Draft {
				o.Why = state.DraftChanged
			}
			o.Order.Spec = spec
			facts = append(facts, o)
		}
		if len(due) > 0 {
			facts = append(facts, state.RestartAsked{Members: due, Why: state.ConfigurationChanged, Part: true})
		}
		if len(spared) > 0 {
			facts = append(facts, state.RestartSpared{Members: spared})
		}
	}
	return facts
}

// joinedAll tells whether everybody of a role has joined, and of the roles that it is told of: until then more of what it is
// told is to come. Who has failed is not waited for.
func (w *pass) joinedAll(role *field.Role) bool {
	for _, name := range append(append([]field.RoleName{role.Name}, role.Called()...), role.Known()...) {
		if name != role.Name && w.Field.Needs(role)[name] == "" && slices.Contains(role.Known(), name) && w.waitsOn(name, role.Name) {
			continue // that one waits for this one
		}
		if slices.ContainsFunc(w.active(name), func(m *state.Member) bool { return !m.Joined && !m.Halted && w.PhaseOf(m) != state.Failed }) {
			return false
		}
	}
	return true
}

// beingChanged tells whether a member's agent has still to say what came of a change that needs no restart.
func (w *pass) beingChanged(m *state.Member) bool {
	return m.PID != 0 && m.Ordered.Want == order.Run && m.Ordered.Spec != nil && m.Running != nil && !m.Undone && m.Ordered.Revision > m.Applied &&
		!w.Nodes[m.Node].Dark && m.Phase != state.Stopping && order.Answered(m.Running, m.Ordered.Spec)
}

// specAsBegun is what a member that has begun its cluster was begun with.
func (w *pass) specAsBegun(m *state.Member) *order.Spec {
	scene := w.stage()
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

// dissolve forgets clusters of which nothing is left.
func (w *pass) dissolve() []state.Fact {
	var facts []state.Fact
	for _, name := range slices.Sorted(maps.Keys(w.Roles)) {
		if w.Roles[name].Founded && len(w.members[name]) == 0 {
			facts = append(facts, state.RoleDissolved{Role: name})
		}
	}
	return facts
}

// release frees nodes that the draft has no more and that nothing is left on.
func (w *pass) release() []state.Fact {
	held := map[field.NodeName]bool{}
	for _, group := range w.members {
		for _, m := range group {
			held[m.Node] = true
		}
	}
	var facts []state.Fact
	for _, name := range slices.Sorted(maps.Keys(w.Nodes)) {
		n := w.Nodes[name]
		if !n.Releasing && !n.Released && !held[name] && len(n.Strays) == 0 && (w.Retiring || w.Field.Node(name) == nil) {
			facts = append(facts, state.NodeReleasing{Node: name})
		}
	}
	return facts
}

// end closes the rollout when everything wanted has come true.
func (w *pass) end() []state.Fact {
	if !w.Rollout.Active() || w.Rollout.Paused && w.Rollout.Members == nil {
		return nil
	}
	if names := w.Rollout.Members; names != nil {
		for _, name := range names {
			if m := w.Members[name]; m != nil && !w.settled(m, w.Rollout.What) {
				return nil
			}
		}
		return []state.Fact{state.RolloutEnded{What: w.Rollout.What}}
	}
	for _, group := range w.members {
		for _, m := range group {
			if !w.settled(m, "") {
				return nil
			}
		}
	}
	for _, n := range w.Nodes {
		if len(n.Strays) > 0 && !n.Dark || n.Releasing && !n.Released && !n.Dark { // one that cannot be reached is freed when it can be
			return nil
		}
	}
	for i := range w.Field.Roles {
		r := &w.Field.Roles[i]
		members := w.active(r.Name)
		if len(members) < r.Members || w.Founding(r) {
			return nil
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
	case m.Leaving && m.Left && w.Nodes[m.Node].Dark:
		return true // it ends when its node can be reached again
	case m.Leaving, m.RestartDue, m.Ordered.Revision > m.Taken, w.beingChanged(m):
		return false
	case m.Halted && m.Phase != state.Stopped && m.Ordered.Want != "":
		return false
	}
	return m.Halted || w.IsReady(m)
}

// retire takes everything down, dependants first, then frees the nodes.
func (w *pass) retire() []state.Fact {
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
	if facts = w.release(); len(facts) > 0 {
		return facts
	}
	for _, n := range w.Nodes {
		if !n.Released {
			return nil
		}
	}
	return []state.Fact{state.FieldRetired{}}
}
