package hosts

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground"
	"lanternfield/internal/secureshell"
)

// shared is a connection to a host that whoever needs one uses.
type shared struct {
	mu   sync.Mutex
	conn *secureshell.Conn
}

// connect gives a connection to a host, the one that is open where there is one.
func (h *Hosts) connect(ctx context.Context, address string, g field.Ground) (*secureshell.Conn, error) {
	name := g.Host
	if name == "" {
		name = address
	}
	key := fmt.Sprintf("%s %+v", name, g)
	h.mu.Lock()
	if h.conns == nil {
		h.conns = map[string]*shared{}
	}
	s := h.conns[key]
	if s == nil {
		s = &shared{}
		h.conns[key] = s
	}
	h.mu.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.conn != nil {
		select {
		case <-s.conn.Done():
		default:
			return s.conn, nil
		}
	}
	target, err := h.target(name, g)
	if err != nil {
		return nil, err
	}
	s.conn, err = secureshell.Dial(ctx, target, g.Sudo == field.SudoAlways)
	return s.conn, err
}

// target is how a host is reached.
func (h *Hosts) target(name string, g field.Ground) (*secureshell.Target, error) {
	settings, err := secureshell.Configuration()
	if err != nil {
		return nil, err
	}
	return settings.Resolve(name, g, []string{h.Known})
}

// Brought is a public key that was brought to a host.
type Brought struct {
	Host   string // USER@HOST
	Public string // as files of keys write it
	At     time.Time
}

// TakeKeysBack takes keys away from hosts that were brought there, and gives what came of each. A host to which none was brought is left as it is.
func (h *Hosts) TakeKeysBack(ctx context.Context, wants []ground.Want) []error {
	return each(wants, func(w ground.Want) error {
		var b Brought
		if !h.Brought.Read(w.Node.Name, &b) {
			return nil
		}
		t, err := h.target(cmp.Or(w.Node.Ground.Host, w.Address), w.Node.Ground)
		if err == nil {
			var c *secureshell.Conn
			if c, err = secureshell.Dial(ctx, t, false); err == nil {
				err = c.TakeKeyBack(ctx, b.Public)
				c.Close()
			}
		}
		if err != nil {
			return fmt.Errorf("%s: the key that was brought to %s is still there: %w", w.Node.Name, b.Host, err)
		}
		h.Brought.Forget(w.Node.Name)
		return nil
	})
}

// BringKey brings the key that hosts are logged in to with to each of them, by a password; it gives what came of each.
func (h *Hosts) BringKey(ctx context.Context, wants []ground.Want, password string) []error {
	return each(wants, func(w ground.Want) error {
		t, err := h.target(cmp.Or(w.Node.Ground.Host, w.Address), w.Node.Ground)
		added := ""
		if err == nil {
			added, err = secureshell.BringKey(ctx, t, password)
		}
		if added != "" {
			err = errors.Join(err, h.Brought.Write(w.Node.Name, Brought{t.String(), added, time.Now().UTC()}))
		}
		if err != nil {
			return fmt.Errorf("%s: %w", w.Node.Name, err)
		}
		return nil
	})
}

// drop closes the connection to a host.
func (h *Hosts) drop(at state.Binding) {
	name := at.Ground.Host
	if name == "" {
		name = at.Address
	}
	h.mu.Lock()
	s := h.conns[fmt.Sprintf("%s %+v", name, at.Ground)]
	h.mu.Unlock()
	if s != nil {
		s.close()
	}
}

func (s *shared) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.conn != nil {
		s.conn.Close()
		s.conn = nil
	}
}

// closeAll closes all connections; who needs one opens it again.
func (h *Hosts) closeAll() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for key, s := range h.conns {
		s.close()
		delete(h.conns, key)
	}
}

// client gives a client of an agent that answers at that URL.
func (h *Hosts) client(node field.NodeName, at state.Binding, url string) (*agentapi.Client, error) {
	if !at.Ground.Tunnelled() {
		return h.Client(node, url, nil)
	}
	return h.Client(node, url, func(ctx context.Context, network, address string) (net.Conn, error) {
		c, err := h.connect(ctx, at.Address, at.Ground)
		if err != nil {
			return nil, err
		}
		return c.DialContext(ctx, network, address)
	})
}

// Ensure gives a client of the node's agent. Where none answers, the host is asked by SSH: an agent that does not run is started, one that is of another
// release is replaced; its members go on.
func (h *Hosts) Ensure(ctx context.Context, node field.NodeName, at state.Binding) (agentapi.Agent, error) {
	if h.Authority == nil {
		c, err := h.Find(ctx, node, at)
		if err != nil {
			return nil, errors.Join(errSealed, err)
		}
		return c, nil
	}
	var unheard error
	if url := h.noted(node); url != "" {
		c, err := h.client(node, at, url)
		if err != nil {
			return nil, err
		}
		standing, err := ground.Shows(ctx, c)
		if err == nil && (h.releases.Newest(node, standing) || standing.Speaks > order.Speaks) {
			return ground.Spoken(c, standing)
		}
		c.Close()
		if unheard = err; ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
	conn, err := h.connect(ctx, at.Address, at.Ground)
	if err != nil {
		if unheard != nil {
			return nil, fmt.Errorf("%w, and the host cannot be logged in to: %w", unheard, err)
		}
		return nil, err
	}
	s, err := look(ctx, conn, folderOf(at), h.Field, node)
	if err != nil {
		return nil, err
	}
	url := s.end.URL
	if !s.lives || !s.current() || errors.Is(unheard, agentapi.ErrUntrusted) {
		return h.startAnew(ctx, conn, s, node, at)
	}
	c, err := h.meet(ctx, node, at, url)
	if errors.Is(err, agentapi.ErrUntrusted) { // its certificate has ended, or it is somebody else's, which is found out there
		return h.startAnew(ctx, conn, s, node, at)
	}
	return c, err
}

// startAnew brings the agent's program to a host where that is another, and has it run.
func (h *Hosts) startAnew(ctx context.Context, conn *secureshell.Conn, s *survey, node field.NodeName, at state.Binding) (agentapi.Agent, error) {
	if err := h.bring(ctx, conn, s, at.Dir); err != nil {
		return nil, err
	}
	url, err := h.start(ctx, conn, node, at)
	if err != nil {
		return nil, err
	}
	return h.meet(ctx, node, at, url)
}

// meet has an agent that is known to run, as it is carried, show itself.
func (h *Hosts) meet(ctx context.Context, node field.NodeName, at state.Binding, url string) (agentapi.Agent, error) {
	if err := h.note(node, url); err != nil {
		return nil, err
	}
	c, err := h.client(node, at, url)
	if err != nil {
		return nil, err
	}
	standing, err := ground.Shows(ctx, c)
	switch {
	case err == nil:
		return ground.Spoken(c, standing)
	case errors.Is(err, agentapi.ErrUntrusted):
		c.Close()
		return nil, err
	}
	c.Close()
	return nil, fmt.Errorf("its agent runs on the host, and does not answer at %s from here: %w; is a firewall in between? Open that port, or say `reach: tunnel`", url, err)
}

// noted is where an agent answered last; empty where that is not known.
func (h *Hosts) noted(node field.NodeName) string {
	var at struct{ URL string }
	h.Cache.Read(node, &at)
	return at.URL
}

// note writes down where an agent answers.
func (h *Hosts) note(node field.NodeName, url string) error {
	if h.noted(node) == url {
		return nil
	}
	return h.Cache.Write(node, struct{ URL string }{url})
}

// forget forgets where an agent answers.
func (h *Hosts) forget(node field.NodeName) { h.Cache.Forget(node) }
