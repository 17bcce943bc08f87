package control

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"sync"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/identity"
	"lanternfield/internal/keyring"
)

// Whose word counts between controllers and agents: what was revoked, and the authority that takes the place of another. It is decided in the log; the keys are
// in the keyring. Agents are told by every controller that speaks with them, before it claims them.

// Orders about it. Names are nodes.
const (
	RevokeAgents      = "revoke agents"
	RevokeControllers = "revoke controllers"
	RotateAgents      = "rotate agents"
	FinishAgents      = "finish rotating agents"
)

// authorityOf makes the authority of a field's agents out of its keyring.
func authorityOf(ring *keyring.Keyring) (*identity.Authority, error) {
	current, next := ring.Agents()
	a, err := identity.Parse([]byte(current))
	if err == nil && next != "" {
		err = a.Beside([]byte(next))
	}
	return a, err
}

// counting has who speaks to agents follow what the log says of whose word counts.
type counting struct {
	authority *identity.Authority  // nil where the keyring is sealed
	watcher   *identity.Controller // nil where it is not

	mu      sync.Mutex
	follows state.Counting // what it follows
	moved   map[field.NodeName]bool
}

// refused gives what is refused.
func (c *counting) refused() *identity.Refused {
	switch {
	case c.authority != nil:
		return c.authority.Refused()
	case c.watcher != nil:
		return c.watcher.Refused()
	}
	return &identity.Refused{}
}

// set says what is refused by a state.
func (c *counting) set(s *state.State) {
	agents := map[string]time.Time{}
	for node, since := range s.Counting.Agents {
		agents[string(node)] = since
	}
	c.refused().Set(s.Counting.Number, s.Counting.Askers, agents)
}

// settleKeys brings the keyring to what the log says of authorities: a key that was made, and never came to be one, is dropped; one that has taken the place of
// another is the only one.
func settleKeys(ring *keyring.Keyring, s state.Counting) error {
	_, next := ring.Agents()
	switch place := ring.Place(); {
	case next == "" || s.Authority == place+1 && s.Beside:
		return nil
	case s.Authority == place+1:
		return ring.Change(func(k *keyring.Content) { k.Authority, k.Next, k.Place = k.Next, "", k.Place+1 })
	default:
		return ring.Change(func(k *keyring.Content) { k.Next = "" })
	}
}

// follow has everybody here follow what the log says now, and agents whom it concerns be told. Only the owner calls it.
func (c *Controller) follow(s *state.State) {
	c.counting.mu.Lock()
	before := c.counting.follows
	c.counting.follows = s.Counting
	told := before.Number != s.Counting.Number
	if told {
		c.counting.moved = map[field.NodeName]bool{}
	}
	c.counting.mu.Unlock()
	if before.Changes == s.Counting.Changes {
		return
	}
	c.counting.set(s)
	if a := c.counting.authority; a != nil && told {
		_, next := c.ring.Agents()
		err := settleKeys(c.ring, s.Counting)
		switch {
		case err != nil:
		case s.Counting.Beside && next != "":
			err = a.Beside([]byte(next))
		case !s.Counting.Beside:
			a.TakesPlace()
		}
		if err == nil && c.lock != nil {
			err = c.folder.makeWatch(a)
		}
		if err != nil {
			slog.Error("whose word counts with agents could not be brought to what the log says", "error", err)
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for node, d := range c.driving {
		if told || !before.Agents[node].Equal(s.Counting.Agents[node]) {
			d.anew()
		}
	}
}

// beforeAgentsRotation makes the next authority of agents, where there is none yet; not where the engine would refuse it, as everybody who opens the keyring goes by it.
func (c *Controller) beforeAgentsRotation() error {
	s := c.current()
	if _, next := c.ring.Agents(); next != "" || !s.Deployed() || s.Retiring || s.Counting.Beside {
		return nil
	}
	_, text, err := identity.New()
	if err != nil {
		return err
	}
	return c.ring.Change(func(k *keyring.Content) { k.Next = string(text) })
}

// tellCounting tells an agent whose word counts, where it does not know yet.
func (c *Controller) tellCounting(ctx context.Context, d *driver, client agentapi.Agent, told int64) error {
	agent, can := client.(agentapi.Certified)
	if !can || c.counting.authority == nil {
		return nil
	}
	err := agent.Follow(ctx, told)
	var refused *agentapi.Refused
	if errors.As(err, &refused) && refused.Status == http.StatusNotFound && d.at.Kind == kind.Local {
		slog.Info("an agent of an older release is replaced, since it cannot be told whose word counts; its members go on", "node", d.node)
		return errors.Join(fmt.Errorf("the agent of %s is of an older release", d.node), client.Quit(ctx))
	}
	if errors.As(err, &refused) && refused.Status == http.StatusConflict { // this log is an older copy; what was revoked since stays so
		return nil
	}
	return err
}

// hasMoved notes that an agent obeys, and shows a certificate by the newest authority. Where all do, the one before is withdrawn.
func (c *Controller) hasMoved(node field.NodeName, client agentapi.Agent) {
	if agent, can := client.(agentapi.Certified); can && !agent.Current() {
		return
	}
	c.mu.Lock()
	beside := c.state.Counting.Beside
	c.mu.Unlock()
	if !beside {
		return
	}
	c.counting.mu.Lock()
	c.counting.moved[node] = true
	c.counting.mu.Unlock()
	if len(c.away()) > 0 {
		return
	}
	c.drivers.Go(func() { // who calls waits for nothing
		_ = c.submit(c.life, input{in: engine.WithdrawAgentsAuthority{By: "all agents having moved"}})
	})
}

// away lists the nodes whose agents have no certificate by the newest authority. The caller holds the lock.
func (c *counting) away(s *state.State) []field.NodeName {
	var away []field.NodeName
	for name, n := range s.Nodes {
		if !n.Released && n.There() && !c.moved[name] {
			away = append(away, name)
		}
	}
	slices.Sort(away)
	return away
}

// away lists the nodes whose agents have no certificate by the newest authority.
func (c *Controller) away() []field.NodeName {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.counting.mu.Lock()
	defer c.counting.mu.Unlock()
	return c.counting.away(c.state)
}

// agentWithin is how long an agent is asked which certificate it shows.
const agentWithin = 1500 * time.Millisecond

// agentsShown fills in what agents show.
func (c *Controller) agentsShown(ctx context.Context, s *state.State, agents *reach, out *snapshot.Trust) {
	var asking sync.WaitGroup
	for i := range out.Agents {
		a := &out.Agents[i]
		asking.Go(func() {
			ctx, cancel := context.WithTimeout(ctx, agentWithin)
			defer cancel()
			client, err := agents.agent(ctx, a.Node)
			var said order.Standing
			if err == nil {
				said, err = client.Standing(ctx)
			}
			if agent, can := client.(agentapi.Certified); err == nil && can {
				leaf := agent.Shown()
				a.Told, a.Issued, a.Until, a.Newest = said.Told >= s.Counting.Number, identity.IssuedAt(leaf).UTC(), leaf.NotAfter.UTC(), agent.Current()
			}
			if err != nil {
				a.Why = err.Error()
			}
		})
	}
	asking.Wait()
}
