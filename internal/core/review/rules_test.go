package review

import (
	"os"
	"os/exec"
	"strings"
	"testing"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/filter"
)

// quay is three nodes: a store on two, which the desk on the third calls, and whose clients come from anywhere.
func quay() *Needs {
	at := func(a string, p int) Endpoint { return Endpoint{Address: a, Port: p} }
	return &Needs{
		Nodes:     []NodeNeeds{{Node: "gull-1"}, {Node: "gull-2"}, {Node: "tern-1"}},
		Addresses: map[field.NodeName][]string{"gull-1": {"10.1.0.1", "fd00::1"}, "gull-2": {"10.1.0.2", "10.1.0.2"}, "tern-1": {"10.2.0.1"}},
		Listens: []Listen{{Node: "gull-1", Member: "store-1", Role: "store", Port: "peer", At: at("10.1.0.1", 2380)}, {Node: "gull-1", Member: "store-1", Role: "store", Port: "client", At: at("10.1.0.1", 2379)},
			{Node: "gull-2", Member: "store-2", Role: "store", Port: "peer", At: at("10.1.0.2", 2380)}, {Node: "tern-1", Member: "desk-1", Role: "desk", Port: "http", At: at("10.2.0.1", 80)},
			{Node: "tern-1", Member: "desk-1", Role: "desk", Port: "admin", At: at("10.2.0.1", 81)}},
		Paths: []Path{{From: "tern-1", To: "gull-1", Roles: [2]field.RoleName{"desk", "store"}, At: at("10.1.0.1", 2379)},
			{From: "gull-1", To: "gull-2", Roles: [2]field.RoleName{"store", "store"}, At: at("10.1.0.2", 2380)}},
		Ways: []Way{{Path: Path{To: "tern-1", At: at("10.2.0.1", 80)}}},
	}
}

func TestWhoCallsIsLetInAndNobodyElse(t *testing.T) {
	rules := RulesOf("quay", quay())
	store, desk := rules["gull-1"].Script(), rules["tern-1"].Script()
	for _, want := range []string{"table inet lanternfield-quay-gull-1\ndelete table inet lanternfield-quay-gull-1\n", "policy accept", "ct state established,related accept",
		`ip daddr 10.1.0.1 tcp dport 2380 ip saddr { 10.1.0.2, 10.2.0.1 } accept comment "peer of store-1"`, `ip daddr 10.1.0.1 tcp dport 2380 counter drop`, `ip6 daddr fd00::1 tcp dport 2379 counter drop`} {
		if !strings.Contains(store, want) {
			t.Errorf("there is no %q in\n%s", want, store)
		}
	}
	if strings.Contains(desk, "dport 80 ") || !strings.Contains(desk, "ip daddr 10.2.0.1 tcp dport 81 counter drop") || strings.Contains(desk, "saddr") {
		t.Errorf("clients, and nobody, are let in to the desk:\n%s", desk)
	}
	if rules["gull-1"].Digest() == rules["gull-2"].Digest() || rules["gull-1"].Digest() != RulesOf("quay", quay())["gull-1"].Digest() {
		t.Error("digests tell nothing")
	}
	moved := quay()
	moved.Addresses["tern-1"] = []string{"10.2.0.9"}
	if RulesOf("quay", moved)["gull-1"].Digest() == rules["gull-1"].Digest() {
		t.Error("another caller is the same")
	}
	for name, r := range rules {
		if err := r.Valid(); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestWhatWouldSaySomethingElseIsRefused(t *testing.T) {
	for what, change := range map[string]func(*filter.Rules){
		"another table": func(r *filter.Rules) { r.Table = "filter" }, "more in its name": func(r *filter.Rules) { r.Table = "lanternfield-x; flush ruleset" }, "an address": func(r *filter.Rules) { r.Ports[0].From = []string{"0.0.0.0/0 } accept; #"} },
		"a name": func(r *filter.Rules) { r.Ports[0].Name = `x" accept` }, "a member": func(r *filter.Rules) { r.Ports[0].Member = "x\n" }, "a port": func(r *filter.Rules) { r.Ports[0].Port = 0 }, "its own address": func(r *filter.Rules) { r.Ports[0].At = []string{""} },
	} {
		r := RulesOf("quay", quay())["gull-1"]
		if change(&r); r.Valid() == nil {
			t.Errorf("%s is taken:\n%s", what, r.Script())
		}
	}
}

// TestNftTakesTheRules has nft read what is written, twice, and restrict what it says, in a network of its own.
func TestNftTakesTheRules(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("rules are made by root")
	}
	script := RulesOf("quay", quay())["gull-1"].Script()
	if err := exec.Command("unshare", "-n", "nft", "list", "ruleset").Run(); err != nil {
		t.Skipf("no network of its own can be had here, or no nft: %v", err)
	}
	cmd := exec.Command("unshare", "-n", "nft", "-c", "-f", "-")
	cmd.Stdin = strings.NewReader(script + script)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Errorf("%v: %s\n%s", err, out, script)
	}
}
