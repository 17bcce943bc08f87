package e2e

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestHarbourDesk deploys five real systems with one command, proves them, uses them as their clients do, kills who leads, moves the database's
// leader, stops all and starts it cold, and takes it all down.
func TestHarbourDesk(t *testing.T) {
	t.Parallel()
	telling := freeAddress(t)
	x := newTrial(t, strings.Replace(example(t, "../examples/harbour-desk.field.yaml"), "127.0.0.1:9720", telling, 2))
	x.contains(x.must("deploy", x.file, "--yes", "--timeout", "120s"), "waits for berths: proof", "harbour-desk is converged after", "and 6 proofs hold")
	s := x.status()
	var addresses []string
	for _, m := range s.Members {
		for _, port := range m.Ports {
			addresses = append(addresses, net.JoinHostPort(m.Address, fmt.Sprint(port)))
		}
	}
	berths, tariffs, arrivals, lookout := x.access("berths"), x.access("tariffs"), x.access("arrivals"), x.access("lookout")
	psql := func(m member, port, statement string) (string, error) {
		cmd := berths.runs("psql", "-X", "-h", m.Address, "-p", fmt.Sprint(m.Ports[port]), "-Atqc", statement)
		cmd.Env = append(cmd.Env, "PGTARGETSESSIONATTRS=any")
		out, err := cmd.CombinedOutput()
		return strings.TrimSpace(string(out)), err
	}
	if out, err := psql(s.member("desk-1"), "write", "create table berth (ship text); insert into berth values ('gannet')"); err != nil {
		t.Fatalf("psql: %v %s", err, out)
	}
	x.until("psql reads from a follower through the entry", 15*time.Second, func() bool {
		out, err := psql(s.member("desk-2"), "read", "select ship, pg_is_in_recovery() from berth")
		return err == nil && out == "gannet|t"
	})
	// Clients connect with exactly what they were given.
	if out, err := exec.Command("psql", "-X", berths.url, "-Atqc", "select ssl, pg_is_in_recovery() from pg_stat_ssl where pid = pg_backend_pid()").CombinedOutput(); err != nil || strings.TrimSpace(string(out)) != "t|f" {
		t.Errorf("psql with the URL: %v %s", err, out)
	}
	if out, err := lookout.runs("curl", "-sS", "--fail", lookout.url+"api/v1/query?query=up").CombinedOutput(); err != nil || !strings.Contains(string(out), "success") {
		t.Errorf("curl: %v %s", err, out)
	}
	if out, err := tariffs.runs("etcdctl", "put", "berth/per-night", "12").CombinedOutput(); err != nil || !strings.Contains(string(out), "OK") {
		t.Errorf("etcdctl: %v %s", err, out)
	}
	relays(t, &arrivals, s.member("arrivals-1"), s.member("arrivals-3"))

	// The field itself is told, and measured by its own monitor.
	serving, stop := context.WithCancel(context.Background())
	serve := x.command(serving, "serve", x.file, "--metrics", telling)
	serve.Cancel = func() error { return serve.Process.Signal(os.Interrupt) }
	if err := serve.Start(); err != nil {
		t.Fatal(err)
	}
	x.until("the monitor has measured the field", 40*time.Second, func() bool {
		out, err := lookout.runs("curl", "-sS", "--fail", lookout.url+"api/v1/query?query=sum(lanternfield_member_ready)").CombinedOutput()
		return err == nil && strings.Contains(string(out), fmt.Sprintf(`"%d"]`, len(s.Members)))
	})
	stop()
	_ = serve.Wait()

	// Whoever leads dies. The field comes back, and is proved again.
	for _, role := range []string{"tariffs", "arrivals", "berths"} {
		leader := ""
		x.until("somebody leads "+role, 20*time.Second, func() bool {
			for _, r := range x.status().Roles {
				if r.Role == role {
					leader = r.Leader
				}
			}
			return leader != ""
		})
		pid := x.status().member(leader).PID
		if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
			t.Fatal(err)
		}
		x.until(leader+" is back", 60*time.Second, func() bool { s := x.status(); return s.State == "converged" && s.member(leader).PID != pid })
		x.contains(x.must("prove", x.file, role), role+" holds, in")
	}

	// The node of the database's leader is needed elsewhere: another takes over, clients go on through the same address.
	lost := 0
	done, ended := make(chan bool), make(chan bool)
	go func() {
		defer close(ended)
		for {
			select {
			case <-done:
				return
			case <-time.After(20 * time.Millisecond):
				if _, err := psql(s.member("desk-1"), "write", "insert into berth values ('tern')"); err != nil {
					lost++
				}
			}
		}
	}()
	leader := ""
	for _, r := range x.status().Roles {
		if r.Role == "berths" {
			leader = r.Leader
		}
	}
	node := x.status().member(leader).Node
	content, _ := os.ReadFile(x.file)
	named := regexp.MustCompile(`  - \{name: "(\w+)-\{1\.\.2\}", zone: ([\w-]+)\}`).ReplaceAllString(string(content), "  - {name: $1-1, zone: $2}\n  - {name: $1-2, zone: $2}")
	out := strings.Replace(named, "{name: "+node+",", "{name: "+node+", out: waits for a new disk,", 1)
	if out == named {
		t.Fatalf("there is no %s in\n%s", node, named)
	}
	x.write(out)
	x.must("deploy", x.file, "--yes", "--timeout", "120s")
	close(done)
	<-ended
	after := ""
	for _, r := range x.status().Roles {
		if r.Role == "berths" {
			after = r.Leader
		}
	}
	if after == "" || after == leader {
		t.Errorf("%s led, and %q leads now", leader, after)
	}
	t.Logf("%d writes failed while %s handed over to %s", lost, leader, after)

	// All at once, and cold.
	x.must("stop", x.file, "--yes", "--timeout", "120s")
	x.must("start", x.file, "--timeout", "120s")
	x.contains(x.must("prove", x.file), "holds")
	if out, err := psql(x.status().member("desk-1"), "write", "select count(*) > 0 from berth where ship = 'gannet'"); err != nil || out != "t" {
		t.Errorf("after a cold start: %v %s", err, out)
	}

	x.must("retire", x.file, "--yes", "--forget")
	for _, a := range addresses {
		if conn, err := net.DialTimeout("tcp", a, time.Second); err == nil {
			conn.Close()
			t.Errorf("something still listens on %s", a)
		}
	}
	if entries, _ := os.ReadDir(x.state); len(entries) > 0 {
		t.Errorf("the state folder still has %v", entries)
	}
}
