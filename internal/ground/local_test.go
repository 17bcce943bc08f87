package ground

import (
	"net"
	"net/netip"
	"strings"
	"testing"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
)

func names(n int) []field.NodeName {
	out := make([]field.NodeName, n)
	for i := range out {
		out[i] = field.NodeName("gull-" + strings.Repeat("i", i+1))
	}
	return out
}

func TestEveryNodeHasAnAddressOfItsOwn(t *testing.T) {
	l := &Local{Dir: "/state/saltmarsh/nodes"}
	all, err := l.Bind(names(600), nil)
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
	again, err := l.Bind(names(600), nil)
	if err != nil || again["gull-i"] != all["gull-i"] {
		t.Errorf("bound anew: %v, at first %v", again["gull-i"], all["gull-i"])
	}
}

func TestBoundNodesStayAndNewOnesComeBeside(t *testing.T) {
	l := &Local{Dir: "/state/saltmarsh/nodes"}
	first, err := l.Bind(names(2), nil)
	if err != nil {
		t.Fatal(err)
	}
	more, err := l.Bind(names(4), first)
	if err != nil {
		t.Fatal(err)
	}
	seen := map[engine.Binding]bool{}
	for _, n := range names(4) {
		if b, was := first[n]; was && more[n] != b {
			t.Errorf("%s moved from %v to %v", n, b, more[n])
		}
		if seen[more[n]] {
			t.Errorf("%s shares %v", n, more[n])
		}
		seen[more[n]] = true
	}
}

func TestANeighbourhoodInUseIsLeftAlone(t *testing.T) {
	l := &Local{Dir: "/state/another/nodes"}
	free, err := l.Bind(names(1), nil)
	if err != nil {
		t.Fatal(err)
	}
	foreign, err := net.Listen("tcp", free["gull-i"].Address+":0")
	if err != nil {
		t.Fatal(err)
	}
	defer foreign.Close()
	other, err := l.Bind(names(1), nil)
	if err != nil {
		t.Fatal(err)
	}
	block := func(b engine.Binding) string { return b.Address[:strings.LastIndexByte(b.Address, '.')] }
	if block(other["gull-i"]) == block(free["gull-i"]) {
		t.Errorf("%s was given although somebody listens there", other["gull-i"].Address)
	}
}
