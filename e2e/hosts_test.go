package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"
)

// onHosts has the nodes of a field file be machines.
func (x *machines) onHosts(content string, nodes ...string) string {
	x.Helper()
	a, b := strings.Index(content, "\nnodes:"), strings.Index(content, "\nroles:")
	if a < 0 || b < a {
		x.Fatal("the file has no nodes")
	}
	var text strings.Builder
	fmt.Fprintf(&text, "\nrules: managed\nground: {kind: ssh, user: root, key: %s}\nnodes:\n", x.key)
	for i, n := range nodes {
		name, zone, _ := strings.Cut(n, " ")
		fmt.Fprintf(&text, "  - {name: %s, zone: %s, address: %s}\n", name, zone, x.list[i].address)
	}
	return content[:a] + text.String() + content[b:]
}

// connectionsAreForeseen compares the connections that there are between hosts with those that flows lists.
func (x *trial) connectionsAreForeseen(hosts *machines) {
	x.Helper()
	var said struct {
		Flows []struct {
			Paths []struct {
				From, To string
				At       struct {
					Address string
					Port    int
				}
			}
		}
	}
	if err := json.Unmarshal([]byte(x.must("flows", x.file, "--json")), &said); err != nil {
		x.Fatal(err)
	}
	nodes, foreseen := map[string]string{}, map[string]bool{}
	for _, n := range x.status().Nodes {
		nodes[n.Address] = n.Node
	}
	for _, f := range said.Flows {
		for _, p := range f.Paths {
			foreseen[fmt.Sprintf("%s→%s:%d", p.From, p.At.Address, p.At.Port)] = true
		}
	}
	ports := map[string]bool{}
	for _, m := range x.status().Members {
		for _, n := range m.Ports {
			ports[fmt.Sprintf("%s:%d", m.Address, n)] = true
		}
	}
	seen := 0
	for _, m := range hosts.list {
		for line := range strings.Lines(m.run("ss -Htn state established")) {
			f := strings.Fields(line)
			if len(f) < 4 || !ports[f[3]] || strings.HasPrefix(f[3], m.address+":") {
				continue
			}
			seen++
			if open := nodes[m.address] + "→" + f[3]; !foreseen[open] {
				x.Errorf("there is a connection that flows does not list: %s", open)
			}
		}
	}
	if seen < 6 {
		x.Errorf("only %d connections between hosts were seen", seen)
	}
}

var harbourNodes = []string{"gull-1 north-quay", "gull-2 north-quay", "tern-1 south-quay", "tern-2 south-quay", "skua-1 lighthouse", "skua-2 lighthouse"}

// TestHostsOverSSH brings a field of real systems up on six hosts in three zones, cuts a zone off, heals it, and starts a host again.
func TestHostsOverSSH(t *testing.T) {
	t.Parallel()
	hosts := newMachines(t, 6)
	x := newTrial(t, hosts.onHosts(example(t, "../examples/harbour-desk.field.yaml"), harbourNodes...))
	if out, code := x.try(time.Minute, "deploy", x.file, "--yes"); code != 2 || !strings.Contains(out, "6 of 6 hosts cannot be taken") || !strings.Contains(out, "nodes accept") {
		t.Fatalf("hosts that nobody has confirmed are taken: %d\n%s", code, out)
	}
	x.contains(x.must("nodes", "accept", x.file, "--accept-new"), "gull-1: the key of root@"+hosts.list[0].address+" is accepted: ssh-ed25519 SHA256:")
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(x.try(time.Minute, "journal", x.file, "--last", "40"))
			out, _ := x.try(time.Minute, "status", x.file)
			t.Log(out)
			for _, m := range hosts.list {
				if m.init == nil {
					continue
				}
				t.Log(m.run("tail -n 15 /var/lib/lanternfield/*/*/agent/agent.log /var/lib/lanternfield/*/*/agent/logs/*; true"))
			}
		}
	})
	x.contains(x.must("deploy", x.file, "--yes", "--timeout", "150s"), "harbour-desk is converged after", "and 6 proofs hold")

	berths := x.access("berths")
	writes := func(ship string) bool {
		return exec.Command("timeout", "5", "psql", "-X", berths.url, "-Atqc", fmt.Sprintf("insert into berth values ('%s')", ship)).Run() == nil
	}
	if out, err := exec.Command("psql", "-X", berths.url, "-Atqc", "create table berth (ship text)").CombinedOutput(); err != nil {
		t.Fatalf("psql: %v %s", err, out)
	}
	for i, m := range hosts.list {
		listens := strings.Fields(m.run(`ss -Hltn | awk '{print $4}' | sed 's/.*://' | sort -un`))
		for _, p := range x.status().Members {
			for _, n := range p.Ports {
				if p.Address == m.address {
					listens = slices.DeleteFunc(listens, func(l string) bool { return l == fmt.Sprint(n) })
				}
			}
		}
		if strings.Join(listens, " ") != "22 7800" {
			t.Errorf("host %d listens besides its members' ports at %v", i+1, listens)
		}
	}

	x.connectionsAreForeseen(hosts)
	x.until("all packet filters let in what the topology says", 30*time.Second, func() bool {
		return strings.Count(x.must("journal", x.file), "of members who calls them alone") >= 5
	})
	x.contains(x.must("prove", x.file), "holds")

	// A zone is cut off: what is shown is what clients see, and what was said before would come of it.
	s := newScreen(t, x, 200, 60, "open", x.file)
	s.has("converged")
	s.until("the cursor is on the zone", func(text string) bool {
		if strings.Contains(text, "If north-quay failed") {
			return true
		}
		s.press("Up")
		if !strings.Contains(text, "what if: move to choose") {
			s.press("w")
		}
		return false
	})
	foretold := regexp.MustCompile(`If north-quay failed: (\d+) lanterns would go dark`).FindStringSubmatch(s.text())
	s.has("lookout would have nobody left to do its work")
	s.press("Escape")
	zone := hosts.list[:2]
	for _, m := range zone {
		m.cutOff(zone...)
	}
	x.until("both nodes are said to be out of reach", 20*time.Second, func() bool {
		return x.status().member("lookout-1").Phase == "unknown" && x.status().member("berths-1").Phase == "unknown"
	})
	x.until("clients write again", 30*time.Second, func() bool { return writes("gannet") })
	x.until("what is shown is what clients see", 30*time.Second, func() bool {
		for _, r := range x.status().Roles {
			if r.Ready != map[string]int{"tariffs": 2, "arrivals": 2, "berths": 2, "desk": 2, "lookout": 0}[r.Role] {
				return false
			}
		}
		return true
	})
	total := len(x.status().Members)
	s.has(fmt.Sprintf("%d of %d lit", total-atoi(t, foretold[1]), total), "lookout has nobody left to do its work")
	s.press("q")
	// Meanwhile another authority is to take the place of the one of agents: those that are away are waited for.
	served := x.status().member("berths-2").PID
	if out, code := x.try(time.Minute, "trust", "rotate", "--agents", x.file, "--yes", "--timeout", "8s"); code != 1 || !strings.Contains(out, "Not done after 8.0 s: gull-1: ") || strings.Contains(out, "skua-1") {
		t.Errorf("agents that are away have moved to another authority: %d %s", code, out)
	}
	x.contains(x.must("trust", x.file), "4 of 6 agents show certificates that count", "Another authority is taking the place")
	for _, m := range zone {
		m.heal()
	}
	x.until("the field is whole again", time.Minute, func() bool { return x.status().State == "converged" })
	x.until("all agents have moved", 30*time.Second, func() bool {
		out := x.must("trust", x.file)
		return strings.Contains(out, "6 of 6 agents show certificates that count") && !strings.Contains(out, "Another authority is taking the place")
	})
	if now := x.status().member("berths-2").PID; now != served {
		t.Errorf("a member was started again as its agent moved: process %d was %d", now, served)
	}

	// A host is started again: all its processes have ended. Whoever keeps the field brings everything back. (Where systemd runs, the agent's unit does, with
	// nobody there.)
	serving, stop := context.WithCancel(context.Background())
	serve := x.command(serving, "serve", x.file)
	serve.Cancel = func() error { return serve.Process.Signal(syscall.SIGTERM) }
	if err := serve.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		stop()
		_ = serve.Wait()
	}()
	host := hosts.list[3]
	before := x.status().member("desk-1").PID
	host.halt()
	x.until("it is said to be out of reach", 20*time.Second, func() bool { return x.status().member("desk-1").Phase == "unknown" })
	host.boot()
	x.until("it comes back by itself", 90*time.Second, func() bool {
		s := x.status()
		return s.State == "converged" && s.member("desk-1").PID != before
	})
	if !writes("tern") {
		t.Error("clients do not write after that")
	}

	stop()
	_ = serve.Wait()

	// A host is gone for good. The retire waits for it until a person says so, and does not claim that nothing is left there.
	gone := hosts.list[5]
	gone.halt()
	var out strings.Builder
	retire := x.command(context.Background(), "retire", x.file, "--yes", "--timeout", "90s")
	retire.Stdout, retire.Stderr = &out, &out
	if out, code := x.try(20*time.Second, "nodes", "lost", x.file, "gull-1", "--yes"); code != 2 || !strings.Contains(out, "gull-1 can be reached, so nothing has to be given up") {
		t.Errorf("a host that answers is given up: %d %s", code, out)
	}
	if err := retire.Start(); err != nil {
		t.Fatal(err)
	}
	x.until("it counts as gone", 40*time.Second, func() bool {
		_, code := x.try(20*time.Second, "nodes", "lost", x.file, "skua-2", "--yes")
		return code == 0
	})
	if err := retire.Wait(); retire.ProcessState.ExitCode() != 1 {
		t.Errorf("the retire ended with %v", err)
	}
	x.contains(out.String(), "NOT CONFIRMED  skua-2: it is gone for good, as lanternfield nodes lost says, and nothing was looked for on it", "harbour-desk is retired")
	for i, m := range hosts.list[:5] {
		if left := m.left(); left != "" {
			t.Errorf("on host %d is left:\n%s", i+1, left)
		}
	}
}

// TestHostsBehindAnother reaches a host through another one, which alone can be reached: its agent is spoken to in a tunnel through SSH. The agent is killed,
// replaced by that of another release while its member goes on, and does not obey whoever cannot show that he is its controller.
func TestHostsBehindAnother(t *testing.T) {
	t.Parallel()
	hosts := newMachines(t, 2)
	gate, behind := hosts.list[0], hosts.list[1]
	behind.cutOff(gate)
	x := newTrial(t, fmt.Sprintf(`format: 1
field: far-quay
ground: {kind: ssh, user: root, key: %s, through: "root@%s", folder: /srv/quay}
nodes: [{name: gull-1, address: %s}]
roles:
  it: {members: 1, program: {command: [sleep, "1000000"]}}
`, hosts.key, gate.address, behind.address))
	// On the screen: the key of the gate is shown, then that of the host behind it; then everything is well.
	s := newScreen(t, x, 160, 40, "open", x.file)
	s.has("Nothing runs yet")
	s.press("6")
	for _, host := range []string{gate.address, behind.address} {
		s.has("1 of 1 node not ready", "root@"+host+" shows a host key that nobody has confirmed yet", "the keys of new hosts")
		s.press("y")
		s.has("Are these the keys of the host?", "gull-1 root@"+host+" ssh-ed25519 SHA256:")
		s.press("y")
	}
	s.has("nothing stands in the way of deploying", "a host reached by SSH · at "+behind.address)
	s.press("q")
	x.must("deploy", x.file, "--yes", "--timeout", "60s")
	pid := x.status().member("it-1").PID
	x.contains(x.must("run", x.file, "it-1", "--", "pwd"), "/srv/quay/far-quay/gull-1/members/it-1")
	if out := behind.run("ss -Hltn | grep -c ':7800 '; ls /srv/quay/far-quay/gull-1/bin"); !strings.HasPrefix(out, "1\nlanternfield-agent\nlanternfield-guard") {
		t.Errorf("on the host: %s", out)
	}

	// The agent is killed, and comes back; then it is another release.
	agent := func() string {
		return strings.TrimSpace(behind.run(`exec 2>/dev/null; for p in /proc/[0-9]*; do tr '\0' ' ' <$p/cmdline | grep -q 'lanternfield-agen[t] agent --dir' && echo ${p#/proc/}; done; true`))
	}
	first := agent()
	behind.run("kill -9 " + first)
	x.until("another agent runs", 20*time.Second, func() bool { a := agent(); return a != "" && a != first })
	answers := func() bool {
		_, code := x.try(10*time.Second, "run", x.file, "it-1", "--", "true")
		return code == 0
	}
	x.until("it answers", 20*time.Second, answers)
	second := agent()
	sum := func() string { return behind.run("sha256sum </srv/quay/far-quay/gull-1/bin/lanternfield-agent") }
	carried := sum()
	behind.run(`cd /srv/quay/far-quay/gull-1/bin; cp lanternfield-agent older; printf older >> older; mv older lanternfield-agent; kill -9 ` + second)
	x.until("it is replaced, and answers", 40*time.Second, func() bool { // by whoever keeps the field, which is nobody once there is nothing to do
		x.try(20*time.Second, "deploy", x.file, "--yes", "--timeout", "10s")
		return sum() == carried && answers()
	})
	if m := x.status().member("it-1"); m.PID != pid {
		t.Errorf("its member was started again: process %d was %d", m.PID, pid)
	}

	// Another field of the same name cannot take the folder over.
	content, err := os.ReadFile(x.file)
	if err != nil {
		t.Fatal(err)
	}
	other := newTrial(t, string(content))
	other.must("nodes", "accept", other.file, "--accept-new")
	if out, code := other.try(40*time.Second, "deploy", other.file, "--yes", "--timeout", "15s"); code == 0 || !strings.Contains(out, "has another field far-quay that has a node gull-1 there, in /srv/quay; retire that one, or give this field another name") {
		t.Errorf("two fields of one name share a folder: %d %s", code, out)
	}
	other.clean()
	if m := x.status().member("it-1"); m.PID != pid || m.Phase != "ready" {
		t.Errorf("the first is disturbed: %+v", m)
	}

	// The operator's machine is lost: another one, with the field file and the owner's key, goes on from what the agent keeps on the host.
	x.alone()
	if err := os.RemoveAll(filepath.Join(x.state, "far-quay")); err != nil {
		t.Fatal(err)
	}
	if out, code := x.try(time.Minute, "restore", "--from-hosts", x.file); code == 0 || !strings.Contains(out, "nothing has been accepted") {
		t.Errorf("hosts that nobody has confirmed are believed: %d %s", code, out)
	}
	x.contains(x.must("restore", "--from-hosts", x.file, "--accept-new"), "far-quay is put back in", "It had 1 member on 1 node")
	if entries, _ := filepath.Glob(filepath.Join(x.state, ".asking-*")); len(entries) > 0 {
		t.Errorf("%v is left", entries)
	}
	x.must("deploy", x.file, "--yes", "--timeout", "60s", "--take-over", "far-quay") // a keeper may have come after the copy was made
	if m := x.status().member("it-1"); m.PID != pid || m.Phase != "ready" {
		t.Errorf("after it was restored: %+v", m)
	}
	x.must("retire", x.file, "--yes")
	for _, m := range hosts.list {
		if left := m.left(); left != "" && !strings.Contains(left, "table inet cut") {
			t.Errorf("left on %s: %s", m.address, left)
		}
	}
}
