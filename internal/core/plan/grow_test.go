package plan

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
)

// set adds the nodes of a set to a field, in these zones in turn.
func set(f *field.Field, name string, least, most int, size field.Size, price float64, zones ...field.ZoneName) {
	for i := range most {
		n := field.Node{Name: field.NodeName(fmt.Sprintf("%s-%d", name, i+1)), Zone: zones[i%len(zones)], Size: size, Set: name, Extra: i >= least, Price: price}
		if n.Extra {
			f.Extras = append(f.Extras, n)
		} else {
			f.Nodes = append(f.Nodes, n)
		}
	}
	field.FillDefaults(f)
}

func names(f *field.Field) string {
	var all []string
	for _, n := range f.Nodes {
		all = append(all, string(n.Name))
	}
	return strings.Join(all, " ")
}

func TestNodesAreMadeAsMembersWantThem(t *testing.T) {
	two := field.Size{CPU: 2}
	role := func(n int, change func(*field.Role)) field.Role {
		r := field.Role{Name: "crews", Members: n, Spread: field.SpreadNone, Room: field.Size{CPU: 1}, Program: &field.Program{}}
		if change != nil {
			change(&r)
		}
		return r
	}
	for _, c := range []struct {
		what string
		make func(*field.Field)
		live Live
		want string
	}{
		{"what is there is enough", func(f *field.Field) { f.Roles[0].Members = 2 }, Live{}, "gull-1"},
		{"one more is not", func(f *field.Field) { f.Roles[0].Members = 3 }, Live{}, "gull-1 skua-1"},
		{"as many as fill them", func(f *field.Field) { f.Roles[0].Members = 8 }, Live{}, "gull-1 skua-1 skua-2 skua-3"},
		{"more than all could hold", func(f *field.Field) { f.Roles[0].Members = 50 }, Live{}, "gull-1 skua-1 skua-2 skua-3 skua-4"},
		{"a pin wants its node", func(f *field.Field) {
			f.Place = map[field.RoleName][]field.NodeName{"crews": {"skua-4"}}
		}, Live{}, "gull-1 skua-4"},
		{"spread over zones wants another zone", func(f *field.Field) { f.Roles[0] = role(2, func(r *field.Role) { r.Spread = field.SpreadZone }) }, Live{}, "gull-1 skua-2"},
		{"spread over nodes wants one for each", func(f *field.Field) { f.Roles[0] = role(3, func(r *field.Role) { r.Spread = field.SpreadNode }) }, Live{}, "gull-1 skua-1 skua-2"},
		{"where lets only some hold it", func(f *field.Field) { f.Roles[0] = role(1, func(r *field.Role) { r.Where = `zone == "south"` }) }, Live{}, "gull-1 skua-2"},
		{"one on every node is no reason for a node", func(f *field.Field) {
			f.Roles[0] = role(0, func(r *field.Role) { r.Each.Node, r.Room.CPU = true, 0.1 })
		}, Live{}, "gull-1"},
		{"who runs there keeps it", nil, Live{Members: []Member{{Member: place.Member{Name: "crews-1", Role: "crews", Node: "skua-3"}, Number: 1}}}, "gull-1 skua-3"},
		{"who leaves does not", nil, Live{Leaving: []place.Member{{Name: "crews-1", Role: "crews", Node: "skua-3"}}}, "gull-1"},
		{"a cheaper set is taken first", func(f *field.Field) {
			set(f, "auk", 0, 2, two, -1, "north") // cheaper than nothing: the others have no price
			f.Roles[0].Members = 3
		}, Live{}, "gull-1 auk-1"},
		{"a set that another is made before, and that alone helps", func(f *field.Field) {
			set(f, "auk", 0, 2, field.Size{CPU: 9}, 5, "west")
			f.Roles[0] = role(1, func(r *field.Role) { r.Room.CPU = 8 })
		}, Live{}, "gull-1 auk-1"},
	} {
		t.Run(c.what, func(t *testing.T) {
			f := &field.Field{Nodes: []field.Node{{Name: "gull-1", Zone: "north", Size: two}}, Roles: []field.Role{role(1, nil)}}
			set(f, "skua", 0, 4, two, 0, "north", "south")
			if c.make != nil {
				c.make(f)
			}
			field.FillDefaults(f)
			got := Grow(f, c.live)
			if names(got) != c.want {
				t.Errorf("got %s, want %s", names(got), c.want)
			}
			if again := Grow(got, c.live); names(again) != names(got) {
				t.Errorf("grown once more it is %s", names(again))
			}
		})
	}
}

// TestGrowingTakesNoNodeTooMany grows random fields: all extra nodes together would make nothing better, and each that
// was made is missed.
func TestGrowingTakesNoNodeTooMany(t *testing.T) {
	made := 0
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 7))
		pick := func(n int) int { return r.IntN(n) }
		f := &field.Field{Nodes: []field.Node{{Name: "gull-1", Zone: "a", Size: field.Size{CPU: float64(1 + pick(3))}}}}
		set(f, "skua", pick(2), 1+pick(5), field.Size{CPU: float64(1 + pick(3))}, float64(pick(3)), "a", "b")
		set(f, "auk", 0, 1+pick(4), field.Size{CPU: float64(1 + pick(4))}, float64(pick(3)), "c")
		for _, name := range []field.RoleName{"relays", "crews"}[:1+pick(2)] {
			f.Roles = append(f.Roles, field.Role{Name: name, Members: pick(7), Program: &field.Program{}, Room: field.Size{CPU: float64(1 + pick(2))},
				Spread: []field.Spread{field.SpreadNone, field.SpreadNode, field.SpreadZone}[pick(3)], Where: []string{"", "", `zone != "a"`}[pick(3)]})
		}
		field.FillDefaults(f)
		got := Grow(f, Live{})
		g := &growing{whole: f}
		every := map[field.NodeName]bool{}
		for _, n := range f.Extras {
			every[n.Name] = true
		}
		g.ideal = g.spread(f.With(every))
		now := g.crowding(got)
		if best := g.crowding(f.With(every)); best.less(now) {
			t.Fatalf("seed %d: with %s it is %+v, with all %+v", seed, names(got), now, best)
		}
		for i := range got.Nodes {
			if !got.Nodes[i].Extra {
				continue
			}
			made++
			fewer := map[field.NodeName]bool{}
			for _, n := range got.Nodes {
				fewer[n.Name] = n.Extra && n.Name != got.Nodes[i].Name
			}
			if without := g.crowding(f.With(fewer)); !now.less(without) {
				t.Fatalf("seed %d: %s of %s is not needed: %+v without it", seed, got.Nodes[i].Name, names(got), without)
			}
		}
	}
	if made < 200 {
		t.Errorf("only %d nodes were made in all: the fields are too easy", made)
	}
}

// TestMembersLeaveExtraNodesFirst scales in: the nodes that cost go first, where the spread allows it.
func TestMembersLeaveExtraNodesFirst(t *testing.T) {
	f := &field.Field{Nodes: []field.Node{{Name: "gull-1", Zone: "north", Size: field.Size{CPU: 4}}},
		Roles: []field.Role{{Name: "crews", Members: 6, Spread: field.SpreadNone, Room: field.Size{CPU: 1}, Program: &field.Program{}}}}
	set(f, "skua", 0, 4, field.Size{CPU: 2}, 0, "north")
	live := Live{Highest: map[field.RoleName]int{"crews": 6}}
	for i, a := range Make(Grow(f, Live{}), Live{}).Adds {
		live.Members = append(live.Members, Member{Member: a, Number: i + 1, Ready: true})
	}
	f.Roles[0].Members = 4
	fewer := Grow(f, live)
	if names(fewer) != "gull-1" {
		t.Errorf("for four, %s", names(fewer))
	}
	var gone []string
	for _, r := range Make(fewer, live).Removes {
		gone = append(gone, string(r.Node)+": "+r.Why)
	}
	slices.Sort(gone)
	if want := "skua-1: the draft no longer needs skua-1"; len(gone) != 2 || gone[0] != want || gone[1] != want {
		t.Errorf("gone: %q", gone)
	}
}
