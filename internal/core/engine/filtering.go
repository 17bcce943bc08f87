package engine

import (
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
)

// KeepRules says which rules the packet filter of a node has, and RefuseRules why it does not have those that it should.
type (
	KeepRules struct {
		Node   field.NodeName
		Digest string // empty where it restricts nothing
		Ports  int
	}
	RefuseRules struct {
		Node field.NodeName
		Why  string
	}
)

func (in KeepRules) decide(s *state.State) ([]state.Fact, error) {
	if n := s.Nodes[in.Node]; n == nil || n.Released || n.Rules == in.Digest && n.RulesWhy == "" {
		return nil, nil
	}
	return []state.Fact{state.RulesKept(in)}, nil
}

func (in RefuseRules) decide(s *state.State) ([]state.Fact, error) {
	if n := s.Nodes[in.Node]; n == nil || n.Released || n.RulesWhy == in.Why {
		return nil, nil
	}
	return []state.Fact{state.RulesRefused(in)}, nil
}
