package engine

import (
	"fmt"
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
)

// RevokeAgents has the certificates of nodes' agents not count that have been issued until now. Where an agent can be started from here, it gets another one.
type RevokeAgents struct {
	Nodes []field.NodeName
	By    string
}

// RevokeControllers has all certificates of controllers and watchers not count that have been issued until now. Who keeps the field gives itself another one.
type RevokeControllers struct{ By string }

// MakeAgentsAuthority has another authority, which is there, issue the certificates of agents, and then of controllers.
type MakeAgentsAuthority struct{ By string }

// WithdrawAgentsAuthority ends that: the newest counts alone. Away are the nodes whose agents have no certificate by it; only a person goes on without them.
type WithdrawAgentsAuthority struct {
	By   string
	Away []field.NodeName
}

func (in RevokeAgents) decide(s *state.State) ([]state.Fact, error) {
	if err := guardOrder(s, "revoke"); err != nil {
		return nil, err
	}
	if len(in.Nodes) == 0 {
		return nil, fmt.Errorf("say which nodes' agents are meant")
	}
	for _, name := range in.Nodes {
		if n := s.Nodes[name]; n == nil || n.Released || !n.There() {
			return nil, fmt.Errorf("no agent of a node %s has a certificate", name)
		}
	}
	return []state.Fact{state.AgentsRevoked(in)}, nil
}

func (in RevokeControllers) decide(s *state.State) ([]state.Fact, error) {
	if err := guardOrder(s, "revoke"); err != nil {
		return nil, err
	}
	return []state.Fact{state.ControllersRevoked(in)}, nil
}

func (in MakeAgentsAuthority) decide(s *state.State) ([]state.Fact, error) {
	if err := guardOrder(s, "rotate"); err != nil {
		return nil, err
	}
	if s.Counting.Beside {
		return nil, fmt.Errorf("another authority is taking the place of the one of %s's agents already; `lanternfield trust` says whose agents have not been given a certificate by it", s.Field.Name)
	}
	return []state.Fact{state.AgentsAuthorityMade(in)}, nil
}

func (in WithdrawAgentsAuthority) decide(s *state.State) ([]state.Fact, error) {
	if err := guardOrder(s, "rotate"); err != nil {
		return nil, err
	}
	if !s.Counting.Beside {
		return nil, fmt.Errorf("no authority is taking the place of the one of %s's agents: begin with `lanternfield trust rotate --agents`", s.Field.Name)
	}
	slices.Sort(in.Away)
	return []state.Fact{state.AgentsAuthorityWithdrawn(in)}, nil
}
