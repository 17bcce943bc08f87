package engine

import (
	"maps"
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
)

// began gives what an agent's new life tells: nothing where it is its first, or holds all that it should.
func began(s *state.State, n *state.Node, r order.Report) (state.AgentBegan, bool) {
	f := state.AgentBegan{Node: n.Name, Rebooted: r.Rebooted, Held: r.Held}
	if r.Rebooted {
		return f, true
	}
	held := map[field.MemberName]uint64{}
	for _, h := range r.Held {
		held[h.Member] = h.Revision
	}
	for _, m := range s.Members {
		if m.Node == n.Name && m.Phase != state.Gone && held[m.Name] < m.Taken {
			return f, true
		}
	}
	return f, false
}

// straysIn finds what an agent holds that the log does not know to be there. Only after a person has taken the field over can that be.
func straysIn(s *state.State, n *state.Node, held []order.Holding) []state.Fact {
	if !s.Recovered || n.Releasing {
		return nil
	}
	var facts []state.Fact
	revision := s.Revision
	for _, h := range held {
		m := s.Members[h.Member]
		if h.Want == order.Gone || m != nil && m.Node == n.Name && m.Phase != state.Gone {
			continue
		}
		if _, known := n.Strays[h.Member]; known {
			continue
		}
		revision = max(revision, h.Revision) + 1
		facts = append(facts, state.StrayFound{Node: n.Name, Member: h.Member, Revision: revision})
	}
	return facts
}

// readStray takes what an agent tells of a member that is to go from its node.
func readStray(n *state.Node, r order.Report) state.Fact {
	stray, known := n.Strays[r.Member]
	if !known || r.Operation != 0 {
		return nil
	}
	switch {
	case r.Kind == order.Taken && r.Revision == stray.Revision && !stray.Taken:
		return state.StrayTaken{Node: n.Name, Member: r.Member}
	case r.Kind == order.Removed:
		return state.StrayGone{Node: n.Name, Member: r.Member, Kept: r.Kept}
	}
	return nil
}

// Reclaim goes on with a log that agents refuse, on a person's word.
type Reclaim struct {
	By    string
	Mark  string // random
	Nodes map[field.NodeName]order.Standing
	Lost  []string
}

func (in Reclaim) decide(s *state.State) ([]state.Fact, error) {
	f := state.LogTakenOver{By: in.By, Mark: in.Mark, Knew: slices.Sorted(maps.Keys(in.Nodes)), Lost: in.Lost, Term: s.Term, Revision: s.Revision}
	for _, st := range in.Nodes {
		f.Term, f.Revision = max(f.Term, st.Term), max(f.Revision, st.Revision)
	}
	f.Term++
	for _, n := range state.SortedNodes(s) {
		if !n.Released {
			f.Nodes = append(f.Nodes, n.Name)
		}
	}
	return []state.Fact{f}, nil
}

// Account is the final account of a node's agent.
type Account struct {
	Node        field.NodeName
	Left        []string
	Unconfirmed string
}

func (in Account) decide(s *state.State) ([]state.Fact, error) {
	if n := s.Nodes[in.Node]; n == nil || n.Released {
		return nil, nil
	}
	return []state.Fact{state.NodeAccounted(in)}, nil
}
