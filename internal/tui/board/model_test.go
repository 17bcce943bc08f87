package board

import (
	"testing"
	"time"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
)

var noon = time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC)

func draft() *field.Field {
	f := &field.Field{Name: "saltmarsh", Nodes: []field.Node{{Name: "gull-1", Zone: "a", Size: field.Size{CPU: 2}}, {Name: "tern-1", Zone: "b"}, {Name: "gull-2", Zone: "a"}},
		Roles: []field.Role{{Name: "crews", Members: 2, After: map[field.RoleName]field.Gate{"wardens": "all"}, Program: &field.Program{Command: []string{"x"}}, Room: field.Size{CPU: 0.5}},
			{Name: "wardens", Members: 1, Program: &field.Program{Command: []string{"x"}}}}}
	field.FillDefaults(f)
	return f
}

func review(t *testing.T, f *field.Field) *plan.Review {
	t.Helper()
	r, err := engine.Review(engine.NewState(), f)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func TestADraftStandsOnTheBoardBeforeItIsDeployed(t *testing.T) {
	f := draft()
	m := Build(&engine.Snapshot{State: engine.StateDraft, At: noon}, f, review(t, f))
	if len(m.Zones) != 2 || len(m.Zones[0].Nodes) != 2 || m.Zones[0].Nodes[1].Node != "gull-2" {
		t.Errorf("zones: %+v", m.Zones)
	}
	if len(m.Roles) != 2 || m.Roles[0].Role != "wardens" || m.Roles[1].Role != "crews" {
		t.Errorf("roles are not in the order of deployment: %+v", m.Roles)
	}
	if m.Added != 3 || m.Removed != 0 || !allUnsent(m.Roles[1].Members) {
		t.Errorf("+%d -%d %+v", m.Added, m.Removed, m.Roles[1].Members)
	}
	used := 0.0
	for _, n := range m.Nodes() {
		used += n.Used.CPU
	}
	if used != 1 {
		t.Errorf("the nodes keep %g cores free for two crews, want 1", used)
	}
}

func TestUnsentChangesLieOverTheLiveField(t *testing.T) {
	f := draft()
	live := engine.SnapDraft(f, noon)
	live.State = engine.StateConverged
	live.Members = []engine.MemberView{{Member: "wardens-1", Role: "wardens", Node: "gull-1", Phase: engine.Ready}, {Member: "crews-1", Role: "crews", Node: "gull-1", Phase: engine.Ready}}
	next := draft()
	next.Nodes = append(next.Nodes, field.Node{Name: "puffin-1", Zone: "c"})
	next.Roles = append(next.Roles, field.Role{Name: "lookout", Kind: field.Monitor, Members: 1, Program: &field.Program{Command: []string{"x"}}})
	r := &plan.Review{Steps: []plan.Step{{Kind: plan.Start, Member: "lookout-1", Role: "lookout", Node: "puffin-1"},
		{Kind: plan.Take, Member: "crews-1", Role: "crews"}, {Kind: plan.Change, Member: "wardens-1"}, {Kind: plan.Start, Member: "crews-1", Role: "crews"}}}
	m := Build(live, next, r)
	if m.Added != 1 || m.Removed != 1 || m.Changed != 1 {
		t.Errorf("+%d -%d ~%d", m.Added, m.Removed, m.Changed)
	}
	found := map[field.MemberName]Member{}
	for _, role := range m.Roles {
		for _, x := range role.Members {
			found[x.Member] = x
		}
	}
	if !found["crews-1"].Removal || !found["lookout-1"].Unsent || found["wardens-1"].Removal || found["wardens-1"].Unsent || len(found) != 3 {
		t.Errorf("%+v", found)
	}
	if nodes := m.Nodes(); nodes[len(nodes)-1].Node != "puffin-1" {
		t.Errorf("the new node is missing: %+v", nodes)
	}
	if len(live.Members) != 2 || len(live.Nodes) != 3 {
		t.Error("drawing changed the snapshot")
	}
}

func TestTheCursorWalksOverLanternsThenPosts(t *testing.T) {
	m := &Model{Zones: []Zone{{Nodes: []engine.NodeView{{Node: "a"}, {Node: "b"}}}}, Roles: []Role{{}, {}}}
	for _, name := range []field.MemberName{"x-1", "x-2"} {
		m.Roles[0].Members = append(m.Roles[0].Members, Member{MemberView: engine.MemberView{Member: name, Node: "a"}})
	}
	c := Cursor{Role: 0, Node: -1}
	for i, step := range []struct {
		dx, dy int
		want   Cursor
	}{
		{1, 0, Cursor{0, 0, 0}}, {1, 0, Cursor{0, 0, 1}}, {1, 0, Cursor{0, 1, 0}}, {1, 0, Cursor{0, 1, 0}},
		{-1, 0, Cursor{0, 0, 1}}, {0, 1, Cursor{1, 0, 0}}, {0, 1, Cursor{1, 0, 0}}, {0, -1, Cursor{0, 0, 0}}, {0, -1, Cursor{-1, 0, 0}},
		{-1, 0, Cursor{0, -1, 0}}, // there is no corner: the role is what stands there
	} {
		if c = m.Move(c, step.dx, step.dy); c != step.want {
			t.Fatalf("step %d: at %+v, want %+v", i, c, step.want)
		}
	}
	empty := &Model{}
	if c := empty.Move(Cursor{5, 5, 5}, 1, 1); c.Role > 0 || c.Node > 0 {
		t.Errorf("on an empty board: %+v", c)
	}
}

func TestTheMostUrgentLanternSpeaksForMany(t *testing.T) {
	order := []engine.Phase{engine.Ready, engine.Planned, engine.Starting, engine.Unknown, engine.Failed}
	for i := 1; i < len(order); i++ {
		a, b := Member{MemberView: engine.MemberView{Phase: order[i-1]}}, Member{MemberView: engine.MemberView{Phase: order[i]}}
		if urgency(a) >= urgency(b) {
			t.Errorf("%s is not less urgent than %s", order[i-1], order[i])
		}
	}
}
