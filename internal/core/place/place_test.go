package place

import (
	"strings"
	"testing"

	"lanternfield/internal/core/field"
)

func nodes(specs ...string) []field.Node {
	var out []field.Node
	for _, s := range specs {
		name, zone, _ := strings.Cut(s, "@")
		out = append(out, field.Node{Name: field.NodeName(name), Zone: field.ZoneName(zone), Size: field.Size{CPU: 2, Memory: 1 << 30},
			Labels: map[string]string{"first": name[:1]}})
	}
	return out
}

func placeAll(f *field.Field, role *field.Role, n int) (string, *Unplaced) {
	f = &field.Field{Nodes: f.Nodes, Roles: []field.Role{*role}}
	site := NewSite(f, nil)
	var at []string
	for i := 1; i <= n; i++ {
		m, not := site.Place(role.Name, role.Name.Member(i), "")
		if not != nil {
			return strings.Join(at, " "), not
		}
		at = append(at, string(m.Node))
	}
	return strings.Join(at, " "), nil
}

func TestMembersAreSpread(t *testing.T) {
	f := &field.Field{Nodes: nodes("a1@a", "a2@a", "a3@a", "b1@b", "c1@c")}
	for _, test := range []struct {
		spread field.Spread
		want   string
	}{
		{field.SpreadZone, "a1 b1 c1 a2"},
		{field.SpreadNode, "a1 a2 a3 b1"},
		{field.SpreadNone, "a1 a2 a3 b1"}, // even use, with nothing else to go by
	} {
		role := &field.Role{Name: "crews", Spread: test.spread}
		for range 3 { // always the same
			if got, not := placeAll(f, role, 4); got != test.want || not != nil {
				t.Errorf("spread %s: got %s, %v; want %s", test.spread, got, not, test.want)
			}
		}
	}
}

func TestReasonsOfMembersThatFitNowhere(t *testing.T) {
	f := &field.Field{Nodes: nodes("a1@a", "b1@b")}
	fixed := &field.Program{Ports: map[string]field.Port{"main": {Port: 80}}}
	for _, test := range []struct {
		name string
		role field.Role
		n    int
		want string
	}{
		{"memory", field.Role{Room: field.Size{Memory: 700 << 20}}, 3, "too little memory: a1 (324 MiB of 1 GiB free, 700 MiB wanted), b1 (324 MiB of 1 GiB free, 700 MiB wanted)"},
		{"cpu", field.Role{Room: field.Size{CPU: 1.5}}, 3, "too little CPU: a1 (0.5 of 2 free, 1.5 wanted), b1 (0.5 of 2 free, 1.5 wanted)"},
		{"where", field.Role{Where: `zone == "z"`}, 1, `excluded by where (zone == "z"): a1, b1`},
		{"where and memory", field.Role{Where: `labels.first == "a"`, Room: field.Size{Memory: 2 << 30}}, 1,
			`excluded by where (labels.first == "a"): b1; too little memory: a1 (1 GiB of 1 GiB free, 2 GiB wanted)`},
		{"fixed port", field.Role{Program: fixed}, 3, "port taken: a1 (80 is it-1's), b1 (80 is it-2's)"},
	} {
		test.role.Name = "it"
		if _, not := placeAll(f, &test.role, test.n); not == nil || not.Why != test.want {
			t.Errorf("%s: got %+v, want %q", test.name, not, test.want)
		}
	}
	f.Roles = []field.Role{{Name: "it"}}
	site := NewSite(f, nil)
	if _, not := site.Place("it", "it-1", "c1"); not == nil || not.Why != "it is pinned to c1, which the field does not have" {
		t.Errorf("pin: got %+v", not)
	}
}

// TestAPortCanBeComputedFromTheMembersNumber has members of one node listen on ports a fixed distance apart.
func TestAPortCanBeComputedFromTheMembersNumber(t *testing.T) {
	f := &field.Field{Nodes: nodes("a1@a"), Roles: []field.Role{
		{Name: "it", Members: 3, Spread: field.SpreadNone, Program: &field.Program{Ports: map[string]field.Port{"x": {Port: 100, Each: 10}}}}}}
	site := NewSite(f, nil)
	for i, want := range []int{100, 110, 120} {
		if m, not := site.Place("it", field.RoleName("it").Member(i+1), ""); not != nil || m.Ports["x"] != want {
			t.Errorf("it-%d: got %v %v, want %d", i+1, m, not, want)
		}
	}
}

func TestPortsOfARangeAreGivenOutOnce(t *testing.T) {
	f := &field.Field{Nodes: nodes("a1@a"), Roles: []field.Role{
		{Name: "it", Program: &field.Program{Ports: map[string]field.Port{"x": {From: 10, To: 12}, "y": {From: 10, To: 12}}}},
		{Name: "other", Program: &field.Program{Ports: map[string]field.Port{"z": {Port: 11}}}},
		{Name: "late", Program: &field.Program{Ports: map[string]field.Port{"z": {Port: 12}}}}}}
	site := NewSite(f, nil)
	m, not := site.Place("it", "it-1", "")
	if not != nil || m.Ports["x"] != 10 || m.Ports["y"] != 11 { // others want 11 and 12 for good, so that one of the two cannot be helped
		t.Errorf("got %v %v", m, not)
	}
	if _, not := site.Place("other", "other-1", ""); not == nil {
		t.Error("port 11 was given out twice")
	}
	if m, not := site.Place("late", "late-1", ""); not != nil || m.Ports["z"] != 12 {
		t.Errorf("port 12 is free: got %v %v", m, not)
	}
}
