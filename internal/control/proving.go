package control

import (
	"context"
	"sync"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground"
	"lanternfield/internal/proving"
)

// prove begins the proofs that are due and not under way. The caller holds the lock.
func (c *Controller) prove(ctx context.Context) {
	for _, due := range c.state.ProofsDue() {
		if c.proofs[due.Number] {
			continue
		}
		if c.proofs == nil {
			c.proofs = map[int]bool{}
		}
		c.proofs[due.Number] = true
		s := c.state.Clone()
		c.drivers.Go(func() {
			agents := &reach{ground: c.ground, state: s, found: map[field.NodeName]agentapi.Agent{}}
			defer agents.close()
			p := proving.Prover{State: s, Ask: agents.ask, Secret: func(name string) string { return derive(c.key, "secret "+name) }}
			result := p.Run(ctx, due)
			if ctx.Err() != nil {
				return // whoever keeps the field next does it anew
			}
			_ = c.submit(ctx, input{in: engine.ProofCame{Run: due, Result: result}})
		})
	}
}

// reach finds agents of nodes, each once.
type reach struct {
	ground ground.Ground
	state  *state.State

	mu    sync.Mutex
	found map[field.NodeName]agentapi.Agent
}

func (r *reach) ask(ctx context.Context, node field.NodeName, m field.MemberName, q order.Question) (order.Said, error) {
	r.mu.Lock()
	agent, err := r.found[node], error(nil)
	if agent == nil {
		if agent, err = r.ground.Find(ctx, node, r.state.Nodes[node].Binding()); err == nil {
			r.found[node] = agent
		}
	}
	r.mu.Unlock()
	if err != nil {
		return order.Said{}, err
	}
	return agent.Ask(ctx, m, q)
}

func (r *reach) close() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, a := range r.found {
		a.Close()
	}
}
