package control

import (
	"context"
	"sync"
	"time"

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
			result := c.proveOnce(ctx, s, due)
			for tries := 1; !result.OK && tries < mostProofs; tries++ {
				now, disturbed := c.undisturbed(ctx, s)
				if !disturbed {
					break
				}
				s = now // what was proved was changing: that says nothing
				result = c.proveOnce(ctx, s, due)
			}
			if ctx.Err() != nil {
				return // whoever keeps the field next does it anew
			}
			_ = c.submit(ctx, input{in: engine.ProofCame{Run: due, Result: result}})
		})
	}
}

// How often a proof is done in all where members come and go meanwhile, and how long it is waited for them to be as they shall be.
const (
	mostProofs  = 4
	disturbance = time.Second
	calmWithin  = 30 * time.Second
)

// proveOnce carries out a proof on the field as it was at that moment.
func (c *Controller) proveOnce(ctx context.Context, s *state.State, due *state.ProofRun) state.ProofResult {
	agents := newReach(c.ground, s)
	defer agents.close()
	p := proving.Prover{State: s, Ask: agents.ask, Kept: c.kept(nil)}
	return p.Run(ctx, due)
}

// undisturbed tells whether members have started, ended, come to lead or changed their phase since then, and gives the field once those that are to be
// ready are.
func (c *Controller) undisturbed(ctx context.Context, before *state.State) (now *state.State, disturbed bool) {
	for begin := time.Now(); ctx.Err() == nil; {
		c.mu.Lock()
		now = c.state.Clone()
		c.mu.Unlock()
		calm := true
		for name, m := range now.Members {
			was := before.Members[name]
			disturbed = disturbed || was == nil || was.Incarnation != m.Incarnation || was.Phase != m.Phase || !was.Since.Equal(m.Since)
			calm = calm && (m.Halted || m.Leaving || m.Phase == state.Gone || now.Works(m))
		}
		for name, r := range now.Roles {
			was := before.Roles[name]
			rivals := len(now.Rivals(r)) > 0
			disturbed = disturbed || was == nil || was.Leader != r.Leader || rivals
			led := now.Field != nil && now.Field.Role(name) != nil && now.Field.Role(name).Program != nil && now.Field.Role(name).Program.Leader != nil
			calm = calm && (!led || r.Leader != "" && !rivals)
		}
		switch since := time.Since(begin); {
		case disturbed && calm, since > calmWithin:
			return now, disturbed
		case !disturbed && since > disturbance:
			return now, false
		}
		select {
		case <-ctx.Done():
		case <-time.After(50 * time.Millisecond):
		}
	}
	return now, false
}

// reach finds agents of nodes, each once. A node that cannot be reached keeps nobody waiting who asks for another.
type reach struct {
	ground ground.Ground
	state  *state.State

	mu    sync.Mutex
	found map[field.NodeName]*finding
}

// finding is an agent that is found, or being found: all who ask for it meanwhile are answered at once.
type finding struct {
	done  chan struct{}
	agent agentapi.Agent
	err   error
}

func newReach(on ground.Ground, s *state.State) *reach {
	return &reach{ground: on, state: s, found: map[field.NodeName]*finding{}}
}

func (r *reach) ask(ctx context.Context, node field.NodeName, m field.MemberName, q order.Question) (order.Said, error) {
	agent, err := r.agent(ctx, node)
	if err != nil {
		return order.Said{}, err
	}
	return agent.Ask(ctx, m, q)
}

// agent gives the agent of a node, as it was last known. One that was not found is looked for again by whoever asks next.
func (r *reach) agent(ctx context.Context, node field.NodeName) (agentapi.Agent, error) {
	r.mu.Lock()
	f := r.found[node]
	if f == nil {
		f = &finding{done: make(chan struct{})}
		r.found[node] = f
		r.mu.Unlock()
		f.agent, f.err = r.ground.Find(ctx, node, r.state.Nodes[node].Binding())
		if f.err != nil {
			r.mu.Lock()
			delete(r.found, node)
			r.mu.Unlock()
		}
		close(f.done)
		return f.agent, f.err
	}
	r.mu.Unlock()
	select {
	case <-f.done:
		return f.agent, f.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// close ends what was found. Nobody asks any longer.
func (r *reach) close() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, f := range r.found {
		if <-f.done; f.err == nil {
			f.agent.Close()
		}
	}
}
