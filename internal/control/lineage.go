package control

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
)

// lacking is why an agent does not obey this log.
type lacking struct {
	why      string
	standing order.Standing
}

// randomMark makes a mark, or an identity, that nobody can guess.
func randomMark() (string, error) {
	mark := make([]byte, 16)
	_, err := rand.Read(mark)
	return hex.EncodeToString(mark), err
}

// claim has the agent of a node obey this controller. It gives what the log lacks where it does not.
func (c *Controller) claim(ctx context.Context, d *driver, client agentapi.Agent) error {
	standing, err := client.Standing(ctx)
	if err != nil {
		return err
	}
	c.mu.Lock()
	n := c.state.Nodes[d.node]
	if n == nil {
		c.mu.Unlock()
		return errRelease
	}
	d.agent, d.heard = n.Agent, n.Heard
	claim := c.state.Claim(n, standing)
	c.mu.Unlock()
	if err = c.tellCounting(ctx, d, client, standing.Told); err != nil {
		return err
	}
	if err = client.Claim(ctx, claim); err == nil {
		c.hasMoved(d.node, client)
	}
	var lacks *agentapi.Lacks
	c.mu.Lock()
	defer c.mu.Unlock()
	if errors.As(err, &lacks) {
		c.lacking[d.node] = lacking{lacks.Why, standing}
	} else if err == nil {
		delete(c.lacking, d.node)
	}
	return err
}

// LacksError says that the log that is here is not the one that the field was run by last.
type LacksError struct {
	Field string
	Lost  []string // what is known of what it lacks
}

func (e *LacksError) Error() string {
	return fmt.Sprintf("the log of %s lacks what its nodes were told: %s. It is an older copy, or another log was there before. Put the right one back; or, if that is lost, "+
		"go on without it: `lanternfield deploy` or `retire` with --take-over %s. Then everything is ordered anew, and what the log does not know is taken down, its data put aside. "+
		"Nothing has been changed", e.Field, strings.Join(e.Lost, "; "), e.Field)
}

// lost words what the log lacks.
func lost(nodes map[field.NodeName]lacking, found map[field.NodeName]state.Binding) []string {
	var out []string
	by := map[string][]field.NodeName{}
	for _, name := range slices.Sorted(maps.Keys(nodes)) {
		by[nodes[name].why] = append(by[nodes[name].why], name)
	}
	for _, why := range slices.Sorted(maps.Keys(by)) {
		out = append(out, fmt.Sprintf("%s: %s", fewNodes(by[why]), why))
	}
	if len(found) > 0 {
		out = append(out, fmt.Sprintf("%s: it knows nothing of what was deployed there", fewNodes(slices.Sorted(maps.Keys(found)))))
	}
	return out
}

func fewNodes(names []field.NodeName) string {
	if len(names) > 3 {
		return fmt.Sprintf("%s and %d more nodes", names[0], len(names)-1)
	}
	texts := make([]string, len(names))
	for i, n := range names {
		texts[i] = string(n)
	}
	return strings.Join(texts, ", ")
}

// strange finds what was deployed in this folder and is not in the log: nodes by their folders.
func (c *Controller) strange() map[field.NodeName]state.Binding {
	found := c.ground.Found(c.life)
	c.mu.Lock()
	defer c.mu.Unlock()
	return strangeTo(c.state, found)
}

func strangeTo(s *state.State, found map[field.NodeName]state.Binding) map[field.NodeName]state.Binding {
	for name := range found {
		if n := s.Nodes[name]; n != nil && !n.Released && !s.Retired {
			delete(found, name)
		}
	}
	return found
}

// trusted refuses to act with a log that lacks what its nodes were told.
func (c *Controller) trusted() error {
	found := c.strange()
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.lacking)+len(found) == 0 {
		return nil
	}
	return &LacksError{fieldName(c.folder), lost(c.lacking, found)}
}

// takeOver goes on with this log, on the word of a person who names the field.
func (c *Controller) takeOver(ctx context.Context, o Request) error {
	if len(o.Names) != 1 || o.Names[0] != fieldName(c.folder) {
		return fmt.Errorf("say which field is to be taken over: --take-over %s", fieldName(c.folder))
	}
	if err := c.heard(ctx); err != nil {
		return err
	}
	found := c.strange()
	c.mu.Lock()
	in := engine.Reclaim{By: o.By, Nodes: map[field.NodeName]order.Standing{}, Lost: lost(c.lacking, found)}
	for name, l := range c.lacking {
		in.Nodes[name] = l.standing
	}
	c.mu.Unlock()
	for name, at := range found {
		kept, err := c.ground.SetAside(ctx, name, at)
		if err != nil {
			return fmt.Errorf("what was deployed on %s cannot be taken down: %w", name, err)
		}
		slog.Warn("a node that the log does not know was taken down", "node", name, "kept", kept)
	}
	if len(in.Nodes) == 0 {
		return nil
	}
	var err error
	if in.Mark, err = randomMark(); err != nil {
		return err
	}
	if err := c.submit(ctx, input{in: in}); err != nil {
		return err
	}
	c.mu.Lock()
	clear(c.lacking)
	for name, n := range c.state.Nodes {
		if !n.Released {
			if d := c.driving[name]; d != nil {
				d.anew()
			}
		}
	}
	c.mu.Unlock()
	return c.heard(ctx)
}
