package e2e

import (
	"fmt"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"time"
)

// invited asks for an invitation and gives the command that is typed on the machine.
func (x *trial) invited(args ...string) (id, command string) {
	x.Helper()
	out := x.must(append([]string{"invite", x.file}, args...)...)
	command = regexp.MustCompile(`(?m)^  (curl .*)$`).FindString(out)
	revoke := regexp.MustCompile("invite revoke ([0-9a-f]+)").FindStringSubmatch(out)
	if command == "" || revoke == nil {
		x.Fatalf("no invitation:\n%s", out)
	}
	return revoke[1], strings.TrimSpace(command)
}

// typed runs a command on the machine, as its root, and gives what it says and whether it went well.
func (m *machine) typed(command string) (out string, ok bool) {
	m.all.Helper()
	cmd := exec.Command("timeout", "60", "nsenter", "-t", m.first(), "-m", "-n", "-p", "--root", "env", "-C", "/", "HOME=/root", "sh", "-c", command)
	text, err := cmd.CombinedOutput()
	return string(text), err == nil
}

// TestAMachineJoinsByInvitation has a field of two hosts take in machines that only their operators can reach: what is typed there is what was printed. One of
// them takes a member, its agent is killed, replaced by another release, brought back by the same command; then it leaves, and nothing of ours is on it.
func TestAMachineJoinsByInvitation(t *testing.T) {
	hosts := newMachines(t, 4)
	two, guest, other := hosts.list[:2], hosts.list[2], hosts.list[3]
	file := func(members int, skua string) string {
		return fmt.Sprintf(`format: 1
field: far-quay
ground: {kind: ssh, user: root, key: %s}
nodes:
  - {name: gull-1, zone: quay, address: %s}
  - {name: gull-2, zone: quay, address: %s}
%sroles:
  bell: {members: %d, program: {command: [sleep, "1000000"]}}
`, hosts.key, two[0].address, two[1].address, skua, members)
	}
	skua := "  - {name: skua, zone: far, ground: {kind: join}}\n"
	x := newTrial(t, file(2, ""))
	x.must("nodes", "accept", x.file, "--accept-new")
	if out, code := x.try(time.Minute, "invite", x.file); code == 0 || !strings.Contains(out, "is not deployed, so there is nothing to invite a machine to") {
		t.Errorf("a machine is invited to what is not there: %d %s", code, out)
	}
	x.must("deploy", x.file, "--yes", "--timeout", "60s")
	if out, code := x.try(time.Minute, "invite", x.file); code == 0 || !strings.Contains(out, "no node of the field comes by invitation") {
		t.Errorf("a machine is invited where none is waited for: %d %s", code, out)
	}

	// The node is deployed first, without a member on it; then its machine joins, and is on the board within a second.
	x.write(file(2, skua))
	x.contains(x.must("check", x.file), "nothing found")
	x.contains(x.must("deploy", x.file, "--yes", "--timeout", "60s"), "converged")
	if out, code := x.try(time.Minute, "check", x.file, "--nodes"); code == 0 || !strings.Contains(out, "skua, reachable: no machine has joined as it yet") || !strings.Contains(out, "`lanternfield invite --node skua`, or i in the view of nodes, prints what to run on it") {
		t.Errorf("a node without a machine is ready: %d %s", code, out)
	}
	id, command := x.invited("--node", "skua")
	x.contains(x.must("invite", "list", x.file), id, "skua", "1 of 1")
	there := make(chan time.Time, 1)
	go func() {
		for range 3000 {
			if s := x.status(); s.node("skua").Address != "" {
				there <- time.Now()
				return
			}
			time.Sleep(20 * time.Millisecond)
		}
		there <- time.Time{}
	}()
	out, ok := guest.typed(command)
	began := time.Now()
	if !ok || !strings.Contains(out, "This machine is skua of far-quay now, at "+guest.address) {
		t.Fatalf("%s\n%s", command, out)
	}
	if at := <-there; at.IsZero() || at.Sub(began) > time.Second {
		t.Errorf("it is on the board %v after the command has ended", at.Sub(began))
	}
	x.until("an invitation for one lets nobody else in, and the door is shut", 10*time.Second, func() bool { // which takes a moment
		out, ok := other.typed(command)
		if ok {
			t.Fatalf("an invitation for one lets another in: %s", out)
		}
		return strings.Contains(out, "onnect to "+hosts.subnet+".254")
	})
	x.contains(x.must("check", x.file, "--nodes"), "nothing stands in the way of deploying")

	// It takes a member.
	x.write(file(3, skua))
	x.contains(x.must("deploy", x.file, "--yes", "--timeout", "60s"), "converged")
	bell := x.status().member("bell-3")
	if bell.Node != "skua" || bell.Phase != "ready" {
		t.Fatalf("%+v", bell)
	}
	if listens := strings.Fields(guest.run(`ss -Hltn | awk '{print $4}' | sed 's/.*://' | sort -un`)); strings.Join(listens, " ") != "22 7800" {
		t.Errorf("the machine listens at %v", listens)
	}

	// Its agent is another release, and replaces itself; the member goes on.
	const agent = "/var/lib/lanternfield/far-quay/skua/bin/lanternfield-agent"
	sum := func() string { return guest.run("sha256sum <" + agent) }
	carried := sum()
	guest.run(`cd $(dirname ` + agent + `); cp lanternfield-agent older; printf older >> older; mv older lanternfield-agent; ` +
		`for p in /proc/[0-9]*; do if tr '\0' ' ' <$p/cmdline 2>/dev/null | grep -q 'lanternfield-agen[t] agent --dir'; then kill -9 ${p#/proc/}; fi; done; true`)
	x.until("its agent is the one that is carried", 40*time.Second, func() bool {
		x.try(10*time.Second, "run", x.file, "bell-3", "--", "true")
		x.try(20*time.Second, "deploy", x.file, "--yes", "--timeout", "10s")
		return sum() == carried
	})
	if m := x.status().member("bell-3"); m.PID != bell.PID {
		t.Errorf("its member was started again: process %d was %d", m.PID, bell.PID)
	}

	// What its agent shows is revoked: it is spoken with no more, until the machine is invited again. On a host that is reached by SSH it has a successor at once.
	if out, code := x.try(time.Minute, "trust", "revoke", x.file, "skua", "--yes"); code != 1 || !strings.Contains(out, "1 agent cannot be reached") || !strings.Contains(out, "its certificate was revoked") {
		t.Errorf("a machine that has joined is spoken with after its agent was revoked: %d %s", code, out)
	}
	host := x.status().member("bell-1")
	x.contains(x.must("trust", "revoke", x.file, string(host.Node), "--yes"), "The agent of "+string(host.Node)+" has another key")
	if m := x.status().member("bell-1"); m.PID != host.PID {
		t.Errorf("a member was started again as its agent was revoked: process %d was %d", m.PID, host.PID)
	}
	_, command = x.invited("--node", "skua")
	if out, ok := guest.typed(command); !ok || !strings.Contains(out, "This machine is skua of far-quay now") {
		t.Fatal(out)
	}
	x.until("its agent has another key", 20*time.Second, func() bool {
		out, code := x.try(20*time.Second, "trust", x.file)
		return code == 0 && strings.Contains(out, "3 of 3 agents show certificates that count")
	})
	x.until("its member is heard of", 20*time.Second, func() bool { return x.status().member("bell-3").Phase == "ready" })
	if m := x.status().member("bell-3"); m.PID != bell.PID {
		t.Errorf("its member was started again: %+v", m)
	}

	// The machine is started again, without systemd: the command of a new invitation brings it back.
	guest.halt()
	guest.bring(binary, "/usr/local/bin/lanternfield")
	guest.boot()
	guest.answers()
	x.until("it is out of reach", 30*time.Second, func() bool {
		x.try(20*time.Second, "deploy", x.file, "--yes", "--timeout", "2s")
		return x.status().member("bell-3").Phase == "unknown"
	})
	_, command = x.invited("--node", "skua")
	join := regexp.MustCompile(`LANTERNFIELD_INVITATION='.*?'`).FindString(command) + " lanternfield join"
	if out, ok := guest.typed(strings.Replace(join, "='lf1.", "='lf1.A", 1)); ok || !strings.Contains(out, "this invitation is not whole") {
		t.Errorf("a damaged invitation is taken: %s", out)
	}
	if out, ok := other.typed(command); ok || !strings.Contains(out, "skua is another machine") {
		t.Errorf("another machine takes the place of one that is away: %s", out)
	}
	if out, ok := guest.typed(join); !ok || !strings.Contains(out, "This machine is skua of far-quay now") {
		t.Fatal(out)
	}
	x.until("its member runs again", 30*time.Second, func() bool { m := x.status().member("bell-3"); return m.Phase == "ready" && m.PID != bell.PID })

	// It leaves.
	x.write(file(2, ""))
	x.contains(x.must("deploy", x.file, "--yes", "--timeout", "60s"), "converged")
	x.until("nothing is left on it", 20*time.Second, func() bool { return guest.left() == "" })
	if left := other.left(); left != "" {
		t.Errorf("on a machine that was not let in is left:\n%s", left)
	}
	x.contains(x.must("journal", x.file), "joins as skua by the invitation "+id, "skua is free: its agent has ended and its folder is gone")
	x.must("retire", x.file, "--yes")
	for i, m := range two {
		if left := m.left(); left != "" {
			t.Errorf("on host %d is left:\n%s", i+1, left)
		}
	}
}
