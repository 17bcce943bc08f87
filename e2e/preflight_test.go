package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// preflight is what check --nodes tells.
type preflight struct {
	OK    bool `json:"ok"`
	Paths int  `json:"paths"`
	Nodes []struct {
		Node   string `json:"node"`
		Checks map[string]struct {
			Verdict  string `json:"verdict"`
			Problems []struct {
				Why string `json:"why"`
				Do  string `json:"do"`
			} `json:"problems"`
		} `json:"checks"`
	} `json:"nodes"`
}

func (x *trial) preflight() (p preflight) {
	x.Helper()
	out, _ := x.try(2*time.Minute, "check", x.file, "--nodes", "--json")
	if err := json.Unmarshal([]byte(out), &p); err != nil {
		x.Fatalf("%v in %s", err, out)
	}
	return p
}

// why gives what fails of a check of a node.
func (p preflight) why(node, check string) string {
	var said []string
	for _, n := range p.Nodes {
		if n.Node == node {
			for _, x := range n.Checks[check].Problems {
				said = append(said, x.Why+"; "+x.Do)
			}
			if len(said) == 0 {
				return n.Checks[check].Verdict
			}
		}
	}
	return strings.Join(said, "\n")
}

// TestWhatSpeaksAgainstHosts has ten hosts that each fail in another way: each is found before anything is done there, with its reason and what to do. When
// that has been done, the same field is deployed.
func TestWhatSpeaksAgainstHosts(t *testing.T) {
	t.Parallel()
	hosts := newMachines(t, 10)
	m := hosts.list
	var nodes strings.Builder
	for i := range m {
		more := ""
		if i == 9 {
			more = ", ground: {user: harbour, sudo: always}"
		}
		fmt.Fprintf(&nodes, "  - {name: gull-%d, address: %s%s}\n", i+1, m[i].address, more)
	}
	x := newTrial(t, fmt.Sprintf(`format: 1
field: lone-quay
ground: {kind: ssh, user: root, key: %s}
nodes:
%sroles:
  store: {kit: etcd, members: 3, spread: none}
  books: {external: {addresses: ["books.invalid:5432"]}}
  bell: {members: 1, calls: {books: books}, program: {command: [sleep, "1000000"]}}
place:
  bell: [gull-2]
  store: [gull-1, gull-2, gull-3]
`, hosts.key, nodes.String()))
	x.must("nodes", "accept", x.file, "--accept-new")
	m[9].run("useradd -m harbour && echo harbour:low-tide | chpasswd; printf '#!/bin/sh\necho sudo: a password is required >&2; exit 1\n' > /usr/local/bin/sudo; chmod 755 /usr/local/bin/sudo")

	bring := exec.Command("script", "-qec", fmt.Sprintf("%s nodes bring-key --state %s %s gull-10 gull-1", binary, x.state, x.file), "/dev/null") // which gives it a terminal
	bring.Stdin = strings.NewReader("low-tide\n")
	if out, err := bring.CombinedOutput(); err != nil || !strings.Contains(string(out), "gull-10 lets the key in from now on") || !strings.Contains(string(out), "gull-1 lets the key in already") {
		t.Errorf("a key is brought by a password: %v %s", err, out)
	}

	x.contains(x.must("ledger", x.file), "gull-10", "the key SHA256:", "by which harbour@"+m[9].address+" lets us in", "in use")

	m[0].run("(setsid python3 -m http.server 2379 >/dev/null 2>&1 </dev/null &) ; for i in $(seq 100); do ss -Hltn | grep -q :2379 && exit; sleep 0.05; done; exit 1")
	m[1].run(fmt.Sprintf("nft 'table inet wall { chain in { type filter hook input priority 0; ip saddr %s tcp dport 2380 drop; }; }'", m[2].address))
	m[2].run("mv /usr/bin/etcd /usr/bin/etcd-away")
	hosts.do("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(m[3].dir, "another"))
	m[3].halt()
	for _, f := range []string{"", ".pub"} {
		if err := os.Rename(filepath.Join(m[3].dir, "another"+f), filepath.Join(m[3].dir, "hostkey"+f)); err != nil {
			t.Fatal(err)
		}
	}
	m[3].boot()
	m[3].answers()
	m[4].run("mv /root/.ssh/authorized_keys /root/.ssh/away")
	if err := syscall.Kill(atoi(t, m[5].first()), syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	m[6].run(`printf '#!/bin/sh\ncase $1 in -m) echo riscv64;; *) exec /bin/uname "$@";; esac\n' > /usr/local/bin/uname; chmod 755 /usr/local/bin/uname`)
	m[7].halt()
	hosts.do("ip", "-n", m[7].name, "link", "set", "eth0", "down")
	m[8].run("mkdir -p /var/lib/lanternfield; mount -t tmpfs -o size=20m tmpfs /var/lib/lanternfield")

	wanted := []struct{ node, check, why, do string }{
		{"gull-1", "ports", "port 2379 of " + m[0].address + ", client of store-1, is taken by python3 of root, process ", "end that, or give store-1 another port"},
		{"gull-3", "paths", "store-3 on gull-3 cannot connect to store-2 on gull-2 at " + m[1].address + ":2380 (peer): no answer in time. The packet filter of gull-2 blocks it: table inet wall, chain in: ip saddr " +
			m[2].address + " tcp dport 2380 drop", "as root on gull-2: nft insert rule inet wall in ip saddr " + m[2].address + " tcp dport 2380 accept"},
		{"gull-3", "programs", `the program "etcd" is not installed`, "install etcd-server with apt-get: `lanternfield nodes mend gull-3` does that"},
		{"gull-2", "paths", "bell-1 on gull-2 can connect to 0 of books, which is outside, and 1 are needed: books.invalid:5432: ", "does the host know its name"},
		{"gull-4", "host key", "shows another host key than before: ssh-ed25519 SHA256:", "somebody stands in between"},
		{"gull-5", "login", "does not let root in; it was offered the key in " + hosts.key, "authorized_keys of root there"},
		{"gull-6", "reachable", "accepts a connection and does not finish the login within 10 s", "has the host room to answer?"},
		{"gull-7", "host", "has another architecture: this lanternfield carries no agent for linux/riscv64", "take another host"},
		{"gull-8", "reachable", "cannot be reached: connect to " + m[7].address + ":22: ", "is it on, and is the address right?"},
		{"gull-9", "host", "has 20 MiB free where /var/lib/lanternfield lies, and 128 MiB are needed", "say another `folder:`"},
		{"gull-10", "login", "does not let harbour become root without a password", "/etc/sudoers.d"},
	}
	p := x.preflight()
	for _, w := range wanted {
		if got := p.why(w.node, w.check); p.OK || !strings.Contains(got, w.why) || !strings.Contains(got, w.do) {
			t.Errorf("%s, %s: %s\nwant %s; %s", w.node, w.check, got, w.why, w.do)
		}
	}
	if got := p.why("gull-1", "paths"); got != "good" {
		t.Errorf("the paths of gull-1: %s", got)
	}
	if err := syscall.Kill(atoi(t, m[5].first()), syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	hosts.do("ip", "-n", m[7].name, "link", "set", "eth0", "up")
	m[7].boot()
	m[7].answers()
	out, code := x.try(2*time.Minute, "deploy", x.file, "--yes")
	if code != 2 {
		t.Errorf("it is deployed: %d", code)
	}
	x.contains(out, "5 of 10 hosts cannot be taken; nothing has been changed", "  gull-4: ", "  gull-5: ", "  gull-7: ", "  gull-9: ", "  gull-10: ")

	// What is offered is done.
	m[3].answers()
	if out, code := x.try(time.Minute, "nodes", "accept", x.file, "--accept-new"); code != 1 || !strings.Contains(out, "somebody stands in between") && !strings.Contains(out, "shows another host key") {
		t.Errorf("a changed key is taken for a new one: %d %s", code, out)
	}
	x.contains(x.must("nodes", "accept", x.file, "gull-4", "--changed", "--accept-new"), "gull-4: the key of root@"+m[3].address+" is accepted: ssh-ed25519")
	m[4].run("mv /root/.ssh/away /root/.ssh/authorized_keys")
	m[6].run("rm /usr/local/bin/uname")
	m[8].run("umount /var/lib/lanternfield")
	x.contains(x.must("nodes", "bring-key", "--take-back", x.file, "gull-10", "gull-1"), "to gull-1 no key was brought", "gull-10 does not let that key in any more")
	if keys := m[9].run("cat ~harbour/.ssh/authorized_keys"); keys != "" {
		t.Errorf("the key that was taken back is still there: %s", keys)
	}
	x.edit("{user: harbour, sudo: always}", "{user: root}")
	x.edit("books.invalid:5432", m[8].address+":22")
	out, code = x.try(2*time.Minute, "deploy", x.file, "--yes")
	if code != 2 {
		t.Errorf("it is deployed: %d", code)
	}
	x.contains(out, "nothing has been changed:", "gull-1, ports: port 2379", "gull-3, programs: store-3", "gull-3, paths: store-3 on gull-3 cannot connect to store-2")
	m[0].run("kill $(ss -Hltnp 'sport = :2379' | sed -n 's/.*pid=\\([0-9]*\\).*/\\1/p')")
	m[1].run("nft delete table inet wall")
	m[2].run("mv /usr/bin/etcd-away /usr/bin/etcd")
	for _, host := range m {
		host.remember()
	}
	if p := x.preflight(); !p.OK || p.Paths != 8 {
		t.Errorf("after all has been mended: %+v", p)
	}
	x.contains(x.must("deploy", x.file, "--yes", "--timeout", "90s"), "lone-quay is converged")
	if left := strings.TrimSpace(m[9].run("ls /tmp")); left != "" {
		t.Errorf("what looked at the host has left %s", left)
	}
	if out, code := x.try(time.Minute, "nodes", "bring-key", "--take-back", x.file); code == 0 || !strings.Contains(out, "is deployed, and may be reached by that key alone") {
		t.Errorf("keys are taken back by which hosts are reached: %d %s", code, out)
	}
	x.must("retire", x.file, "--yes")
	for i, host := range m {
		if left := host.left(); left != "" {
			t.Errorf("on host %d is left:\n%s", i+1, left)
		}
	}
}

func atoi(t *testing.T, text string) (n int) {
	t.Helper()
	if _, err := fmt.Sscan(text, &n); err != nil {
		t.Fatal(err)
	}
	return n
}
