package stages

import (
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/tui/board"
	"lanternfield/internal/tui/grid"
	"lanternfield/internal/tui/theme"
)

func model() *board.Model {
	f := &field.Field{Name: "x", Nodes: []field.Node{{Name: "a"}}, Roles: []field.Role{
		{Name: "wardens", Kind: field.Master, Members: 3, Votes: true},
		{Name: "lookout", Kind: field.Monitor, Members: 1, Knows: map[string]field.RoleName{"s": "relays"}},
		{Name: "relays", Kind: field.Broker, Members: 2, After: map[field.RoleName]field.Gate{"wardens": "quorum"}},
		{Name: "crews", Members: 4, Calls: map[string]field.RoleName{"q": "relays", "s": "wardens"}},
		{Name: "pier", Kind: field.Entry, Members: 1, Calls: map[string]field.RoleName{"b": "relays"}}}}
	for i := range f.Roles {
		f.Roles[i].Program = &field.Program{Command: []string{"x"}}
	}
	field.FillDefaults(f)
	var snap snapshot.Snapshot
	snap.State = snapshot.Draft
	return board.Build(&snap, f, plan.Preview(f, plan.Live{}))
}

func drawn(v *View, w, h, chosen int, ascii bool) string {
	k := theme.Dark()
	k.ASCII = ascii
	g := grid.New(w, h, k.Page())
	v.Draw(g, k, board.Area{W: w, H: h}, chosen)
	return g.Plain()
}

func TestTheOrderIsDrawnAtEverySize(t *testing.T) {
	m := model()
	var v View
	v.Sync(m)
	text := drawn(&v, 130, 30, 2, false)
	for _, want := range []string{"first", "stage 2", "stage 3", "wardens", "0/3 master", "votes", "relays", "crews", "pier", "quorum", "first", "⟦", "▌", "┄"} {
		if !strings.Contains(text, want) {
			t.Errorf("there is no %q in\n%s", want, text)
		}
	}
	for _, size := range [][2]int{{24, 6}, {40, 12}, {80, 20}, {300, 80}} {
		for chosen := range m.Roles {
			text := drawn(&v, size[0], size[1], chosen, true)
			if size[0] >= 40 && !strings.Contains(text, string(m.Roles[chosen].Role)[:4]) {
				t.Errorf("%v: %s is chosen and not in sight:\n%s", size, m.Roles[chosen].Role, text)
			}
			for _, r := range text {
				if r > 127 && !strings.ContainsRune("…·", r) {
					t.Fatalf("%v: %q is not ASCII", size, r)
				}
			}
		}
	}
	var empty View
	empty.Sync(&board.Model{Snap: &snapshot.Snapshot{}})
	if !strings.Contains(drawn(&empty, 60, 10, 0, false), "There are no roles yet") {
		t.Error("an empty field says nothing")
	}
}

func TestArrowsGoAlongTheStages(t *testing.T) {
	m := model()
	var v View
	v.Sync(m)
	at := map[field.RoleName]int{}
	for i := range m.Roles {
		at[m.Roles[i].Role] = i
	}
	for _, test := range []struct {
		from   field.RoleName
		dx, dy int
		to     []field.RoleName
	}{
		{"wardens", 1, 0, []field.RoleName{"relays"}}, {"relays", 1, 0, []field.RoleName{"crews", "pier"}}, {"relays", -1, 0, []field.RoleName{"wardens", "lookout"}},
		{"crews", 1, 0, []field.RoleName{"crews"}}, {"wardens", -1, 0, []field.RoleName{"wardens"}}, {"relays", 0, 1, []field.RoleName{"relays"}},
		{"crews", 0, 1, []field.RoleName{"pier", "crews"}},
	} {
		got, ok := v.Move(at[test.from], test.dx, test.dy), false
		for _, to := range test.to {
			ok = ok || got == at[to]
		}
		if !ok {
			t.Errorf("from %s by %d, %d to %s, want %v", test.from, test.dx, test.dy, m.Roles[got].Role, test.to)
		}
	}
}
