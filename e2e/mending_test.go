package e2e

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"
)

// shop has a machine find one package of ours, and no other: a program, a user that it runs as, and a service that must not be started.
const shop = `set -e
mkdir -p /srv/shop/bell/DEBIAN /srv/shop/bell/usr/bin /srv/shop/bell/lib/systemd/system
cd /srv/shop
printf 'Package: saltmarsh-bell\nVersion: 1.0\nArchitecture: all\nMaintainer: The Ferries <quay@example.com>\nDescription: a bell\n' > bell/DEBIAN/control
printf '#!/bin/sh\nuseradd -r bellringer\n' > bell/DEBIAN/postinst
printf '#!/bin/sh\nexec sleep 1000000\n' > bell/usr/bin/saltmarsh-bell
printf '[Service]\nExecStart=/usr/bin/saltmarsh-bell\n[Install]\nWantedBy=multi-user.target\n' > bell/lib/systemd/system/saltmarsh-bell.service
chmod 755 bell/DEBIAN/postinst bell/usr/bin/saltmarsh-bell
dpkg-deb -b bell bell.deb >/dev/null
{ cat bell/DEBIAN/control; echo "Filename: ./bell.deb"; echo "Size: $(stat -c %s bell.deb)"; echo "SHA256: $(sha256sum <bell.deb | cut -c1-64)"; } > Packages
rm -rf bell /etc/apt/sources.list /etc/apt/sources.list.d/* /var/lib/apt/lists/*
echo 'deb [trusted=yes] file:/srv/shop ./' > /etc/apt/sources.list
`

// TestWhatIsMissingOnHostsIsMended has two hosts that lack a program, its user, and a setting of the kernel: it is seen before the rollout, mended from here,
// in the ledger, and undone at the end; on the host that is away then, later.
func TestWhatIsMissingOnHostsIsMended(t *testing.T) {
	hosts := newMachines(t, 2)
	for _, m := range hosts.list {
		m.run(shop)
		m.remember()
	}
	x := newTrial(t, fmt.Sprintf(`format: 1
field: bell-quay
ground: {kind: ssh, user: root, key: %s}
nodes:
  - {name: gull-1, address: %s, size: {cpu: 5000}}
  - {name: gull-2, address: %s}
roles:
  bell:
    members: 2
    program:
      command: [saltmarsh-bell]
      packages: [saltmarsh-bell]
      user: bellringer
      limits: {open_files: 1073741816}
      kernel: {net.core.somaxconn: 8192}
`, hosts.key, hosts.list[0].address, hosts.list[1].address))
	x.must("nodes", "accept", x.file, "--accept-new")
	p := x.preflight()
	for _, w := range []struct{ node, check, why string }{
		{"gull-1", "size", "the file says 5000 cores, and it has"},
		{"gull-1", "programs", "the program \"saltmarsh-bell\" is not installed"},
		{"gull-2", "programs", "install saltmarsh-bell with apt-get: `lanternfield nodes mend gull-2` does that, or M in the view of nodes"},
		{"gull-2", "users", "bellringer"},
		{"gull-1", "limits", "it needs 1073741816 open files, and "},
		{"gull-2", "kernel", "it needs at least 8192 for the setting net.core.somaxconn of the kernel, which is 4096"},
	} {
		if got := p.why(w.node, w.check); !strings.Contains(got, w.why) {
			t.Errorf("%s, %s: %s\nwant %s", w.node, w.check, got, w.why)
		}
	}
	x.edit("limits: {open_files: 1073741816}", "limits: {open_files: 4096}")
	x.edit(", size: {cpu: 5000}", "")
	if out, code := x.try(time.Minute, "deploy", x.file, "--yes"); code != 2 || !strings.Contains(out, "hosts are not ready for what would come to them; nothing has been changed") {
		t.Errorf("it is deployed: %d %s", code, out)
	}
	if out, code := x.try(time.Minute, "nodes", "mend", x.file); code == 0 || !strings.Contains(out, "on gull-1: set net.core.somaxconn to 8192") {
		t.Errorf("hosts are changed without being asked: %d %s", code, out)
	}
	x.contains(x.must("ledger", x.file), "Nothing of this field is on any machine")
	x.contains(x.must("nodes", "mend", x.file, "--yes"), "gull-1: the kernel's net.core.somaxconn is 8192; it was 4096", "gull-2: the package saltmarsh-bell")
	for _, m := range hosts.list {
		if got := m.run("cat /proc/sys/net/core/somaxconn; grep somaxconn /etc/sysctl.d/90-lanternfield-bell-quay.conf; which saltmarsh-bell; ls /etc/systemd/system/multi-user.target.wants/saltmarsh-bell.service 2>/dev/null; true"); got != "8192\nnet.core.somaxconn = 8192\n/usr/bin/saltmarsh-bell\n" {
			t.Errorf("on %s:\n%s", m.address, got)
		}
	}
	if p := x.preflight(); !p.OK {
		t.Errorf("after it was mended: %+v", p)
	}
	x.contains(x.must("nodes", "mend", x.file, "--yes"), "All checks pass: there is nothing to mend")
	x.contains(x.must("deploy", x.file, "--yes", "--timeout", "60s"), "bell-quay is converged")
	x.contains(x.must("ledger", x.file), "gull-1", "the agent and its folder /var/lib/lanternfield/bell-quay/gull-1", "the member bell-1 and its data", "the package saltmarsh-bell", "in use")

	// One host is away when the field is retired: it is retired all the same, and what is owed there is remembered.
	away := hosts.list[1]
	away.halt()
	retire := x.command(context.Background(), "retire", x.file, "--yes", "--timeout", "90s")
	var said strings.Builder
	retire.Stdout, retire.Stderr = &said, &said
	if err := retire.Start(); err != nil {
		t.Fatal(err)
	}
	x.until("the host counts as gone", 40*time.Second, func() bool {
		_, code := x.try(20*time.Second, "nodes", "lost", x.file, "gull-2", "--yes")
		return code == 0
	})
	_ = retire.Wait()
	x.contains(said.String(), "NOT CONFIRMED  gull-2: not undone there: the kernel's net.core.somaxconn is 8192; it was 4096", "NOT CONFIRMED  gull-2: not undone there: the package saltmarsh-bell")
	gone := func(m *machine) {
		t.Helper()
		if got := m.run("cat /proc/sys/net/core/somaxconn; ls /etc/sysctl.d | grep lanternfield; which saltmarsh-bell; true"); got != "4096\n" {
			t.Errorf("what was done on %s is not undone:\n%s", m.address, got)
		}
	}
	gone(hosts.list[0])
	x.contains(x.must("ledger", x.file), "gull-2", "still to be undone")
	if out, code := x.try(time.Minute, "ledger", "settle", x.file); code == 0 || !strings.Contains(out, "gull-2: ") {
		t.Errorf("it is settled on a host that is away: %d %s", code, out)
	}
	x.contains(x.must("ledger", x.file), "still to be undone: ", "cannot be reached")
	away.boot()
	away.answers()
	x.contains(x.must("ledger", "settle", x.file), "Nothing is left to undo")
	gone(away)
	x.contains(x.must("ledger", x.file), "Nothing of this field is on any machine")
}
