package review

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
)

// TestPathsAreThoseThatConfigurationsName: voters are told of each other's peer ports, the desk of the store's client ports; the lamp calls the store
// without being told a port, so that any may be meant; nobody calls the bell.
func TestPathsAreThoseThatConfigurationsName(t *testing.T) {
	program := func(ports string, words ...string) *field.Program {
		p := &field.Program{Command: append([]string{"sh"}, words...), Ports: map[string]field.Port{}}
		for i, name := range strings.Fields(ports) {
			p.Ports[name] = field.Port{Port: 7000 + i}
		}
		return p
	}
	store := program("client peer check", `{{range .Wanted}}{{.URL "peer"}} {{end}}`)
	check := store.Ports["check"]
	check.By = field.ByAgent
	store.Ports["check"] = check
	f := &field.Field{Name: "quay", Ground: field.Ground{Kind: "ssh"}, Roles: []field.Role{
		{Name: "store", Kind: "master", Members: 2, Votes: true, Program: store},
		{Name: "desk", Kind: "entry", Members: 1, Program: program("front", `{{range .Calls "s"}}{{.URL "client"}}{{end}}`), Calls: map[string]field.RoleName{"s": "store"}},
		{Name: "lamp", Kind: "worker", Members: 1, Program: program("", "lamp"), Calls: map[string]field.RoleName{"s": "store"}},
		{Name: "bell", Kind: "worker", Members: 1, Program: program("rope", "bell")},
	}}
	for i := 1; i <= 5; i++ {
		f.Nodes = append(f.Nodes, field.Node{Name: field.NodeName(fmt.Sprintf("gull-%d", i)), Address: fmt.Sprintf("10.1.0.%d", i)})
	}
	f.Place = map[field.RoleName][]field.NodeName{"store": {"gull-1", "gull-2"}, "desk": {"gull-3"}, "lamp": {"gull-4"}, "bell": {"gull-5"}}
	needs, err := NeedsOf(state.NewState(), f)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, p := range needs.Paths {
		if !p.Comes {
			t.Errorf("%+v: whoever listens there is there already", p)
		}
		got = append(got, fmt.Sprintf("%s→%s %s %s:%d", p.Members[0], p.Members[1], p.Port, p.At.Address, p.At.Port))
	}
	slices.Sort(got)
	want := []string{
		"desk-1→store-1 client 10.1.0.1:7000", "desk-1→store-2 client 10.1.0.2:7000",
		"lamp-1→store-1 client 10.1.0.1:7000", "lamp-1→store-1 peer 10.1.0.1:7001", "lamp-1→store-2 client 10.1.0.2:7000", "lamp-1→store-2 peer 10.1.0.2:7001",
		"store-1→store-2 peer 10.1.0.2:7001", "store-2→store-1 peer 10.1.0.1:7001",
	}
	if !slices.Equal(got, want) {
		t.Errorf("paths:\n%s\nwant:\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	flows, err := FlowsOf(state.NewState(), f)
	if err != nil {
		t.Fatal(err)
	}
	got = nil
	for _, x := range flows {
		got = append(got, fmt.Sprintf("%s→%s %s %v %d", x.From, x.To, x.Port, x.Numbers(), len(x.Paths)))
	}
	want = []string{"→desk front [7000] 1", "desk→store client [7000] 2", "lamp→store client [7000] 2", "lamp→store peer [7001] 2", "store→store peer [7001] 2"}
	if !slices.Equal(got, want) {
		t.Errorf("flows:\n%s\nwant:\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if n := needs.Nodes[0]; len(n.Lookups) != 1 || n.Lookups[0].Program != "sh" || len(n.Ports) != 3 || n.Ports[0].At != (Endpoint{"10.1.0.1", 7002}) || n.Ports[0].Name != "check" {
		t.Errorf("what is wanted of gull-1: %+v", n)
	}
}
