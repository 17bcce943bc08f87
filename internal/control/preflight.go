package control

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/filter"
	"lanternfield/internal/core/preflight"
	"lanternfield/internal/core/resolve"
	"lanternfield/internal/core/review"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/inspect"
)

// How many nodes are looked at at the same time, and how long one may take.
const (
	looksAtOnce = 16
	lookWithin  = 45 * time.Second
)

// flight is a preflight that is being made.
type flight struct {
	folder Folder
	state  *state.State
	draft  *field.Field
	ground ground.Ground
	hosts  looker
	all    []review.Path
	told   func(done, of int) // how many nodes have been looked at; may be nil

	mu    sync.Mutex
	count int
	nodes []*looked
}

// looker reaches hosts on which nothing of ours may be yet.
type looker interface {
	Inspect(context.Context, ground.Want) (*inspect.Client, string, error)
	Reach(context.Context, []ground.Want) []error
}

// looked is a node that is looked at.
type looked struct {
	preflight.Node
	declared *field.Node
	needs    review.NodeNeeds
	ask      *inspect.Client // nil where it cannot be asked
	folder   string          // where what is ours lies
}

// Preflight looks at the nodes of a draft for what speaks against its being carried out there. It changes nothing: of hosts on which nothing of ours is, all
// that is brought there for it is gone afterwards. Told is told how many nodes have been looked at; nil for nobody.
func (f Folder) Preflight(ctx context.Context, draft *field.Field, told func(done, of int)) (*preflight.Matrix, error) {
	began := time.Now()
	s, err := readState(f)
	if errors.Is(err, ErrNothing) || err == nil && s.Retired {
		s, err = state.NewState(), nil
	}
	if err != nil {
		return nil, err
	}
	g, err := f.ground(s)
	if err != nil {
		return nil, err
	}
	p, err := f.flight(s, draft, g)
	if err != nil {
		return nil, err
	}
	p.told = told
	m := p.fly(ctx)
	m.Took = time.Since(began)
	f.noteFound(m)
	return m, ctx.Err()
}

// flight prepares a preflight.
func (f Folder) flight(s *state.State, draft *field.Field, g ground.Ground) (*flight, error) {
	draft = resolve.Of(s, draft).Field
	needs, err := review.NeedsOf(s, draft)
	if err != nil {
		return nil, err
	}
	p := &flight{folder: f, state: s, draft: draft, ground: g, all: needs.Paths, hosts: f.bareHosts()}
	if several, is := g.(ground.Several); is {
		if own, is := several[kind.SSH].(looker); is {
			p.hosts = own
		}
	}
	for i := range draft.Nodes {
		n := &draft.Nodes[i]
		p.nodes = append(p.nodes, &looked{Node: preflight.Node{Name: n.Name, Zone: n.Zone, Ground: draft.GroundOf(n), Address: draft.Given(n)}, declared: n, needs: needs.Nodes[i]})
	}
	return p, nil
}

// fly makes it.
func (p *flight) fly(ctx context.Context) *preflight.Matrix {
	defer func() {
		p.each(func(n *looked) {
			if n.ask != nil {
				n.ask.Close()
			}
		})
	}()
	p.each(func(n *looked) { p.look(ctx, n) })
	m := &preflight.Matrix{Paths: p.paths(ctx, p.all)}
	for _, n := range p.nodes {
		n.Complete()
		m.Nodes = append(m.Nodes, n.Node)
	}
	return m
}

// NotReadyError says what speaks against carrying a draft out on hosts.
type NotReadyError struct{ Failures []preflight.Failure }

func (e *NotReadyError) Error() string {
	lines := []string{"hosts are not ready for what would come to them; nothing has been changed:"}
	for _, x := range e.Failures {
		line := fmt.Sprintf("  %s, %s: %s", x.Node, x.Check, x.Why)
		if x.Do != "" {
			line += "; " + x.Do
		}
		lines = append(lines, line)
	}
	return strings.Join(append(lines, "`lanternfield check --nodes` looks at all of them"), "\n")
}

// advisory are checks that are shown and stop nobody.
var advisory = []preflight.Check{preflight.Clock, preflight.Size, preflight.Agent}

// preflown refuses a draft by which members would come to hosts that are not ready for them. A host that was ready once and cannot be reached now is another
// matter: the rest of the field goes on without it.
func (c *Controller) preflown(ctx context.Context, draft *field.Field) error {
	if !slices.ContainsFunc(draft.Nodes, func(n field.Node) bool { return kind.Machines(draft.GroundOf(&n)) }) {
		return nil
	}
	p, err := c.folder.flight(c.current(), draft, c.ground)
	if err != nil {
		return nil // what cannot be rendered is said where the draft is decided on
	}
	p.nodes = slices.DeleteFunc(p.nodes, func(n *looked) bool { return !kind.Machines(n.Ground) })
	if !slices.ContainsFunc(p.nodes, func(n *looked) bool { return len(n.needs.Ports)+len(n.needs.Lookups) > 0 }) {
		return nil
	}
	m := p.fly(ctx)
	if err := ctx.Err(); err != nil {
		return err
	}
	failures := slices.DeleteFunc(m.Failures(), func(x preflight.Failure) bool {
		bound := p.state.Nodes[x.Node]
		known := bound != nil && !bound.Released && bound.There()
		awaited := !known && draft.GroundOf(draft.Node(x.Node)) == kind.Join // it is waited for, as the review says
		return slices.Contains(advisory, x.Check) || awaited || known && slices.Contains(faultChecks, x.Check)
	})
	if len(failures) == 0 {
		return nil
	}
	return &NotReadyError{failures}
}

// each does something with every node, some at once.
func (p *flight) each(do func(*looked)) {
	var working sync.WaitGroup
	places := make(chan struct{}, looksAtOnce)
	for _, n := range p.nodes {
		working.Add(1)
		go func() {
			defer working.Done()
			places <- struct{}{}
			defer func() { <-places }()
			do(n)
			p.mu.Lock()
			defer p.mu.Unlock()
			if p.count++; p.told != nil && p.count <= len(p.nodes) {
				p.told(p.count, len(p.nodes))
			}
		}()
	}
	working.Wait()
}

// Flows lists what passes between machines by a draft, and from clients.
func (f Folder) Flows(draft *field.Field) ([]review.Flow, error) {
	s, err := readState(f)
	if errors.Is(err, ErrNothing) || err == nil && s.Retired {
		s, err = state.NewState(), nil
	}
	if err != nil {
		return nil, err
	}
	return review.FlowsOf(s, resolve.Of(s, draft).Field)
}

// Filters gives the rules of the packet filter of each node, as they would be by a draft.
func (f Folder) Filters(draft *field.Field) (map[field.NodeName]filter.Rules, error) {
	s, err := readState(f)
	if errors.Is(err, ErrNothing) || err == nil && s.Retired {
		s, err = state.NewState(), nil
	}
	if err != nil {
		return nil, err
	}
	needs, err := review.NeedsOf(s, draft)
	if err != nil {
		return nil, err
	}
	return review.RulesOf(draft.Name, needs), nil
}
