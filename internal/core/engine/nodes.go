package engine

import (
	"maps"
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
)

// NodeGiven and NodeNotGiven say what came of asking a ground for a node. Times says which asking it is about: a node that was freed and is
// asked for again is another.
type (
	NodeGiven struct {
		Node    field.NodeName
		Times   int
		Binding state.Binding
	}
	NodeNotGiven struct {
		Node  field.NodeName
		Times int
		Why   string // it is asked again

		Awaited bool // nothing is wrong: somebody has to bring it
	}
)

// askedFor gives a node that its ground has been asked for so many times and has not given.
func askedFor(s *state.State, node field.NodeName, times int) *state.Node {
	if n := s.Nodes[node]; n != nil && n.Asked && n.Bound == times && !n.Released {
		return n
	}
	return nil
}

func (in NodeGiven) decide(s *state.State) ([]state.Fact, error) {
	if askedFor(s, in.Node, in.Times) == nil {
		return nil, nil
	}
	return []state.Fact{state.NodeBound{Node: in.Node, Binding: in.Binding}}, nil
}

func (in NodeNotGiven) decide(s *state.State) ([]state.Fact, error) {
	if n := askedFor(s, in.Node, in.Times); n == nil || n.AskedWhy == in.Why {
		return nil, nil
	}
	return []state.Fact{state.NodeFailed{Node: in.Node, Why: in.Why, Awaited: in.Awaited}}, nil
}

// askForNodes asks for the nodes of the draft that no ground has been asked for, for addresses on networks that are new, and for hosts that are
// to be reached in another way.
func (w *pass) askForNodes() []state.Fact {
	var facts []state.Fact
	for i := range w.Field.Nodes {
		declared := &w.Field.Nodes[i]
		n := w.Nodes[declared.Name]
		switch {
		case n == nil || n.Released:
			facts = append(facts, state.NodeAsked{Node: declared.Name, Kind: w.Field.GroundOf(declared)})
		case !n.Asked && !n.Releasing && (len(w.Lacks(n)) > 0 || w.ReachedAnew(n)):
			facts = append(facts, state.NodeAsked{Node: declared.Name, Kind: n.Kind})
		}
	}
	return facts
}

// allThere tells whether the nodes of all members of a role are there. Members that can do without each other do not wait for one whose node cannot be had.
func (w *pass) allThere(role *field.Role, members []*state.Member) bool {
	alone := !role.Votes && !state.Procedural(role) && (role.Program == nil || role.Program.Leader == nil && role.Program.Lease == nil && len(role.Program.Found) == 0)
	return slices.ContainsFunc(members, w.IsThere) && !slices.ContainsFunc(members, func(m *state.Member) bool { return !w.IsThere(m) && !(alone && w.refused(m)) })
}

// readdressed tells whether somebody whose address a role is told is to be given more of them: its configuration waits for that.
func (w *pass) readdressed(role *field.Role) bool {
	if w.newAddresses == nil {
		w.newAddresses = map[field.RoleName]bool{}
		for _, m := range w.Members {
			if n := w.Nodes[m.Node]; m.Phase != state.Gone && n != nil && n.Readdressed() {
				w.newAddresses[m.Role] = true
			}
		}
	}
	if len(w.newAddresses) == 0 {
		return false
	}
	told := append(append([]field.RoleName{role.Name}, role.Called()...), role.Known()...)
	return slices.ContainsFunc(told, func(name field.RoleName) bool { return w.newAddresses[name] })
}

// freeNodes frees nodes that the draft has no more and that nothing is left on.
func (w *pass) freeNodes() []state.Fact {
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
