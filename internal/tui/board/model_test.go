package board

import (
	"fmt"
	"testing"
	"time"

	"lanternfield/internal/core/review"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"

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

func reviewed(t *testing.T, f *field.Field) *plan.Review {
	t.Helper()
	r, err := review.Of(state.NewState(), f)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func TestADraftStandsOnTheBoardBeforeItIsDeployed(t *testing.T) {
	f := draft()
	m := Build(&snapshot.Snapshot{State: snapshot.Draft, At: noon}, f, reviewed(t, f))
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
	for _, z := range m.Zones {
		for _, n := range z.Nodes {
			used += n.Used.CPU
		}
	}
	if used != 1 {
		t.Errorf("the nodes keep %g cores free for two crews, want 1", used)
	}
}

func TestUnsentChangesLieOverTheLiveField(t *testing.T) {
	f := draft()
	live := snapshot.OfDraft(f, noon)
	live.State = snapshot.Converged
	live.Members = []snapshot.MemberView{{Member: "wardens-1", Role: "wardens", Node: "gull-1", Phase: state.Ready}, {Member: "crews-1", Role: "crews", Node: "gull-1", Phase: state.Ready}}
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
	if last := m.Zones[len(m.Zones)-1].Nodes; last[0].Node != "puffin-1" {
		t.Errorf("the new node is missing: %+v", m.Zones)
	}
	if len(live.Members) != 2 || len(live.Nodes) != 3 {
		t.Error("drawing changed the snapshot")
	}
}

// grove is a model of zones a, b, … with that many nodes each, and roles whose members stand on the nodes named.
func grove(zones []int, roles ...[]string) *Model {
	snap := &snapshot.Snapshot{State: snapshot.Converged, At: noon}
	for z, n := range zones {
		for i := range n {
			zone := string(rune('a' + z))
			snap.Nodes = append(snap.Nodes, snapshot.NodeView{Node: field.NodeName(fmt.Sprintf("%s-%d", zone, i+1)), Zone: field.ZoneName(zone)})
		}
	}
	for r, nodes := range roles {
		role := field.RoleName(rune('r' + r))
		snap.Roles = append(snap.Roles, snapshot.RoleView{Role: role, Want: len(nodes), Ready: len(nodes)})
		for i, n := range nodes {
			snap.Members = append(snap.Members, snapshot.MemberView{Member: role.Member(i + 1), Role: role, Node: field.NodeName(n), Phase: state.Ready})
		}
	}
	return Build(snap, nil, nil)
}

func TestTheCursorWalksOverLanternsThenPosts(t *testing.T) {
	m := grove([]int{1, 1}, []string{"a-1", "a-1"}, nil)
	m.Fit(100, nil)
	c := Cursor{Role: 0, Post: -1}
	for i, step := range []struct {
		dx, dy int
		want   Cursor
	}{
		{1, 0, Cursor{0, 0, 0}}, {1, 0, Cursor{0, 0, 1}}, {1, 0, Cursor{0, 1, 0}}, {1, 0, Cursor{0, 1, 0}},
		{-1, 0, Cursor{0, 0, 1}}, {0, 1, Cursor{1, 0, 0}}, {0, 1, Cursor{1, 0, 0}}, {0, -1, Cursor{0, 0, 0}}, {0, -1, Cursor{-1, 0, 0}},
		{0, -1, Cursor{-2, 0, 0}}, {1, 0, Cursor{-2, 1, 0}}, {1, 0, Cursor{-2, 1, 0}}, {-1, 0, Cursor{-2, 0, 0}}, {0, 1, Cursor{-1, 0, 0}},
		{-1, 0, Cursor{-1, 0, 0}}, {0, 1, Cursor{0, 0, 0}}, {-1, 0, Cursor{0, -1, 0}}, {0, -1, Cursor{-1, 0, 0}},
	} {
		if c = m.Move(c, step.dx, step.dy); c != step.want {
			t.Fatalf("step %d: at %+v, want %+v", i, c, step.want)
		}
	}
	empty := &Model{}
	if c := empty.Move(Cursor{5, 5, 5}, 1, 1); c.Role > 0 || c.Post > 0 {
		t.Errorf("on an empty board: %+v", c)
	}
}

// TestTheCursorStaysOnWhatItStoodOn changes the board around it.
func TestTheCursorStaysOnWhatItStoodOn(t *testing.T) {
	before := grove([]int{2, 2}, []string{"a-1", "b-1"}, []string{"a-2", "b-2", "b-2"})
	after := grove([]int{3, 3}, []string{"a-3"}, []string{"a-1", "b-1"}, []string{"a-2", "b-2", "b-2"})
	before.Fit(200, nil)
	after.Fit(200, nil)
	for i := range after.Roles { // a role has come above, and nodes between
		for j := range after.Roles[i].Members {
			after.Roles[i].Members[j].Role = []field.RoleName{"q", "r", "s"}[i]
			after.Roles[i].Members[j].Member = []field.RoleName{"q", "r", "s"}[i].Member(j + 1)
		}
		after.Roles[i].Role = []field.RoleName{"q", "r", "s"}[i]
	}
	for role := OnZones; role < 2; role++ {
		for post := -1; post < 4; post++ {
			for lantern := range 2 {
				c := before.Keep(Cursor{role, post, lantern})
				was := before.Under(c)
				now := after.Under(after.Find(was, c))
				if was.row = now.row; now != was {
					t.Errorf("%+v: %+v has become %+v", c, was, now)
				}
			}
		}
	}
	if c := after.Find(Place{Role: "gone", Node: "b-1", row: 5}, Cursor{Role: 9, Post: 2}); c.Role != 2 || c.Post != 2 {
		t.Errorf("nearest to a role that has gone: %+v", c)
	}
}

func TestTheNextDarkLantern(t *testing.T) {
	m := grove([]int{3}, []string{"a-1", "a-2", "a-3"}, []string{"a-1", "a-2"})
	m.Fit(100, nil)
	if _, ok := m.NextDark(Cursor{}); ok {
		t.Error("all burn")
	}
	m.Roles[0].Members[1].Phase, m.Roles[1].Members[0].Phase = state.Failed, state.Unknown
	c := Cursor{Role: 0, Post: 0}
	for i, want := range []field.MemberName{"r-2", "s-1", "r-2", "s-1"} {
		ok := false
		if c, ok = m.NextDark(c); !ok || m.Under(c).Member != want {
			t.Errorf("step %d: %s, want %s", i, m.Under(c).Member, want)
		}
	}
}

func TestZonesFoldWhenThereIsNoRoom(t *testing.T) {
	m := grove([]int{40, 5, 30}, []string{"a-1", "a-40", "b-2", "c-30"})
	names := func(room int, folds Folds) string {
		m.Fit(room, folds)
		text := ""
		for _, p := range m.Posts {
			if p.Folded {
				text += fmt.Sprintf("[%s %d] ", m.Zones[p.Zone].Name, len(p.Nodes))
			}
		}
		return fmt.Sprintf("%s%d", text, len(m.Posts))
	}
	for _, test := range []struct {
		room  int
		folds Folds
		want  string
	}{
		{300, nil, "75"}, {200, nil, "[a 40] 36"}, {90, nil, "[a 40] [c 30] 7"}, {10, nil, "[a 40] [b 5] [c 30] 3"},
		{300, Folds{"b": true}, "[b 5] 71"}, {90, Folds{"a": false}, "[b 5] [c 30] 42"}, {90, Folds{"a": false, "b": false, "c": false}, "75"},
	} {
		if got := names(test.room, test.folds); got != test.want {
			t.Errorf("in %d cells with %v: %s, want %s", test.room, test.folds, got, test.want)
		}
		seen := 0
		for post := range m.Posts {
			seen += len(m.Roles[0].At(post))
		}
		if seen != 4 {
			t.Errorf("in %d cells: %d of 4 lanterns hang somewhere", test.room, seen)
		}
	}
}

// TestWhatIsPointedAtIsWhatIsDrawn points at every lantern where it is drawn.
func TestWhatIsPointedAtIsWhatIsDrawn(t *testing.T) {
	m := grove([]int{3, 2}, []string{"a-1", "b-1", "b-1"}, []string{"a-2"})
	a := Area{X: 2, Y: 3, W: 120, H: 24}
	m.Fit(Room(a.W), nil)
	for _, r := range m.Roles {
		for _, x := range r.Members {
			px, py, ok := AtMember(m, a, Cursor{}, x.Member)
			if c, hit := Hit(m, a, Cursor{}, px, py); !ok || !hit || m.Under(c).Member != x.Member {
				t.Errorf("%s at %d,%d: %+v", x.Member, px, py, m.Under(c))
			}
		}
	}
	if c, ok := Hit(m, a, Cursor{}, 4, a.Y+6); !ok || m.Under(c).Role != "r" || c.Post != -1 {
		t.Errorf("a role's name: %+v %v", c, ok)
	}
	if c, ok := Hit(m, a, Cursor{}, 30, a.Y); !ok || m.Under(c).Zone != "a" || c.Role != OnZones {
		t.Errorf("a zone's name: %+v %v", c, ok)
	}
	if _, ok := Hit(m, a, Cursor{}, 1, 1); ok {
		t.Error("outside")
	}
}

func TestTheMostUrgentLanternSpeaksForMany(t *testing.T) {
	order := []state.Phase{state.Ready, state.Planned, state.Starting, state.Unknown, state.Failed}
	for i := 1; i < len(order); i++ {
		a, b := &Member{MemberView: &snapshot.MemberView{Phase: order[i-1]}}, &Member{MemberView: &snapshot.MemberView{Phase: order[i]}}
		if urgency(a) >= urgency(b) {
			t.Errorf("%s is not less urgent than %s", order[i-1], order[i])
		}
	}
}
