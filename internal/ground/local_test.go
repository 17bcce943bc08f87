package ground

import (
	"context"
	"net"
	"net/netip"
	"os"
	"strings"
	"testing"

	"lanternfield/internal/core/state"

	"lanternfield/internal/core/field"
)

func names(n int) []field.NodeName {
	out := make([]field.NodeName, n)
	for i := range out {
		out[i] = field.NodeName("gull-" + strings.Repeat("i", i+1))
	}
	return out
}

// give has a ground give nodes, one after the other.
func give(l *Local, f *field.Field, have Bindings) (Bindings, error) {
	out := Bindings{}
	for i := range f.Nodes {
		n := f.Nodes[i]
		all := Bindings{}
		for _, known := range []Bindings{have, out} {
			for name, at := range known {
				all[name] = at
			}
		}
		want := Want{Node: n, Place: i, Networks: f.Networks, Address: f.Given(&n)}
		if err := l.Check(context.Background(), []Want{want}, all); err != nil {
			return nil, err
		}
		at, err := l.Give(context.Background(), want, all)
		if err != nil {
			return nil, err
		}
		out[n.Name] = at
	}
	return out, nil
}

func nodes(n int) *field.Field {
	f := &field.Field{}
	for _, name := range names(n) {
		f.Nodes = append(f.Nodes, field.Node{Name: name})
	}
	return f
}

func TestEveryNodeHasAnAddressOfItsOwn(t *testing.T) {
	l := &Local{Dir: "/state/saltmarsh/nodes"}
	all, err := give(l, nodes(600), nil)
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for name, b := range all {
		a, err := netip.ParseAddr(b.Address)
		if err != nil || seen[b.Address] || a.As4()[0] != 127 || a.As4()[1] < 64 || a.As4()[1] > 127 {
			t.Errorf("%s: %s (%v)", name, b.Address, err)
		}
		seen[b.Address] = true
		if b.Dir != "/state/saltmarsh/nodes/"+string(name) {
			t.Errorf("%s: folder %s", name, b.Dir)
		}
	}
	again, err := give(l, nodes(600), nil)
	if err != nil || again["gull-i"].Address != all["gull-i"].Address {
		t.Errorf("bound anew: %v, at first %v", again["gull-i"], all["gull-i"])
	}
}

func TestBoundNodesStayAndNewOnesComeBeside(t *testing.T) {
	l := &Local{Dir: "/state/saltmarsh/nodes"}
	first, err := give(l, nodes(2), nil)
	if err != nil {
		t.Fatal(err)
	}
	more, err := give(l, nodes(4), first)
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for _, n := range names(4) {
		if b, was := first[n]; was && more[n].Address != b.Address {
			t.Errorf("%s moved from %v to %v", n, b, more[n])
		}
		if seen[more[n].Address] {
			t.Errorf("%s shares %v", n, more[n])
		}
		seen[more[n].Address] = true
	}
}

func TestANeighbourhoodInUseIsLeftAlone(t *testing.T) {
	l := &Local{Dir: "/state/another/nodes"}
	free, err := give(l, nodes(1), nil)
	if err != nil {
		t.Fatal(err)
	}
	foreign, err := net.Listen("tcp", free["gull-i"].Address+":0")
	if err != nil {
		t.Fatal(err)
	}
	defer foreign.Close()
	other, err := give(&Local{Dir: l.Dir}, nodes(1), nil) // as the next process finds it
	if err != nil {
		t.Fatal(err)
	}
	block := func(b state.Binding) string { return b.Address[:strings.LastIndexByte(b.Address, '.')] }
	if block(other["gull-i"]) == block(free["gull-i"]) {
		list, err := os.ReadFile(socketList)
		t.Errorf("%s was given although somebody listens there; the kernel's list (%v):\n%s", other["gull-i"].Address, err, list)
	}
}

// TestGivenAddressesAreTakenOrRefused binds nodes whose addresses the file says.
func TestGivenAddressesAreTakenOrRefused(t *testing.T) {
	l := &Local{Dir: "/state/given/nodes"}
	f := nodes(2)
	f.Networks = []string{"front", "back"}
	f.Nodes[0].Addresses = map[string]string{"front": "127.10.77.1", "back": "127.20.77.1"}
	all, err := give(l, f, nil)
	if err != nil || all["gull-i"].Address != "127.10.77.1" || !strings.HasPrefix(all["gull-ii"].Address, "127.") || all["gull-ii"].Address < "127.64" {
		t.Fatalf("bound %v: %v", all, err)
	}
	if back := all["gull-i"].Addresses["back"]; back != "127.20.77.1" {
		t.Errorf("gull-i has %s on the other network", back)
	}
	main, back := netip.MustParseAddr(all["gull-ii"].Address).As4(), netip.MustParseAddr(all["gull-ii"].Addresses["back"]).As4()
	if main[1]+64 != back[1] || main[2] != back[2] || main[3] != back[3] {
		t.Errorf("gull-ii has %v, and %v on the other network", main, back)
	}
	f.Nodes[0].Addresses["front"] = "127.10.77.9"
	foreign, err := net.Listen("tcp", "127.10.77.9:0")
	if err != nil {
		t.Fatal(err)
	}
	defer foreign.Close()
	if _, err := give(l, f, nil); err == nil || !strings.Contains(err.Error(), "127.10.77.9 of gull-i is in use") {
		t.Errorf("an address in use: %v", err)
	}
}
