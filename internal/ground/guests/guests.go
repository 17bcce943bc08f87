// Package guests is the ground of machines that join by an invitation, typed by somebody on the machine itself: nobody else can do anything there. The
// machine's agent alone brings new programs, and takes everything away again.
package guests

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/carried"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground"
	"lanternfield/internal/ground/kind"
)

// Guests is the ground of machines that join.
type Guests struct {
	ground.Party
	Cache ground.Notes // what machines have joined

	releases ground.Releases
}

var _ ground.Ground = (*Guests)(nil)

// Guest is a machine that has joined.
type Guest struct {
	URL     string // where its agent answered last
	Address string
	Dir     string // the node's folder there
	Machine string
	Leaves  bool // its agent was asked to take everything away
}

// Came notes that a machine has joined as a node: its agent runs there.
func (g *Guests) Came(node field.NodeName, m Guest) error { return g.Cache.Write(node, m) }

// Check has nothing against nodes for which nobody has come yet.
func (g *Guests) Check(context.Context, []ground.Want, ground.Bindings) error { return nil }

// Give gives a node for which a machine has joined.
func (g *Guests) Give(_ context.Context, want ground.Want, have ground.Bindings) (state.Binding, error) {
	node := want.Node.Name
	at := have[node]
	at.Kind, at.Ground, at.Times = kind.Join, field.Ground{}, 0
	if at.Dir == "" {
		var m Guest
		if !g.Cache.Read(node, &m) || m.Leaves {
			return at, &ground.AwaitedError{Why: fmt.Sprintf("no machine has joined as it yet; `lanternfield invite --node %s` prints the command to run on it", node)}
		}
		at.Address, at.Dir, at.ID = m.Address, m.Dir, m.Machine
	}
	if want.Address != "" && want.Address != at.Address {
		return at, fmt.Errorf("it has joined at %s, and is to be at %s by the file: take that out, or take the node out, deploy, and invite it anew", at.Address, want.Address)
	}
	at.Addresses = nil
	for _, network := range want.Networks[min(1, len(want.Networks)):] {
		if want.Node.Addresses[network] == "" {
			return at, fmt.Errorf("its address on the network %s has to stand in the file", network)
		}
		if at.Addresses == nil {
			at.Addresses = map[string]string{}
		}
		at.Addresses[network] = want.Node.Addresses[network]
	}
	return at, nil
}

// Find gives a client of the node's agent where it answered last.
func (g *Guests) Find(ctx context.Context, node field.NodeName, at state.Binding) (agentapi.Agent, error) {
	return g.find(ctx, node, at)
}

func (g *Guests) find(ctx context.Context, node field.NodeName, at state.Binding) (*agentapi.Client, error) {
	var m Guest
	if g.Cache.Read(node, &m) {
		return g.Client(node, m.URL, nil)
	}
	return g.search(ctx, node, at)
}

// errNever says why no agent is looked for.
var errNever = errors.New("its agent has not answered yet")

// searchAtOnce and searchWithin bound the search for an agent's port.
const (
	searchAtOnce = 16
	searchWithin = 5 * time.Second
)

// search finds the agent of a machine of which nothing is noted, as where the state folder was brought back from a copy: it is at one of few ports.
func (g *Guests) search(ctx context.Context, node field.NodeName, at state.Binding) (*agentapi.Client, error) {
	if at.Address == "" {
		return nil, errNever
	}
	ctx, cancel := context.WithTimeout(ctx, searchWithin)
	defer cancel()
	first, last := at.Ground.AgentPorts()
	places := make(chan struct{}, searchAtOnce)
	found := make(chan string, last-first+1)
	var looking sync.WaitGroup
	for port := first; port <= last; port++ {
		looking.Add(1)
		go func() {
			defer looking.Done()
			places <- struct{}{}
			defer func() { <-places }()
			url := "https://" + net.JoinHostPort(at.Address, strconv.Itoa(port))
			c, err := g.Client(node, url, nil)
			if err != nil {
				return
			}
			defer c.Close()
			if _, err := ground.Shows(ctx, c); err == nil {
				found <- url
				cancel()
			}
		}()
	}
	looking.Wait()
	select {
	case url := <-found:
		if err := g.Came(node, Guest{URL: url, Address: at.Address, Dir: at.Dir, Machine: at.ID}); err != nil {
			return nil, err
		}
		return g.Client(node, url, nil)
	default:
		return nil, fmt.Errorf("its agent answers at no port of %s from %d to %d", at.Address, first, last)
	}
}

// Ensure gives a client of the node's agent. It cannot be started from here; one of another release replaces itself, and its members go on.
func (g *Guests) Ensure(ctx context.Context, node field.NodeName, at state.Binding) (agentapi.Agent, error) {
	c, err := g.find(ctx, node, at)
	if err != nil {
		return nil, err
	}
	if g.Authority == nil {
		return c, nil
	}
	s, err := ground.Shows(ctx, c)
	if err != nil {
		c.Close()
		return nil, fmt.Errorf("%w. Is the machine up, and its port open? Where the agent does not run, invite the machine again", err)
	}
	if s.Speaks > order.Speaks || g.releases.Newest(node, s) {
		return ground.Spoken(c, s)
	}
	if err := renew(ctx, c, s); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

// How long an agent may take to come back as another release.
const (
	backWithin = 20 * time.Second
	backLook   = 100 * time.Millisecond
)

// renew has an agent replace its programs by those that are carried, and waits until it answers again.
func renew(ctx context.Context, c *agentapi.Client, s order.Standing) error {
	programs, err := carried.For(s.Arch)
	if err != nil {
		return err
	}
	for _, p := range programs {
		packed, err := p.Packed()
		if err == nil {
			err = c.Replace(ctx, p.Name, p.Sum, packed)
		}
		if err != nil {
			return fmt.Errorf("%s cannot be replaced there: %w", p.Name, err)
		}
	}
	if err := c.Restart(ctx); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, backWithin)
	defer cancel()
	for {
		now, err := ground.Shows(ctx, c)
		if err == nil && slices.ContainsFunc(programs, func(p carried.Program) bool { return p.Sum == now.Program }) {
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("its agent was replaced, and does not come back: %w", errors.Join(err, ctx.Err()))
		case <-time.After(backLook):
		}
	}
}

// Release has the agent take everything away, and takes its word for it: nobody else can look there.
func (g *Guests) Release(ctx context.Context, node field.NodeName, at state.Binding) error {
	var m Guest
	noted := g.Cache.Read(node, &m)
	if at.Dir == "" && !noted {
		return nil
	}
	c, err := g.find(ctx, node, at)
	if err != nil {
		return err
	}
	defer c.Close()
	if _, err := ground.Shows(ctx, c); err != nil {
		if noted && m.Leaves && errors.Is(err, syscall.ECONNREFUSED) { // it has left, and its answer was lost
			g.Cache.Forget(node)
			return nil
		}
		return err
	}
	if !noted {
		m = Guest{URL: c.Url, Address: at.Address, Dir: at.Dir, Machine: at.ID}
	}
	m.Leaves = true // noted before: a process that ends now would not know that it has gone
	if err := g.Came(node, m); err != nil {
		return err
	}
	left, err := c.Leave(ctx)
	var refused *agentapi.Refused
	switch {
	case errors.As(err, &refused): // it is still there
		m.Leaves = false
		return errors.Join(err, g.Came(node, m))
	case err != nil:
		return err
	case len(left) > 0:
		return fmt.Errorf("its agent has taken itself away, and this is left there: %s", strings.Join(left, ", "))
	}
	g.Cache.Forget(node)
	return nil
}

// Left finds nothing: what an agent left when it took itself away, it has said.
func (g *Guests) Left(context.Context, ground.Bindings, []ground.Made) []string { return nil }

// Abandon has nothing to do: an agent whose folder is gone ends by itself.
func (g *Guests) Abandon(context.Context, field.NodeName, state.Binding) error { return nil }

// Found gives nothing: machines are known by the log alone.
func (g *Guests) Found(context.Context) ground.Bindings { return nil }

// SetAside cannot be done from here.
func (g *Guests) SetAside(_ context.Context, node field.NodeName, _ state.Binding) (string, error) {
	return "", fmt.Errorf("%s has joined by invitation, and what is on it cannot be set aside from here", node)
}
