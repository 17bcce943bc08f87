package control

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/filter"
	"lanternfield/internal/core/machine"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/inspect"
)

// How often packet filters are looked after where nothing has changed, how long rules may wait to be confirmed, and when those that were taken back are tried again.
const (
	filterLook    = 5 * time.Second
	filterPause   = 300 * time.Millisecond
	filterConfirm = 15 * time.Second
	filterAgain   = 30 * time.Second
	filterSoon    = 3 * time.Second // those that could not be reached
	filterAsk     = 5 * time.Second
)

// filterer is an agent whose machine's packet filter can be told whom to let in.
type filterer interface {
	Standing(ctx context.Context) (order.Standing, error)
	SetRules(ctx context.Context, r filter.Rules, within time.Duration) error
	ConfirmRules(ctx context.Context, digest string) error
	DropRules(ctx context.Context) error
}

var _ filterer = (*agentapi.Client)(nil)

// filtering keeps the packet filters of machines as the topology wants them, where that is asked for.
func (c *Controller) filtering(ctx context.Context) {
	refused := map[field.NodeName]time.Time{}
	seen := ""
	for ctx.Err() == nil {
		changed := c.Changed()
		if now := c.filterStamp(); c.sealed == nil && (now != seen || len(refused) > 0) {
			seen = now
			c.filterRound(ctx, refused)
		}
		select {
		case <-ctx.Done():
			return
		case <-changed:
		case <-time.After(filterLook):
		}
		select { // changes come together
		case <-ctx.Done():
			return
		case <-time.After(filterPause):
		}
	}
}

// filterStamp is another one whenever rules may be others.
func (c *Controller) filterStamp() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := c.state
	if s.Field == nil || s.Retired {
		return ""
	}
	var b strings.Builder
	fmt.Fprint(&b, s.Field.Rules, s.Retiring, s.Drafts, s.Shape, s.Census)
	for _, n := range state.SortedNodes(s) {
		fmt.Fprint(&b, n.Name, n.Rules, n.Address, n.Unreachable, n.Unheard, n.Released, n.Heard > 0)
	}
	return b.String()
}

// rulesDue are the rules that machines are to have and do not; empty ones of those that are to have none.
func rulesDue(s *state.State, refused map[field.NodeName]time.Time) (map[field.NodeName]filter.Rules, *review.Needs) {
	if !s.Deployed() || s.Retiring {
		return nil, nil
	}
	managed, any := s.Field.Rules == field.RulesManaged, false
	for _, n := range s.Nodes {
		any = any || n.Rules != ""
	}
	if !managed && !any {
		return nil, nil
	}
	needs, err := review.NeedsOf(s, s.Field)
	if err != nil {
		return nil, nil // what cannot be rendered is said elsewhere
	}
	due := map[field.NodeName]filter.Rules{}
	for node, r := range review.RulesOf(s.Field.Name, needs) {
		n, declared := s.Nodes[node], s.Field.Node(node)
		if n == nil || declared == nil || n.Released || n.Releasing || !n.There() || n.Unreachable || n.Unheard || n.Heard == 0 || !kind.Machines(s.Field.GroundOf(declared)) || time.Since(refused[node]) < filterAgain {
			continue
		}
		if !managed {
			r.Ports = nil
		}
		if want := digestOf(r); want != n.Rules {
			due[node] = r
		}
	}
	return due, needs
}

// digestOf is the digest of rules; empty where they restrict nothing.
func digestOf(r filter.Rules) string {
	if len(r.Ports) == 0 {
		return ""
	}
	return r.Digest()
}

// filterRound has machines take their rules, zone by zone: where one zone does not come through, the others are left as they are.
func (c *Controller) filterRound(ctx context.Context, refused map[field.NodeName]time.Time) {
	s := c.current()
	due, needs := rulesDue(s, refused)
	c.filterDue.Store(len(due) > 0)
	if len(due) == 0 {
		return
	}
	for _, zone := range s.Field.Zones() {
		var nodes []field.NodeName
		for node := range due {
			if s.Field.Node(node).Zone == zone {
				nodes = append(nodes, node)
			}
		}
		slices.Sort(nodes)
		for _, node := range nodes {
			delete(refused, node)
		}
		failed := c.filterZone(ctx, s, nodes, due, needs)
		for node, err := range failed {
			refused[node] = time.Now()
			var refusal *agentapi.Refused
			if unreached := new(unreachedError); errors.As(err, &unreached) && !errors.As(err, &refusal) {
				refused[node] = time.Now().Add(filterSoon - filterAgain) // nothing was changed there
				continue
			}
			_ = c.submit(ctx, input{in: engine.RefuseRules{Node: node, Why: err.Error()}})
		}
		if len(failed) > 0 || ctx.Err() != nil {
			return
		}
	}
}

// filterZone has the machines of a zone take their rules, and confirms them when the agents answer over new connections, and those who call members there still reach them.
func (c *Controller) filterZone(ctx context.Context, s *state.State, nodes []field.NodeName, due map[field.NodeName]filter.Rules, needs *review.Needs) map[field.NodeName]error {
	var mu sync.Mutex
	failed := map[field.NodeName]error{}
	each := func(do func(field.NodeName) error) {
		var working sync.WaitGroup
		for _, node := range nodes {
			mu.Lock()
			_, not := failed[node]
			mu.Unlock()
			if not {
				continue
			}
			working.Go(func() {
				if err := do(node); err != nil {
					mu.Lock()
					failed[node] = err
					mu.Unlock()
				}
			})
		}
		working.Wait()
	}
	each(func(node field.NodeName) error {
		if err := c.tellFilter(ctx, s, node, due[node]); err != nil {
			return &unreachedError{err}
		}
		return nil
	})
	each(func(node field.NodeName) error {
		if len(due[node].Ports) == 0 {
			return nil
		}
		if err := c.reachesMembers(ctx, s, node, needs); err != nil {
			return err
		}
		return c.withFilterer(ctx, s, node, func(ctx context.Context, f filterer) error { // a new connection
			now, err := f.Standing(ctx)
			if err != nil || now.Rules == due[node].Digest() {
				return err
			}
			return f.ConfirmRules(ctx, due[node].Digest())
		})
	})
	each(func(node field.NodeName) error {
		return c.submit(ctx, input{in: engine.KeepRules{Node: node, Digest: digestOf(due[node]), Ports: len(due[node].Ports)}})
	})
	return failed
}

// unreachedError says that a machine was not told anything.
type unreachedError struct{ error }

func (e *unreachedError) Unwrap() error { return e.error }

// withFilterer asks a node's agent over a connection of its own.
func (c *Controller) withFilterer(ctx context.Context, s *state.State, node field.NodeName, do func(context.Context, filterer) error) error {
	ctx, cancel := context.WithTimeout(ctx, filterAsk)
	defer cancel()
	client, err := c.ground.Find(ctx, node, s.Nodes[node].Binding())
	if err != nil {
		return err
	}
	defer client.Close()
	f, is := client.(filterer)
	if !is {
		return errors.New("its agent keeps no rules")
	}
	return do(ctx, f)
}

// tellFilter gives a machine its rules, which are taken back where they are not confirmed.
func (c *Controller) tellFilter(ctx context.Context, s *state.State, node field.NodeName, r filter.Rules) error {
	return c.withFilterer(ctx, s, node, func(ctx context.Context, f filterer) error {
		if len(r.Ports) == 0 {
			return f.DropRules(ctx)
		}
		now, err := f.Standing(ctx)
		if err != nil {
			return err
		}
		if now.Rules == r.Digest() { // they were confirmed, and it was not noted
			return nil
		}
		return f.SetRules(ctx, r, filterConfirm)
	})
}

// reachesMembers has those machines that call members on a node try whether they still reach them.
func (c *Controller) reachesMembers(ctx context.Context, s *state.State, node field.NodeName, needs *review.Needs) error {
	by := map[field.NodeName][]review.Path{}
	for _, p := range needs.Paths {
		if n := s.Nodes[p.From]; p.To == node && n != nil && n.There() && !n.Unreachable && !n.Released && p.At.Address != "" {
			by[p.From] = append(by[p.From], p)
		}
	}
	for _, from := range slices.Sorted(maps.Keys(by)) {
		if err := c.triesPaths(ctx, s.Nodes[from].Binding(), from, by[from]); err != nil {
			return err
		}
	}
	return nil
}

// triesPaths has a machine connect to members elsewhere. Whoever does not listen is not what is looked for; whoever does not answer is.
func (c *Controller) triesPaths(ctx context.Context, at state.Binding, from field.NodeName, paths []review.Path) error {
	ctx, cancel := context.WithTimeout(ctx, filterAsk)
	defer cancel()
	client, err := c.ground.Find(ctx, from, at)
	if err != nil {
		return nil // who cannot be asked tells nothing
	}
	defer client.Close()
	conn, err := client.Inspect(ctx)
	if err != nil {
		return nil
	}
	ask := inspect.NewClient(conn)
	defer ask.Close()
	r := inspect.Request{}
	for _, p := range paths {
		r.Connect = append(r.Connect, machine.Socket{Address: p.At.Address, Port: p.At.Port})
	}
	a, err := ask.Ask(ctx, r)
	if err != nil {
		return nil
	}
	for i, o := range a.Connect {
		if o.Why != "" && !o.Refused {
			return fmt.Errorf("%s on %s could not reach %s any more at %s:%d: %s", paths[i].Members[0], from, paths[i].Members[1], paths[i].At.Address, paths[i].At.Port, o.Why)
		}
	}
	return nil
}
