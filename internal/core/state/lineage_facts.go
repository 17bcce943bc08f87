package state

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/wording"
)

// AgentBegan says that an agent has begun a new life, and what it holds. What it was ordered before and does not hold is ordered again.
type AgentBegan struct {
	Node     field.NodeName
	Rebooted bool            `json:",omitempty"`
	Held     []order.Holding `json:",omitempty"`
}

// LogTakenOver says that a person goes on with a log that lacks what agents were told by it, or by another: its numbers go on above
// theirs, and everything is ordered anew.
type LogTakenOver struct {
	By       string
	Term     uint64
	Mark     string
	Revision uint64
	Nodes    []field.NodeName // that are to give a whole account
	Knew     []field.NodeName `json:",omitempty"` // whose agents know more than the log
	Lost     []string         `json:",omitempty"` // for people
}

// StrayFound says that an agent runs a member that the log does not know there, and that it is to go. StrayTaken and StrayGone say how
// far that is.
type (
	StrayFound struct {
		Node     field.NodeName
		Member   field.MemberName
		Revision uint64
	}
	StrayTaken struct {
		Node   field.NodeName
		Member field.MemberName
	}
	StrayGone struct {
		Node   field.NodeName
		Member field.MemberName
		Kept   bool `json:",omitempty"`
	}
)

// Stray is a member that an agent runs and the log does not know.
type Stray struct {
	Revision uint64 `json:",omitzero"` // of the order to go
	Taken    bool   `json:",omitzero"`
}

// NodeAccounted is the final account of a node's agent, before it is released: what it still holds or finds running. Unconfirmed says
// why there is none.
type NodeAccounted struct {
	Node        field.NodeName
	Left        []string `json:",omitempty"`
	Unconfirmed string   `json:",omitempty"`
}

func (f AgentBegan) apply(s *State, at time.Time) {
	held := map[field.MemberName]order.Holding{}
	for _, h := range f.Held {
		held[h.Member] = h
	}
	for _, m := range s.Members {
		if m.Node != f.Node || m.Phase == Gone || m.Taken == 0 {
			continue
		}
		h, known := held[m.Name]
		m.Taken = min(m.Taken, h.Revision)
		if known {
			continue
		}
		m.Running = nil
		switch m.Phase {
		case Starting, Joining, Ready, Unready, Failed, Draining:
			m.fail("its agent began anew and knew nothing of it; it is ordered again", 0, 0, at)
		}
	}
}

func (f AgentBegan) Sentence() string {
	text := fmt.Sprintf("the agent of %s has begun anew and holds %s", f.Node, wording.Counted(len(f.Held), "order"))
	if f.Rebooted {
		text += "; its machine was started again meanwhile, and what happened just before may not be known"
	}
	return text
}

func (f LogTakenOver) apply(s *State, _ time.Time) {
	s.Term, s.Revision, s.Recovered = max(s.Term, f.Term), max(s.Revision, f.Revision), true
	if s.Marks == nil {
		s.Marks = map[uint64]string{}
	}
	s.Marks[s.Term] = f.Mark
	for _, name := range f.Nodes {
		if n := s.Nodes[name]; n != nil {
			n.Forced, n.Agent, n.Heard, n.Unheard = true, "", 0, n.There() // all are heard again before anything is done
		}
	}
	for _, m := range SortedMembers(s) {
		if m.Ordered.Revision > 0 && m.Phase != Gone {
			s.Revision++
			m.Ordered.Revision, m.Taken = s.Revision, 0
			m.remember(m.Ordered)
		}
	}
	for _, r := range s.Roles {
		if r.Op != nil { // what came of it is found out, under a number that no agent has seen
			s.Revision++
			op := *r.Op
			op.ID, op.VerifyFirst = s.Revision, true
			r.Op = &op
		}
	}
	s.Base = s.Revision
}

func (f LogTakenOver) Sentence() string {
	return fmt.Sprintf("%s takes the field over with a log that lacks what the agents of %s were told: everything is ordered anew, above revision %d", f.By, wording.Nodes(f.Knew), f.Revision)
}

func (f StrayFound) apply(s *State, _ time.Time) {
	n := s.Nodes[f.Node]
	if n.Strays == nil {
		n.Strays = map[field.MemberName]Stray{}
	}
	n.Strays[f.Member] = Stray{Revision: f.Revision}
	s.Revision = max(s.Revision, f.Revision)
}

func (f StrayFound) Sentence() string {
	return fmt.Sprintf("%s runs %s, which the log does not know there; it is taken down, and its data is put aside on the node", f.Node, f.Member)
}

func (f StrayTaken) apply(s *State, _ time.Time) {
	n := s.Nodes[f.Node]
	stray := n.Strays[f.Member]
	stray.Taken = true
	n.Strays[f.Member] = stray
}

func (f StrayTaken) Sentence() string {
	return fmt.Sprintf("the agent of %s has the order to take %s down", f.Node, f.Member)
}

func (f StrayGone) apply(s *State, _ time.Time) { delete(s.Nodes[f.Node].Strays, f.Member) }

func (f StrayGone) Sentence() string {
	if f.Kept {
		return fmt.Sprintf("%s, which the log did not know, is gone from %s; its data is kept there", f.Member, f.Node)
	}
	return fmt.Sprintf("%s, which the log did not know, is gone from %s", f.Member, f.Node)
}

func (f NodeAccounted) apply(*State, time.Time) {}

func (f NodeAccounted) Sentence() string {
	switch {
	case f.Unconfirmed != "":
		return fmt.Sprintf("what is left on %s could not be confirmed: %s", f.Node, f.Unconfirmed)
	case len(f.Left) > 0:
		return fmt.Sprintf("the agent of %s ends, and still finds %s", f.Node, wording.List(f.Left))
	}
	return fmt.Sprintf("the agent of %s holds nothing and finds nothing running", f.Node)
}

func (n *Node) StrayNames() []field.MemberName { return slices.Sorted(maps.Keys(n.Strays)) }

// Claim is what a controller says of its log to the agent of a node.
func (s *State) Claim(n *Node, to order.Standing) order.Claim {
	return order.Claim{Log: s.Log, Term: s.Term, Mark: s.Marks[s.Term], Known: s.Marks[to.Term], Revision: s.Revision, Base: s.Base, Life: n.Agent, Heard: n.Heard, Force: n.Forced}
}
