package control

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground"
)

// Host is a member that can be visited, and where it is.
type Host struct {
	Member  field.MemberName
	Node    field.NodeName
	Address string
	Ports   map[string]int
}

// Visitor does things at members of a field through their agents, which report it for the journal. It holds nothing of the field, and
// needs nobody who keeps it.
type Visitor struct {
	state  *state.State
	ground ground.Ground

	mu     sync.Mutex
	agents map[field.NodeName]*reached
}

// reached is the agent of one node, found once.
type reached struct {
	once  sync.Once
	agent agentapi.Agent
	err   error
}

// Visiting reads who is where, and gives those that words mean: names of members, roles or nodes; all without any. Members that
// are gone, or have no node yet, are not among them.
func Visiting(f Folder, what []string) (*Visitor, []Host, error) {
	s, err := readState(f)
	if errors.Is(err, ErrNothing) {
		return nil, nil, fmt.Errorf("%s is not deployed, so there are no members to go to", fieldName(f))
	}
	if err != nil {
		return nil, nil, err
	}
	names, err := engine.Choose(s, what)
	if err != nil {
		return nil, nil, err
	}
	g, err := f.groundToAct(s)
	if err != nil {
		return nil, nil, err
	}
	var hosts []Host
	for _, name := range names {
		m := s.Members[name]
		n := s.Nodes[m.Node]
		if m.Phase == state.Gone || n == nil || n.Released || !n.There() {
			continue
		}
		hosts = append(hosts, Host{Member: name, Node: m.Node, Address: n.Address, Ports: s.Ports(m)})
	}
	return &Visitor{state: s, ground: g, agents: map[field.NodeName]*reached{}}, hosts, nil
}

// Visit begins something at a member.
func (v *Visitor) Visit(ctx context.Context, h Host, what agentapi.Visit) (*agentapi.Frames, error) {
	v.mu.Lock()
	r := v.agents[h.Node]
	if r == nil {
		r = &reached{}
		v.agents[h.Node] = r
	}
	v.mu.Unlock()
	r.once.Do(func() { r.agent, r.err = v.ground.Find(ctx, h.Node, v.state.Nodes[h.Node].Binding()) })
	if r.err != nil {
		return nil, r.err
	}
	return r.agent.Visit(ctx, h.Member, what)
}

// Close lets go of the agents.
func (v *Visitor) Close() {
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, r := range v.agents {
		if r.agent != nil {
			r.agent.Close()
		}
	}
}
