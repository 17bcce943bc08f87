package state

import (
	"cmp"
	"fmt"
	"time"

	"lanternfield/internal/core/field"
)

// Binding is what the ground has given for a node: how others reach it, and by what its provider knows it.
type Binding struct {
	Kind      string            `json:",omitempty"` // of the ground
	ID        string            `json:",omitempty"` // the provider's own name for the node, where it has one
	Address   string            // its main one
	Addresses map[string]string `json:",omitempty"` // on the other networks
	Dir       string            // the agent's folder
	Ground    field.Ground      `json:",omitzero"` // how it was declared to be reached when it was given; its kind is Kind
	Times     int               `json:"-"`         // how often a node of that name was asked for
}

// NodeAsked says that a ground is asked for a node, or for an address of a bound node on networks where it has none.
type NodeAsked struct {
	Node field.NodeName
	Kind string // of the ground
}

// NodeBound says that a ground has given a node.
type NodeBound struct {
	Node field.NodeName
	Binding
}

// NodeFailed says why a ground cannot give a node. It is asked again until it can, or the node is not wanted any more.
type NodeFailed struct {
	Node    field.NodeName
	Why     string
	Awaited bool `json:",omitempty"` // nothing is wrong: somebody has to bring it
}

func (f NodeAsked) apply(s *State, at time.Time) {
	n := s.Nodes[f.Node]
	if n == nil || n.Released {
		times := 1
		if n != nil {
			times = n.Bound + 1
		}
		n = &Node{Name: f.Node, Bound: times}
		s.Nodes[f.Node] = n
	}
	n.Kind, n.Asked, n.AskedWhy, n.Awaited, n.Since = f.Kind, true, "", false, at
	s.Shape++
}

func (f NodeAsked) Sentence() string {
	return fmt.Sprintf("%s is asked for of the %s ground", f.Node, cmp.Or(f.Kind, "local"))
}

func (f NodeBound) apply(s *State, at time.Time) {
	n := s.Nodes[f.Node]
	n.bind(f.Binding, at)
	s.Shape++
}

func (f NodeBound) Sentence() string {
	text := fmt.Sprintf("%s is there, at %s", f.Node, f.Address)
	if f.ID != "" {
		text += fmt.Sprintf(" (%s)", f.ID)
	}
	return text
}

func (f NodeFailed) apply(s *State, at time.Time) {
	n := s.Nodes[f.Node]
	n.AskedWhy, n.Awaited, n.Since = f.Why, f.Awaited, at
}

func (f NodeFailed) Sentence() string {
	if f.Awaited {
		return fmt.Sprintf("%s waits for its machine: %s", f.Node, f.Why)
	}
	return fmt.Sprintf("%s cannot be had: %s", f.Node, f.Why)
}

// bind gives a node what its ground has given for it.
func (n *Node) bind(b Binding, at time.Time) {
	n.Kind, n.ID, n.Address, n.Addresses, n.Dir, n.Ground = cmp.Or(b.Kind, n.Kind), b.ID, b.Address, b.Addresses, b.Dir, b.Ground
	if len(b.Addresses) == 0 {
		n.Addresses = nil // as it is read back
	}
	n.Asked, n.AskedWhy, n.Awaited, n.Since = false, "", false, at
}

// Binding is what the ground has given for the node; nothing before it has.
func (n *Node) Binding() Binding {
	return Binding{Kind: n.Kind, ID: n.ID, Address: n.Address, Addresses: n.Addresses, Dir: n.Dir, Ground: n.Ground, Times: n.Bound}
}

// There tells whether the ground has ever given the node.
func (n *Node) There() bool { return n.Address != "" }

// Comes tells whether the node is waited for: its ground cannot give it before somebody has brought its machine. Members that are to stand on it wait too;
// nothing else does.
func (n *Node) Comes() bool { return n.Asked && !n.There() && n.Kind == field.GroundJoin }

// Lacks gives the networks of the field on which a node that is there has no address, neither by the file nor by its ground.
func (s *State) Lacks(n *Node) []string {
	declared := s.Field.Node(n.Name)
	if declared == nil || len(s.Field.Networks) < 2 {
		return nil
	}
	var lacks []string
	for _, network := range s.Field.Networks[1:] {
		if declared.Addresses[network] == "" && n.Addresses[network] == "" {
			lacks = append(lacks, network)
		}
	}
	return lacks
}

// ReachedAnew tells whether a node that is there is declared to be reached in another way than it was given.
func (s *State) ReachedAnew(n *Node) bool {
	declared := s.Field.Node(n.Name)
	if declared == nil || !n.There() {
		return false
	}
	now := s.Field.GroundFor(declared)
	if now.Kind != "" && n.Kind != "" && now.Kind != n.Kind {
		return false // it comes from another ground, which it keeps
	}
	now.Kind = ""
	return now != n.Ground
}

// IsThere tells whether a member's node is there.
func (s *State) IsThere(m *Member) bool {
	n := s.Nodes[m.Node]
	return n != nil && n.There()
}

// Readdressed tells whether a node that is there is asked for anew: it is to be given more addresses, or reached in another way.
func (n *Node) Readdressed() bool { return n.Asked && n.There() }
