package arrange

import (
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/plan"
)

func liveOf(at ...string) plan.Live {
	l := plan.Live{Highest: map[field.RoleName]int{}}
	for i, spec := range at {
		name, node, _ := strings.Cut(spec, "@")
		role, _, _ := strings.Cut(name, "-")
		l.Members = append(l.Members, plan.Member{Member: place.Member{Name: field.MemberName(name), Role: field.RoleName(role), Node: field.NodeName(node)}, Number: i + 1, Ready: true})
		l.Highest[field.RoleName(role)] = 9
	}
	return l
}

func quays() *field.Field {
	f := &field.Field{Name: "x", Place: map[field.RoleName][]field.NodeName{}, Roles: []field.Role{
		{Name: "wardens", Members: 3, Votes: true, Room: field.Size{Memory: 1 << 30}}, {Name: "crews", Members: 2, Spread: field.SpreadNode}}}
	for _, n := range []string{"gull-1@north", "gull-2@north", "tern-1@south", "skua-1@light"} {
		name, zone, _ := strings.Cut(n, "@")
		f.Nodes = append(f.Nodes, field.Node{Name: field.NodeName(name), Zone: field.ZoneName(zone), Size: field.Size{Memory: 4 << 30}})
	}
	field.FillDefaults(f)
	return f
}

func TestAProposalMovesFewAndSaysWhy(t *testing.T) {
	for _, test := range []struct {
		name  string
		draft func(*field.Field)
		live  []string
		want  string
	}{
		{"nothing", func(*field.Field) {}, []string{"wardens-1@gull-1", "wardens-2@tern-1", "wardens-3@skua-1", "crews-1@gull-1", "crews-2@tern-1"}, ""},
		{"a zone with two", func(*field.Field) {}, []string{"wardens-1@gull-1", "wardens-2@gull-2", "wardens-3@tern-1", "crews-1@gull-1", "crews-2@tern-1"},
			"wardens-1 moves from gull-1 to skua-1: north holds 2 of wardens, and light 0"},
		{"a node with two", func(*field.Field) {}, []string{"wardens-1@gull-1", "wardens-2@tern-1", "wardens-3@skua-1", "crews-1@gull-1", "crews-2@gull-1"},
			"crews-2 moves from gull-1 to gull-2: gull-1 holds 2 of crews, and gull-2 0"},
		{"pinned", func(f *field.Field) { f.Place["wardens"] = []field.NodeName{"gull-1", "gull-2"} },
			[]string{"wardens-1@gull-1", "wardens-2@gull-2", "wardens-3@tern-1", "crews-1@gull-1", "crews-2@tern-1"}, ""},
		{"where", func(f *field.Field) { f.Roles[1].Where = `zone != "south"` },
			[]string{"wardens-1@gull-1", "wardens-2@tern-1", "wardens-3@skua-1", "crews-1@gull-1", "crews-2@tern-1"},
			""}, // the next deploy moves it
		{"apart", func(f *field.Field) { f.Roles[1].Apart = []field.RoleName{"wardens"}; f.Roles[1].Members = 1 },
			[]string{"wardens-1@gull-1", "wardens-2@tern-1", "wardens-3@skua-1", "crews-1@tern-1"}, ""},
	} {
		f := quays()
		test.draft(f)
		live := liveOf(test.live...)
		p := Propose(f, live)
		var got []string
		for _, m := range p.Moves {
			got = append(got, m.Sentence())
		}
		if s := strings.Join(got, "; "); s != test.want {
			t.Errorf("%s: got %q, want %q", test.name, s, test.want)
		}
		if len(p.Moves) == 0 {
			continue
		}
		next := p.On(f)
		after := plan.Make(next, live)
		if len(after.Unplaced) > 0 || len(after.Adds) != len(p.Moves) || len(after.Removes) != len(p.Moves) {
			t.Errorf("%s: taken, it leads to %+v", test.name, after)
		}
		for i, m := range p.Moves {
			if after.Removes[i].Member != m.Member || after.Adds[i].Node != m.To {
				t.Errorf("%s: %s went, and %s came", m.Sentence(), after.Removes[i].Member, after.Adds[i].Node)
			}
		}
	}
}

func TestWhyAMemberStandsWhereItDoes(t *testing.T) {
	f := quays()
	f.Roles[0].Where = `zone != "light"`
	f.Nodes[1].Out = "flooded"
	live := liveOf("wardens-1@gull-1", "wardens-2@tern-1", "wardens-3@tern-1", "crews-1@gull-1", "crews-2@skua-1")
	for member, want := range map[field.MemberName]string{
		"wardens-1": `1 of 4 nodes: excluded by where (zone != "light"); 1 of 4 nodes: taken out; no zone holds fewer others of wardens than north (0); no other node there is left`,
		"wardens-2": `1 of 4 nodes: excluded by where (zone != "light"); 1 of 4 nodes: taken out; no other node there is left`,
		"crews-2":   "1 of 4 nodes: taken out; no node there holds fewer others of crews (0); it is the least used of them (0 %)",
		"crews-9":   "",
	} {
		got := strings.Join(WhyHere(f, live, member), "; ")
		if member == "wardens-2" {
			if !strings.Contains(got, "taken out") {
				t.Errorf("%s: got %q", member, got)
			}
			continue
		}
		if got != want {
			t.Errorf("%s: got %q, want %q", member, got, want)
		}
	}
	f.Place["wardens"] = []field.NodeName{"gull-1"}
	if got := WhyHere(f, live, "wardens-1"); len(got) != 1 || got[0] != "it is pinned to gull-1 by hand" {
		t.Errorf("got %v", got)
	}
}
