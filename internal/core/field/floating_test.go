package field

import (
	"slices"
	"strings"
	"testing"
	"time"
)

// floats is a field on hosts whose entry has a floating address.
func floats() *Field {
	f := &Field{Name: "far-quay", Ground: Ground{Kind: "ssh"}, Nodes: []Node{{Name: "gull-1", Address: "10.7.0.1"}, {Name: "gull-2", Address: "10.7.0.2"}}, Roles: []Role{
		{Name: "store", Members: 1, Provides: []string{"leases"}, Program: &Program{Command: []string{"run"}, Ports: map[string]Port{"client": {Port: 2379}}}},
		{Name: "desk", Kind: Entry, Members: 2, Program: &Program{Command: []string{"run"}, Ports: map[string]Port{"write": {Port: 7000}}},
			Floating: &Floating{Address: "10.7.0.50", Lease: Lease{Store: "store"}}}}}
	FillDefaults(f)
	return f
}

// TestWhatAFloatingAddressMeans validates declarations of one.
func TestWhatAFloatingAddressMeans(t *testing.T) {
	for _, test := range []struct {
		what   string
		change func(*Field, *Role)
		want   string
	}{
		{"right", func(*Field, *Role) {}, ""},
		{"IPv6", func(_ *Field, r *Role) { r.Floating.Address = "fd00::50" }, ""},
		{"no address", func(_ *Field, r *Role) { r.Floating.Address = "10.7.0" }, `"10.7.0" is no address`},
		{"with a length", func(_ *Field, r *Role) { r.Floating.Address = "10.7.0.50/24" }, `"10.7.0.50/24" is no address`},
		{"of this machine", func(_ *Field, r *Role) { r.Floating.Address = "127.0.0.9" }, "127.0.0.9 is no address that others could reach"},
		{"a node's", func(_ *Field, r *Role) { r.Floating.Address = "10.7.0.2" }, "10.7.0.2 is the address of gull-2"},
		{"another role's", func(f *Field, r *Role) {
			f.Roles = append(f.Roles, Role{Name: "pier", Members: 1, Program: &Program{Command: []string{"run"}}, Floating: &Floating{Address: "10.7.0.50", Lease: Lease{Store: "store"}}})
		}, "pier has the same one"},
		{"no store", func(_ *Field, r *Role) { r.Floating.Store = "stoer" }, `desk names a role "stoer" under lease`},
		{"a store that keeps none", func(f *Field, _ *Role) { f.Roles[0].Provides = nil }, "store cannot keep leases"},
		{"too short", func(_ *Field, r *Role) { r.Floating.For = Duration(2 * time.Second) }, "a lease lasts between 3.0 s and 1 min 0 s here"},
		{"its program elects", func(_ *Field, r *Role) { r.Program.Leader = &LeaderProbe{} }, "who leads desk is found out otherwise"},
		{"on this machine", func(f *Field, _ *Role) { f.Nodes[1].Ground = Ground{Kind: "local"} }, "gull-2 stands on this machine"},
	} {
		f := floats()
		test.change(f, &f.Roles[1])
		var got []string
		for _, p := range Validate(f, nil) {
			got = append(got, p.Text)
		}
		if test.want == "" && len(got) > 0 || test.want != "" && !slices.ContainsFunc(got, func(m string) bool { return strings.HasPrefix(m, test.want) }) {
			t.Errorf("%s: got %q, want %q", test.what, got, test.want)
		}
	}
}

// TestAFloatingAddressIsCalledForAndKnown looks at what follows from one: the store is called, and relied on; clients know the role by it.
func TestAFloatingAddressIsCalledForAndKnown(t *testing.T) {
	f := floats()
	Validate(f, nil)
	r := f.Role("desk")
	if r.Calls[LeaseCall] != "store" || !slices.Contains(r.Relied(), "store") || r.Guarded() {
		t.Errorf("calls %v, relies on %v", r.Calls, r.Relied())
	}
	r.Names = []string{"desk.example"}
	if got := r.KnownAs(); !slices.Equal(got, []string{"desk.example", "10.7.0.50"}) {
		t.Errorf("known as %v", got)
	}
	if f.FloatingOf("desk") != "10.7.0.50" || f.FloatingOf("store") != "" || f.FloatingOf("nobody") != "" {
		t.Error("who has one")
	}
	r.Floating.Secret = "votes"
	if got := r.SecretNames(); !slices.Equal(got, []string{"votes"}) {
		t.Errorf("secrets: %v", got)
	}
}
