package e2e

import (
	"fmt"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestManyHostsOfWhichSevenFail deploys onto hosts of which seven fail, each in another way: the others go on, and the seven are named with reason and
// remedy. Then they are mended, and the field is whole without being asked again.
func TestManyHostsOfWhichSevenFail(t *testing.T) {
	soaking(t)
	const count = 60
	hosts := newMachines(t, count)
	m := hosts.list
	var nodes strings.Builder
	for i := range m {
		fmt.Fprintf(&nodes, "  - {name: gull-%d, address: %s}\n", i+1, m[i].address)
	}
	x := newTrial(t, fmt.Sprintf(`format: 1
field: long-quay
ground: {kind: ssh, user: root, key: %s}
nodes:
%sroles:
  bell: {members: %d, program: {command: [sleep, "1000000"]}}
`, hosts.key, nodes.String(), count))
	accept := []string{"nodes", "accept", x.file, "--accept-new"}
	for i := 1; i < count; i++ {
		accept = append(accept, fmt.Sprintf("gull-%d", i+1))
	}
	x.must(accept...)

	m[1].run("mv /root/.ssh/authorized_keys /root/.ssh/away")
	if err := syscall.Kill(atoi(t, m[2].first()), syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	m[3].halt()
	m[4].run("mkdir -p /var/lib/lanternfield; mount -t tmpfs -o size=20m tmpfs /var/lib/lanternfield")
	m[5].run(`printf '#!/bin/sh\ncase $1 in -m) echo riscv64;; *) exec /bin/uname "$@";; esac\n' > /usr/local/bin/uname; chmod 755 /usr/local/bin/uname`)
	m[6].run(`printf '#!/bin/sh\n/usr/bin/gzip "$@" | head -c 1000000; kill $PPID\n' > /usr/local/bin/gzip; chmod 755 /usr/local/bin/gzip`) // it dies in the middle of the copy

	began := time.Now()
	if out, code := x.try(time.Minute, "deploy", x.file, "--yes"); code != 2 || !strings.Contains(out, fmt.Sprintf("6 of %d hosts cannot be taken; nothing has been changed", count)) {
		t.Errorf("hosts that fail are not said before the rollout: %d\n%s", code, out)
	}
	t.Logf("%d hosts were looked at, and refused, in %v", count, time.Since(began))
	began = time.Now()
	if out, code := x.try(2*time.Minute, "deploy", x.file, "--yes", "--anyway", "--timeout", "15s"); code != 1 {
		t.Errorf("it is said to be deployed: %d\n%s", code, out)
	}
	x.until("the others run", time.Minute, func() bool { return x.status().ready("bell") == count-7 })
	t.Logf("%d of them run after %v", count-7, time.Since(began))
	s := x.status()
	for i, want := range []string{"shows a host key that nobody has confirmed yet", "does not let root in", "accepts a connection and does not finish the login within 10 s", "cannot be reached: connect to",
		"has 20 MiB free where /var/lib/lanternfield lies, and 128 MiB are needed; ", "carries no agent for linux/riscv64; it has those for ", "lanternfield-agent cannot be put there: "} {
		name := fmt.Sprintf("gull-%d", i+1)
		if got := s.node(name); !got.Asked || !strings.Contains(got.Why, want) {
			t.Errorf("%s: %+v\nwant %s", name, got, want)
		}
	}

	// They are mended: nobody has to deploy again.
	x.must("nodes", "accept", x.file, "--accept-new", "gull-1")
	m[1].run("mv /root/.ssh/away /root/.ssh/authorized_keys")
	if err := syscall.Kill(atoi(t, m[2].first()), syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	m[3].boot()
	m[3].answers()
	m[4].run("umount /var/lib/lanternfield; rmdir /var/lib/lanternfield; true")
	m[5].run("rm /usr/local/bin/uname")
	m[6].run("rm /usr/local/bin/gzip")
	x.until("all run", 90*time.Second, func() bool { return x.status().ready("bell") == count })
	began = time.Now()
	x.must("check", x.file, "--nodes")
	t.Logf("%d hosts with agents were looked at in %v", count, time.Since(began))
	x.must("retire", x.file, "--yes", "--timeout", "90s")
	for i, host := range m {
		if left := strings.ReplaceAll(host.left(), "/usr/local/bin/gzip", ""); strings.Contains(left, "lanternfield") {
			t.Errorf("on host %d is left:\n%s", i+1, left)
		}
	}
}

// ready is how many members of a role are.
func (s status) ready(role string) (n int) {
	for _, m := range s.Members {
		if m.Role == role && m.Phase == "ready" {
			n++
		}
	}
	return n
}
