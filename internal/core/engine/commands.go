package engine

import (
	"maps"
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
)

// Command is something that must be done about a node: have its ground give it, bring a member to an order, carry out an operation, or free
// the node.
type Command struct {
	Node      field.NodeName
	Give      int // which asking for the node it is; 0 where it is not asked for
	Order     *order.Order
	Operation *order.Operation
	Release   bool
}

// Commands lists what must be done for the state to come true. It is repeated until reports acknowledge it.
func Commands(s *state.State) []Command {
	var commands []Command
	for _, name := range slices.Sorted(maps.Keys(s.Members)) {
		m := s.Members[name]
		if n := s.Nodes[m.Node]; m.Awaited() && !n.Forced { // what a lost log does not tell is heard first
			o := m.Ordered
			o.Term = s.Term
			commands = append(commands, Command{Node: m.Node, Order: &o})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.Roles)) {
		if op := s.Roles[name].Op; op != nil && !s.Retiring {
			o := *op
			o.Term = s.Term
			commands = append(commands, Command{Node: s.Member(op.Asked).Node, Operation: &o})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.Nodes)) {
		for _, stray := range s.Nodes[name].StrayNames() {
			o := s.Nodes[name].Strays[stray]
			if !o.Taken {
				commands = append(commands, Command{Node: name, Order: &order.Order{Term: s.Term, Revision: o.Revision, Member: stray, Want: order.Gone, Keep: true}})
			}
		}
		switch n := s.Nodes[name]; {
		case n.Released:
		case n.Releasing:
			commands = append(commands, Command{Node: name, Release: true})
		case n.Asked:
			commands = append(commands, Command{Node: name, Give: n.Bound})
		}
	}
	return commands
}
