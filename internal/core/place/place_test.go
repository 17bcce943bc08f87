package place

import (
	"fmt"
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
	site := NewSite(f, nil)
	var at []string
	for i := 1; i <= n; i++ {
		m, not := site.Place(role, role.Name.Member(i), "")
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
	site := NewSite(f, nil)
	if _, not := site.Place(&field.Role{Name: "it"}, "it-1", "c1"); not == nil || not.Why != "it is pinned to c1, which the field does not have" {
		t.Errorf("pin: got %+v", not)
	}
}

func TestPortsOfARangeAreGivenOutOnce(t *testing.T) {
	f := &field.Field{Nodes: nodes("a1@a")}
	role := &field.Role{Name: "it", Program: &field.Program{Ports: map[string]field.Port{"x": {From: 10, To: 12}, "y": {From: 10, To: 12}}}}
	site := NewSite(f, nil)
	m, not := site.Place(role, "it-1", "")
	if not != nil || m.Ports["x"] != 10 || m.Ports["y"] != 11 {
		t.Errorf("got %v %v", m, not)
	}
	if _, not := site.Place(&field.Role{Name: "other", Program: &field.Program{Ports: map[string]field.Port{"z": {Port: 11}}}}, "other-1", ""); not == nil {
		t.Error("port 11 was given out twice")
	}
}

// TestNothingIsEverOverfilled fills random-looking fields to the brim and adds up.
func TestNothingIsEverOverfilled(t *testing.T) {
	for size := 1; size <= 12; size++ {
		f := &field.Field{}
		for i := range size {
			f.Nodes = append(f.Nodes, field.Node{Name: field.NodeName(fmt.Sprint("n", i)), Zone: field.ZoneName(fmt.Sprint("z", i%3)),
				Size: field.Size{CPU: float64(1 + i%4), Memory: field.Bytes(1+i%5) << 30}})
		}
		site := NewSite(f, nil)
		for i := range 100 {
			role := &field.Role{Name: field.RoleName(fmt.Sprint("r", i%7)), Room: field.Size{CPU: 0.1 * float64(i%5), Memory: field.Bytes(i%3) << 28}}
			site.Place(role, role.Name.Member(i), "")
		}
		for name, use := range site.Uses() {
			if use.Used.CPU > use.Offered.CPU+1e-6 || use.Used.Memory > use.Offered.Memory {
				t.Errorf("%d nodes: %s holds %+v of %+v", size, name, use.Used, use.Offered)
			}
		}
	}
}

func BenchmarkPlace(b *testing.B) {
	f := &field.Field{}
	for i := range 5000 {
		f.Nodes = append(f.Nodes, field.Node{Name: field.NodeName(fmt.Sprint("n", i)), Zone: field.ZoneName(fmt.Sprint("z", i%10)), Size: field.Size{CPU: 8, Memory: 32 << 30}})
	}
	role := &field.Role{Name: "crews", Spread: field.SpreadZone, Room: field.Size{CPU: 0.5, Memory: 1 << 30}}
	for b.Loop() {
		site := NewSite(f, nil)
		for i := range 50 {
			site.Place(role, role.Name.Member(i+1), "")
		}
	}
}
