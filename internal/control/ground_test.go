package control

import (
	"context"
	"errors"
	"sync"
	"testing"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground"
)

// paper is a ground that is made of nothing: its nodes are entries in a map, and its agents answer that all that is ordered has come true. It is
// what somebody writes who adds a kind of ground: nothing but this file knows of it.
type paper struct {
	mu    sync.Mutex
	nodes map[field.NodeName]*paperAgent
	freed int
}

func (g *paper) Bind(_ context.Context, draft *field.Field, bound map[field.NodeName]state.Binding) (map[field.NodeName]state.Binding, error) {
	out := map[field.NodeName]state.Binding{}
	for _, n := range draft.Possible() {
		if out[n.Name] = (state.Binding{Address: "192.0.2." + string(n.Name[len(n.Name)-1]), Dir: "/paper/" + string(n.Name)}); bound[n.Name].Address != "" {
			out[n.Name] = bound[n.Name]
		}
	}
	return out, nil
}

func (g *paper) Ensure(_ context.Context, node field.NodeName, _ state.Binding) (agentapi.Agent, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.nodes[node] == nil {
		g.nodes[node] = &paperAgent{wake: make(chan struct{})}
	}
	return g.nodes[node], nil
}

func (g *paper) Find(_ context.Context, node field.NodeName, _ state.Binding) (agentapi.Agent, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if a := g.nodes[node]; a != nil {
		return a, nil
	}
	return nil, errors.New("there is no such sheet")
}

func (g *paper) Release(_ context.Context, node field.NodeName, _ state.Binding) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.nodes, node)
	g.freed++
	return nil
}

func (g *paper) Abandon(context.Context, field.NodeName, state.Binding) error { return nil }
func (g *paper) Found(context.Context) map[field.NodeName]state.Binding {
	return map[field.NodeName]state.Binding{}
}
func (g *paper) Left(context.Context, map[field.NodeName]state.Binding, []ground.Made) []string {
	return nil
}
func (g *paper) SetAside(context.Context, field.NodeName, state.Binding) (string, error) {
	return "", nil
}

// paperAgent says of every order that it has come true.
type paperAgent struct {
	mu      sync.Mutex
	reports []order.Report
	wake    chan struct{}
}

func (a *paperAgent) Standing(context.Context) (order.Standing, error) {
	return order.Standing{Agent: "paper", Life: "one"}, nil
}
func (a *paperAgent) Claim(context.Context, order.Claim) error { return nil }

func (a *paperAgent) Put(_ context.Context, o order.Order) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	kinds := map[order.Want][]order.ReportKind{order.Run: {order.Taken, order.Started, order.Ready}, order.Stop: {order.Taken, order.Stopped}, order.Gone: {order.Taken, order.Removed}}
	for _, kind := range kinds[o.Want] {
		a.reports = append(a.reports, order.Report{Life: "one", Seq: uint64(len(a.reports)) + 1, At: time.Now().UTC(), Member: o.Member, Kind: kind, Revision: o.Revision, Incarnation: 1, PID: 1})
	}
	close(a.wake)
	a.wake = make(chan struct{})
	return nil
}

func (a *paperAgent) Reports(ctx context.Context, _ string, after, _ uint64, wait time.Duration) (*agentapi.News, error) {
	for patience := time.After(wait); ; {
		a.mu.Lock()
		news, woken := a.reports[min(after, uint64(len(a.reports))):], a.wake
		a.mu.Unlock()
		if len(news) > 0 {
			return &agentapi.News{Agent: "paper", Reports: news}, nil
		}
		select {
		case <-woken:
		case <-patience:
			return &agentapi.News{Agent: "paper"}, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

func (a *paperAgent) Operate(context.Context, order.Operation) error             { return nil }
func (a *paperAgent) Series(context.Context, time.Time) (agentapi.Series, error) { return nil, nil }
func (a *paperAgent) Lookups(context.Context, []order.Lookup) ([]string, error)  { return nil, nil }
func (a *paperAgent) Account(context.Context) ([]string, error)                  { return nil, nil }
func (a *paperAgent) Quit(context.Context) error                                 { return nil }
func (a *paperAgent) Close()                                                     {}
func (a *paperAgent) Log(context.Context, field.MemberName, int64, int) (*agentapi.Log, error) {
	return &agentapi.Log{}, nil
}

func onPaper(t *testing.T) (*paper, *Controller) {
	t.Helper()
	g := &paper{nodes: map[field.NodeName]*paperAgent{}}
	f := folder(t)
	f.Ground = func(*ground.Local) ground.Ground { return g }
	c, err := Hold(context.Background(), f, "test")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = c.Close() })
	return g, c
}

// TestAKindOfGroundIsAddedInOnePlace carries a field through its life on a ground that nothing else knows of.
func TestAKindOfGroundIsAddedInOnePlace(t *testing.T) {
	g, c := onPaper(t)
	ctx := context.Background()
	for _, members := range []int{4, 2} {
		if err := c.Do(ctx, Request{What: "deploy", Draft: sleepers(members), By: "test"}); err != nil {
			t.Fatal(err)
		}
		s := await(t, c, "converged", func(s *snapshot.Snapshot) bool { return in(snapshot.Converged)(s) && len(s.Members) == members })
		if s.Members[0].Address != "192.0.2.1" {
			t.Errorf("%s has the address %s, not that of its ground", s.Members[0].Member, s.Members[0].Address)
		}
	}
	if err := c.Do(ctx, Request{What: "retire", By: "test"}); err != nil {
		t.Fatal(err)
	}
	await(t, c, "retired", func(s *snapshot.Snapshot) bool { return s.State == snapshot.Retired })
	if len(g.nodes) != 0 || g.freed != 2 {
		t.Errorf("%d nodes are left, %d were freed", len(g.nodes), g.freed)
	}
}

// TestANodeThatIsFreedAndTakenBackHasADriver frees a node and takes it back in one batch: what is ordered there comes true.
func TestANodeThatIsFreedAndTakenBackHasADriver(t *testing.T) {
	_, c := onPaper(t)
	ctx := context.Background()
	if err := c.Do(ctx, Request{What: "deploy", Draft: sleepers(2), By: "test"}); err != nil {
		t.Fatal(err)
	}
	await(t, c, "converged", in(snapshot.Converged))
	// As dispatch finds it when both came in one batch: the node is there, and bound another time; the driver of before has ended.
	c.mu.Lock()
	before := c.driving["gull-1"]
	n := *c.state.Nodes["gull-1"]
	n.Bound++
	c.state.Nodes["gull-1"] = &n
	c.mu.Unlock()
	c.dispatch(c.life)
	c.mu.Lock()
	after, other := c.driving["gull-1"], c.driving["tern-1"]
	c.mu.Unlock()
	if after == before || after.bound != n.Bound {
		t.Error("the node is left with the driver of a node that was freed")
	}
	if other == nil || other.bound != 1 {
		t.Error("the other node has another driver")
	}
}
