package control

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"
	"lanternfield/internal/eventlog/memory"
	"lanternfield/internal/ground"
	"lanternfield/internal/keyring"
)

// paper is a ground that is made of nothing: its nodes are entries in a map, and its agents answer that all that is ordered has come true. It is
// what somebody writes who adds a kind of ground: nothing but this file knows of it.
type paper struct {
	mu    sync.Mutex
	nodes map[field.NodeName]*paperAgent
	freed int

	refuses   field.NodeName
	late      map[field.NodeName]chan struct{} // given when it is closed
	failing   map[field.NodeName]string
	asked     map[field.NodeName]int
	withdrawn []field.NodeName
}

func (g *paper) Check(_ context.Context, wants []ground.Want, _ ground.Bindings) error {
	for _, w := range wants {
		if g.refuses == w.Node.Name {
			return errors.New("the mill makes no " + string(w.Node.Name))
		}
	}
	return nil
}

func (g *paper) Give(ctx context.Context, w ground.Want, have ground.Bindings) (state.Binding, error) {
	g.mu.Lock()
	late, failing := g.late[w.Node.Name], g.failing[w.Node.Name]
	g.asked[w.Node.Name]++
	g.mu.Unlock()
	if late != nil {
		select {
		case <-late:
		case <-ctx.Done():
			g.mu.Lock()
			g.withdrawn = append(g.withdrawn, w.Node.Name)
			g.mu.Unlock()
			return state.Binding{}, ctx.Err()
		}
	}
	if failing != "" {
		return state.Binding{}, errors.New(failing)
	}
	return state.Binding{ID: fmt.Sprintf("sheet-%s-%d", w.Node.Name, w.Times), Address: "192.0.2." + string(w.Node.Name[len(w.Node.Name)-1]), Dir: "/paper/" + string(w.Node.Name)}, nil
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

func (g *paper) Release(_ context.Context, node field.NodeName, at state.Binding) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if at.Address == "" {
		return nil
	}
	delete(g.nodes, node)
	g.freed++
	return nil
}

func (g *paper) Abandon(context.Context, field.NodeName, state.Binding) error { return nil }
func (g *paper) Found(context.Context) ground.Bindings                        { return nil }
func (g *paper) Left(context.Context, ground.Bindings, []ground.Made) []string {
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
func (a *paperAgent) Search(context.Context, agentapi.Search) (*agentapi.Found, error) {
	return &agentapi.Found{}, nil
}

func (a *paperAgent) Samples(context.Context, time.Time) (agentapi.Samples, error) {
	return agentapi.Samples{}, nil
}
func (a *paperAgent) Inspect(context.Context) (io.ReadWriteCloser, error) {
	return nil, errors.ErrUnsupported
}
func (a *paperAgent) Lookups(context.Context, []order.Lookup) ([]string, error) { return nil, nil }
func (a *paperAgent) Account(context.Context) ([]string, error)                 { return nil, nil }
func (a *paperAgent) Copy(context.Context, []byte) error                        { return nil }
func (a *paperAgent) Quit(context.Context) error                                { return nil }
func (a *paperAgent) Close()                                                    {}
func (a *paperAgent) Ask(context.Context, field.MemberName, order.Question) (order.Said, error) {
	return order.Said{OK: true}, nil
}
func (a *paperAgent) Visit(context.Context, field.MemberName, agentapi.Visit) (*agentapi.Frames, error) {
	return nil, errors.New("nobody is at home")
}
func (a *paperAgent) Log(context.Context, field.MemberName, int64, int) (*agentapi.Log, error) {
	return &agentapi.Log{}, nil
}

func newPaper() *paper {
	return &paper{nodes: map[field.NodeName]*paperAgent{}, late: map[field.NodeName]chan struct{}{}, failing: map[field.NodeName]string{}, asked: map[field.NodeName]int{}}
}

func onPaper(t *testing.T) (*paper, *Controller) {
	t.Helper()
	g := newPaper()
	f := folder(t)
	f.Grounds = func(*ground.Local) ground.Several { return ground.Several{"paper": g} }
	c, err := Hold(context.Background(), f, "test")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = c.Close() })
	return g, c
}

// papers is a field of which all nodes are made of paper.
func papers(members int) *field.Field {
	f := sleepers(members)
	f.Ground.Kind = "paper"
	return f
}

// TestAKindOfGroundIsAddedInOnePlace carries a field through its life on a ground that nothing else knows of.
func TestAKindOfGroundIsAddedInOnePlace(t *testing.T) {
	g, c := onPaper(t)
	ctx := context.Background()
	for _, members := range []int{4, 2} {
		if err := c.Do(ctx, Request{What: "deploy", Draft: papers(members), By: "test"}); err != nil {
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
	if err := c.Do(ctx, Request{What: "deploy", Draft: papers(2), By: "test"}); err != nil {
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

// until waits for the ground to be as it should be.
func (g *paper) until(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(2 * time.Millisecond) {
		g.mu.Lock()
		done := holds()
		g.mu.Unlock()
		if done {
			return
		}
	}
	t.Fatalf("never %s", what)
}

// among is the member of a snapshot.
func among(t *testing.T, s *snapshot.Snapshot, name field.MemberName) snapshot.MemberView {
	t.Helper()
	for _, m := range s.Members {
		if m.Member == name {
			return m
		}
	}
	t.Fatalf("there is no %s", name)
	return snapshot.MemberView{}
}

// TestAGroundMayAnswerLate has one node come late: what waits for it says so, a controller that dies meanwhile asks again, and it is one node.
func TestAGroundMayAnswerLate(t *testing.T) {
	g := newPaper()
	f := folder(t)
	f.Grounds = func(*ground.Local) ground.Several { return ground.Several{"paper": g} }
	late := make(chan struct{})
	g.late["tern-1"] = late
	ctx := context.Background()
	c, err := Hold(ctx, f, "test")
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Do(ctx, Request{What: "deploy", Draft: papers(2), By: "test"}); err != nil {
		t.Fatal(err)
	}
	s := await(t, c, "asked for", func(s *snapshot.Snapshot) bool {
		return len(s.Nodes) == 2 && s.Nodes[0].Address != "" && s.Nodes[1].Asked
	})
	if m := among(t, s, "crews-1"); m.WaitsFor != "tern-1 to be there" || !strings.Contains(s.Verdict, "tern-1 is asked for") {
		t.Errorf("crews-1 waits for %q: %s", m.WaitsFor, s.Verdict)
	}
	if err := c.Close(); err != nil {
		t.Fatal(err)
	}
	if c, err = Hold(ctx, f, "test"); err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	g.until(t, "asked for again", func() bool { return g.asked["tern-1"] == 2 })
	close(late)
	s = await(t, c, "converged", in(snapshot.Converged))
	if n := s.Nodes[1]; n.ID != "sheet-tern-1-1" || n.Ground != "paper" {
		t.Errorf("tern-1 is %q of the ground %q", n.ID, n.Ground)
	}
}

// TestANodeThatCannotBeHad says why, is asked for again, and is withdrawn when nobody wants it any more.
func TestANodeThatCannotBeHad(t *testing.T) { synctest.Test(t, testANodeThatCannotBeHad) }

func testANodeThatCannotBeHad(t *testing.T) {
	g, ctx := newPaper(), context.Background()
	c, err := begin(Folder{Dir: t.TempDir()}, parts{ground: ground.Several{"paper": g}, log: &memory.Log{}, state: state.NewState(), marks: noMarks{}, ring: keyring.InMemory(keyring.Content{}), letGo: func() error { return nil }, closed: true}, "a rehearsal")
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	g.refuses = "tern-1"
	if err := c.Do(ctx, Request{What: "deploy", Draft: papers(2), By: "test"}); err == nil || !strings.Contains(err.Error(), "the mill makes no tern-1") {
		t.Fatalf("what is known at once was not said at once: %v", err)
	}
	g.refuses, g.failing["tern-1"] = "", "the mill is on strike"
	if err := c.Do(ctx, Request{What: "deploy", Draft: papers(2), By: "test"}); err != nil {
		t.Fatal(err)
	}
	await(t, c, "said", func(s *snapshot.Snapshot) bool {
		return strings.Contains(s.Verdict, "tern-1 cannot be had: the mill is on strike")
	})
	g.until(t, "asked for again", func() bool { return g.asked["tern-1"] > 1 })
	g.mu.Lock()
	g.failing["tern-1"], g.late["tern-1"] = "", make(chan struct{}) // and now it takes for ever
	g.mu.Unlock()
	g.until(t, "asked for once more", func() bool { return g.asked["tern-1"] > 2 })
	without := papers(1)
	without.Nodes = without.Nodes[:1]
	if err := c.Do(ctx, Request{What: "deploy", Draft: without, By: "test"}); err != nil {
		t.Fatal(err)
	}
	await(t, c, "converged", in(snapshot.Converged))
	g.mu.Lock()
	defer g.mu.Unlock()
	if !slices.Equal(g.withdrawn, []field.NodeName{"tern-1"}) || g.freed != 0 {
		t.Errorf("withdrawn %v, freed %d", g.withdrawn, g.freed)
	}
}

// TestTwoKindsOfGroundInOneField has one node on this machine and one of paper.
func TestTwoKindsOfGroundInOneField(t *testing.T) {
	g := newPaper()
	f := folder(t)
	local := f.Grounds
	f.Grounds = func(l *ground.Local) ground.Several {
		all := local(l)
		all["paper"] = g
		return all
	}
	c, err := Hold(context.Background(), f, "test")
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	ctx := context.Background()
	draft := sleepers(2)
	draft.Nodes[1].Ground.Kind = "paper"
	if err := c.Do(ctx, Request{What: "deploy", Draft: draft, By: "test"}); err != nil {
		t.Fatal(err)
	}
	s := await(t, c, "converged", in(snapshot.Converged))
	if s.Nodes[0].Ground != "local" || !strings.HasPrefix(s.Nodes[0].Address, "127.") || s.Nodes[1].Ground != "paper" || s.Nodes[1].Address != "192.0.2.1" {
		t.Errorf("the nodes are %+v", s.Nodes)
	}
	other := sleepers(2)
	if err := c.Do(ctx, Request{What: "deploy", Draft: other, By: "test"}); err == nil || !strings.Contains(err.Error(), "tern-1 comes from the paper ground, and the draft has it come from the local ground") {
		t.Errorf("a node that changes its ground: %v", err)
	}
	nowhere := sleepers(3)
	nowhere.Nodes = append(nowhere.Nodes, field.Node{Name: "skua-1", Zone: "c", Ground: field.Ground{Kind: "cloud"}})
	nowhere.Nodes[1].Ground.Kind = "paper"
	if err := c.Do(ctx, Request{What: "deploy", Draft: nowhere, By: "test"}); err == nil || !strings.Contains(err.Error(), `skua-1 cannot be had: there is no ground of the kind "cloud" here; there is local, paper`) {
		t.Errorf("a ground that is not there: %v", err)
	}
	if err := c.Do(ctx, Request{What: "retire", By: "test"}); err != nil {
		t.Fatal(err)
	}
	await(t, c, "retired", func(s *snapshot.Snapshot) bool { return s.State == snapshot.Retired })
	if g.freed != 1 {
		t.Errorf("%d sheets were freed", g.freed)
	}
}
