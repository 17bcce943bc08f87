package ground

import (
	"context"
	"errors"
	"net"
	"sync"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/identity"
)

// Party is as whom a ground speaks to agents.
type Party struct {
	Authority *identity.Authority         // nil while the keyring is sealed
	Watcher   *identity.Controller        // as whom agents are asked then
	Seal      func(field.NodeName) []byte // the key with which a node's agent seals what it keeps

	mu sync.Mutex
	us *identity.Controller // as whom agents are asked that obey; made when the first is spoken to
}

// Dial opens a connection to an agent, where that is not done directly.
type Dial func(ctx context.Context, network, address string) (net.Conn, error)

// Client gives a client of the agent of a node that answers at that URL.
func (p *Party) Client(node field.NodeName, url string, over Dial) (*agentapi.Client, error) {
	switch {
	case p.Authority == nil && p.Watcher == nil:
		return nil, errors.New("nothing is here by which its agent could be told from another")
	case p.Authority == nil:
		return agentapi.NewClient(url, p.Watcher.To(string(node)), over), nil
	}
	us, err := p.controller()
	if err != nil {
		return nil, err
	}
	c := agentapi.NewClient(url, us.To(string(node)), over)
	c.Sign = func(request []byte) ([]byte, error) { return p.Authority.Sign(request, string(node)) }
	c.Due = p.Authority.Teller()
	c.Vouched = p.Authority.Vouched
	return c, nil
}

// controller gives what is shown to agents.
func (p *Party) controller() (*identity.Controller, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.us == nil {
		us, err := p.Authority.Controller()
		if err != nil {
			return nil, err
		}
		p.us = us
	}
	return p.us, nil
}
