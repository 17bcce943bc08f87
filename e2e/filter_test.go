package e2e

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/core/filter"
	"lanternfield/internal/identity"
)

// connects tells whether a machine can connect to an address.
func (m *machine) connects(to string, port int) bool {
	m.all.Helper()
	return m.run(fmt.Sprintf(`python3 -c 'import socket
try: socket.create_connection(("%s",%d),1.5).close(); print("yes")
except OSError: print("no")'`, to, port)) == "yes\n"
}

// TestPacketFiltersLetInWhatTheTopologySays has the rules of three hosts follow who calls whom: a stranger is kept out of what is not for clients, rules of others are left alone, rules that
// nobody confirms are taken back whatever becomes of the agent, and all of it goes when it is not wanted any longer.
func TestPacketFiltersLetInWhatTheTopologySays(t *testing.T) {
	hosts := newMachines(t, 4)
	one, two, three, stranger := hosts.list[0], hosts.list[1], hosts.list[2], hosts.list[3]
	x := newTrial(t, fmt.Sprintf(`format: 1
field: walled-quay
ground: {kind: ssh, user: root, key: %s}
nodes:
  - {name: gull-1, zone: near, address: %s}
  - {name: gull-2, zone: near, address: %s}
  - {name: gull-3, zone: far, address: %s}
roles:
  store: {kit: etcd, members: 3}
  lamp:
    members: 1
    program: {command: [python3, -m, http.server, '{{.Port "web"}}', --bind, '{{.Address}}'], ports: {web: {port: 8000}}}
  crews:
    members: 1
    calls: {lamp: lamp}
    program: {command: [sh, -c, sleep 1000000, '{{range .Calls "lamp"}}{{.URL "web"}} {{end}}']}
place:
  lamp: [gull-1]
  crews: [gull-2]
`, hosts.key, one.address, two.address, three.address))
	x.must("nodes", "accept", x.file, "--accept-new")
	x.contains(x.must("deploy", x.file, "--yes", "--timeout", "90s"), "walled-quay is converged")
	for _, port := range []int{8000, 2379, 2380} {
		if !stranger.connects(one.address, port) {
			t.Fatalf("nothing is managed, and a stranger cannot connect to port %d", port)
		}
	}
	one.run(`nft 'table inet others { chain in { type filter hook input priority 0; tcp dport 9 drop; }; }'`)

	x.edit("ground: {kind: ssh", "rules: managed\nground: {kind: ssh")
	x.contains(x.must("flows", x.file, "--nft"), "# gull-1", "table inet lanternfield-walled-quay-gull-1 {", `comment "web of lamp-1"`)
	x.contains(x.must("deploy", x.file, "--yes", "--timeout", "60s"), "converged")
	x.until("a stranger is kept out of the lamp, and of what the stores say to each other", 30*time.Second, func() bool {
		return !stranger.connects(one.address, 8000) && !stranger.connects(one.address, 2380) && !stranger.connects(three.address, 2380)
	})
	if !stranger.connects(one.address, 2379) || !two.connects(one.address, 8000) || !two.connects(one.address, 2380) || three.connects(one.address, 8000) {
		t.Errorf("clients %t, who calls %t, stores %t, who does not call %t", stranger.connects(one.address, 2379), two.connects(one.address, 8000), two.connects(one.address, 2380), three.connects(one.address, 8000))
	}
	if s := x.status(); s.State != "converged" {
		t.Errorf("with the rules: %s", s.Verdict)
	}
	x.contains(x.must("journal", x.file), "the packet filter of gull-1 lets in to", "ports of members who calls them alone")
	x.contains(x.must("ledger", x.file), "a table of the packet filter, lanternfield-walled-quay-gull-1")

	// Who calls has moved: the rules follow.
	x.edit("  crews: [gull-2]", "  crews: [gull-3]")
	x.contains(x.must("deploy", x.file, "--yes", "--timeout", "60s"), "converged")
	x.until("the rules follow", 30*time.Second, func() bool { return three.connects(one.address, 8000) && !two.connects(one.address, 8000) })

	// The table is gone, as after a start of the machine: the agent that is started puts it there again.
	one.run("nft delete table inet lanternfield-walled-quay-gull-1; for p in /proc/[0-9]*; do if tr '\\0' ' ' <$p/cmdline 2>/dev/null | grep -q 'lanternfield-agen[t] agent --dir'; then kill -9 ${p#/proc/}; fi; done; true")
	x.until("the agent has put the rules in force again", 30*time.Second, func() bool { return !stranger.connects(one.address, 8000) })

	// Rules that nobody confirms are taken back, also where the agent is dead meanwhile.
	authority, err := identity.Parse([]byte(x.keyring().Authority()))
	if err != nil {
		t.Fatal(err)
	}
	us, err := authority.Controller()
	if err != nil {
		t.Fatal(err)
	}
	agent := agentapi.NewClient("https://"+one.address+":7800", us.To("gull-1"), nil)
	defer agent.Close()
	everybodyOut := filter.Rules{Table: filter.TableOf("walled-quay", "gull-1"), Ports: []filter.Port{{Port: 2379, At: []string{one.address}, Member: "store-1", Name: "client"}}}
	x.until("the agent takes other rules", 20*time.Second, func() bool { return agent.SetRules(context.Background(), everybodyOut, 4*time.Second) == nil })
	if stranger.connects(one.address, 2379) {
		t.Error("rules are not in force before they are confirmed")
	}
	one.run("for p in /proc/[0-9]*; do if tr '\\0' ' ' <$p/cmdline 2>/dev/null | grep -q 'lanternfield-agen[t] \\(agent\\|supervise\\) --dir'; then kill -9 ${p#/proc/}; fi; done; true")
	x.until("they are taken back", 20*time.Second, func() bool { return stranger.connects(one.address, 2379) })
	if stranger.connects(one.address, 8000) {
		t.Error("with them those that counted are gone")
	}
	x.until("the agent is back", 30*time.Second, func() bool {
		x.try(20*time.Second, "deploy", x.file, "--yes", "--timeout", "10s")
		return x.status().State == "converged"
	})
	if err := agent.ConfirmRules(context.Background(), everybodyOut.Digest()); err == nil {
		t.Error("what was taken back is confirmed")
	}
	if err := agent.SetRules(context.Background(), filter.Rules{Table: "others"}, time.Second); err == nil || !strings.Contains(err.Error(), "is no table of ours") {
		t.Errorf("a table of others is taken: %v", err)
	}

	// They are not wanted any longer.
	x.edit("rules: managed\n", "")
	x.must("deploy", x.file, "--yes", "--timeout", "60s")
	x.until("everybody is let in again", 30*time.Second, func() bool {
		return stranger.connects(one.address, 8000) && stranger.connects(three.address, 2380)
	})
	if got := one.run("nft list tables"); got != "table inet others\n" {
		t.Errorf("the tables are %s", got)
	}
	one.run("nft delete table inet others")
	x.edit("ground: {kind: ssh", "rules: managed\nground: {kind: ssh")
	x.must("deploy", x.file, "--yes", "--timeout", "60s")
	x.until("they are wanted again", 30*time.Second, func() bool { return !stranger.connects(two.address, 2380) })
	x.must("retire", x.file, "--yes")
	for i, m := range hosts.list {
		if left := m.left(); left != "" {
			t.Errorf("on host %d is left:\n%s", i+1, left)
		}
	}
}
