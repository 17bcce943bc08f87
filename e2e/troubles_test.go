package e2e

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"
)

// trouble is something that is made to go wrong on purpose: what the verdict says of it, and which keys lead from there to why.
type trouble struct {
	what   string
	within time.Duration
	said   *regexp.Regexp
	settle func()      // waits for what comes of it, before somebody asks why; may be nil
	steps  [][2]string // a key, and what is on the screen after it; { is pressed until it stands under the cursor
}

// troubles watches a field of real systems on the screen while things go wrong on it.
type troubles struct {
	*trial
	hosts *machines
	s     *screen
	table []string
}

var clock = regexp.MustCompile(`\d\d:\d\d:\d\d`)

// sees waits for what the verdict says of it, presses the keys, and looks for why.
func (x *troubles) sees(w trouble, began time.Time) {
	x.Helper()
	verdict, told := "", time.Duration(0)
	for {
		head, _, _ := strings.Cut(x.s.text(), "1 Board")
		head = clock.ReplaceAllString(head, "")
		if head = strings.Join(strings.Fields(head), " "); w.said.MatchString(head) {
			verdict, told = w.said.FindString(head), time.Since(began)
			break
		}
		if time.Since(began) > w.within {
			x.Errorf("%s: the verdict does not say %s:\n%s", w.what, w.said, x.s.text())
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	if w.settle != nil {
		w.settle()
	}
	pressed := 0
	for _, step := range w.steps {
		key, cause := step[0], step[1]
		next := time.Time{}
		x.s.until(cause+", after "+key, func(text string) bool {
			if key == "{" {
				_, text, _ = strings.Cut(text, "▸")
				text, _, _ = strings.Cut(text, "\n")
			}
			if (key == "{" || !next.IsZero()) && strings.Contains(strings.Join(strings.Fields(text), " "), cause) {
				return true
			}
			if next.IsZero() || key == "{" && time.Now().After(next) {
				x.s.press(key)
				pressed++
				next = time.Now().Add(500 * time.Millisecond)
			}
			return false
		})
	}
	x.table = append(x.table, fmt.Sprintf("| %s | %s | %.1f s | %d |", w.what, verdict, told.Seconds(), pressed))
	x.Log(x.table[len(x.table)-1] + "\n" + x.s.text())
	x.s.press("Escape", "Escape", "1")
}

// host gives the machine of a member.
func (x *troubles) host(name string) *machine {
	x.Helper()
	at := x.status().member(name).Address
	for _, m := range x.hosts.list {
		if m.address == at {
			return m
		}
	}
	x.Fatalf("%s is on no machine: %s", name, at)
	return nil
}

func (x *troubles) leader(role string) string {
	x.Helper()
	for _, r := range x.status().Roles {
		if r.Role == role {
			return r.Leader
		}
	}
	return ""
}

// kill kills the process of a member, as its machine counts it.
func (x *troubles) kill(name string) {
	x.Helper()
	x.host(name).run(fmt.Sprintf("kill -9 %d", x.status().member(name).PID))
}

func (x *troubles) ready(name string, limit time.Duration) {
	x.Helper()
	x.until(name+" is ready", limit, func() bool { return x.status().member(name).Phase == "ready" })
}

// issued writes the certificate that somebody outside gives for a role, valid for ten days.
func (x *troubles) issued(role string) string {
	x.Helper()
	block, _ := pem.Decode([]byte(x.must("trust", "request", x.file, role)))
	request, err := x509.ParseCertificateRequest(block.Bytes)
	if err != nil {
		x.Fatal(err)
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		x.Fatal(err)
	}
	now := time.Now()
	root := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Harbour Office"}, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(1000 * 24 * time.Hour), IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	chain := ""
	for _, c := range []struct {
		what   *x509.Certificate
		public any
	}{{&x509.Certificate{SerialNumber: big.NewInt(2), Subject: request.Subject, DNSNames: request.DNSNames, NotBefore: now.Add(-time.Hour), NotAfter: now.Add(10 * 24 * time.Hour),
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}, request.PublicKey}, {root, key.Public()}} {
		der, err := x509.CreateCertificate(rand.Reader, c.what, root, c.public, key)
		if err != nil {
			x.Fatal(err)
		}
		chain += string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	}
	name := filepath.Join(x.dir, "chain.pem")
	if err := os.WriteFile(name, []byte(chain), 0o644); err != nil {
		x.Fatal(err)
	}
	return name
}

// TestTroublesAreTold makes eight things go wrong with real systems on six hosts, one after the other, and has the screen say what, and why.
func TestTroublesAreTold(t *testing.T) {
	soaking(t)
	x := &troubles{hosts: newMachines(t, 6)}
	x.trial = newTrial(t, x.hosts.onHosts(example(t, "../examples/harbour-desk.field.yaml"), harbourNodes...)+`  counter:
    kit: haproxy
    members: 1
    calls: {members: lookout}
    settings: {mode: http, write_to: any}
    names: [counter.harbour.example]
`)
	x.must("nodes", "accept", x.file, "--accept-new")
	x.must("deploy", x.file, "--yes", "--timeout", "150s")
	serving, stop := context.WithCancel(context.Background())
	serve := x.command(serving, "serve", x.file)
	serve.Cancel = func() error { return serve.Process.Signal(syscall.SIGTERM) }
	if err := serve.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { stop(); _ = serve.Wait() }()
	berths := x.access("berths")
	psql := func(url, statement string) error {
		out, err := exec.Command("psql", "-X", url, "-Atqc", statement).CombinedOutput()
		if err != nil {
			return fmt.Errorf("psql: %w %s", err, out)
		}
		return nil
	}
	if err := psql(berths.url, "create table log as select i, repeat(md5(i::text), 8) as text from generate_series(1, 500000) i"); err != nil {
		t.Fatal(err)
	}
	x.s = newScreen(t, x.trial, 160, 45, "open", x.file)
	x.s.has("converged")

	// A start that is slow, and then sticks: a follower has lost its data, and copies all over a line that lets little through, and then nothing.
	leads := x.leader("berths")
	copies := map[bool]string{true: "berths-2", false: "berths-1"}[leads == "berths-1"]
	host, from := x.host(copies), x.status().member(leads).Address
	x.must("stop", x.file, copies, "--yes")
	host.run("rm -rf /var/lib/lanternfield/*/*/members/" + copies + "/data/*")
	line := func(rule string) {
		host.run(fmt.Sprintf(`nft delete table inet line 2>/dev/null; nft 'table inet line { chain in { type filter hook input priority -5; ip saddr %s tcp sport 5432 %s drop; }; }'`, from, rule))
	}
	line("limit rate over 1500 kbytes/second")
	began := time.Now()
	_, _ = x.try(20*time.Second, "start", x.file, copies, "--yes", "--timeout", "1s")
	x.sees(trouble{what: "slow start", within: 30 * time.Second, said: regexp.MustCompile(copies + ` is slow: starting for [^·]*\)`), steps: [][2]string{{"2", " so far, "}}}, began)
	line("")
	began = time.Now()
	x.sees(trouble{what: "stuck start", within: time.Minute, said: regexp.MustCompile(copies + ` is stuck: starting for [^·]*\)`), steps: [][2]string{{"2", "so far, unchanged for"}}}, began)
	host.run("nft delete table inet line")
	x.ready(copies, 3*time.Minute)

	// A lag grows: a follower has stopped replaying what it is sent.
	follower := x.status().member(copies)
	direct := regexp.MustCompile(`@[^/]+/`).ReplaceAllString(berths.url, fmt.Sprintf("@%s:%d/", follower.Address, follower.Ports["client"]))
	direct = strings.Replace(direct, "target_session_attrs=read-write", "target_session_attrs=any", 1)
	if err := psql(direct, "select pg_wal_replay_pause()"); err != nil {
		t.Fatal(err)
	}
	began = time.Now()
	writing, done := context.WithCancel(context.Background())
	written := make(chan error, 1)
	go func() {
		var err error
		for writing.Err() == nil && err == nil {
			err = psql(berths.url, "insert into log select i, repeat(md5(i::text), 8) from generate_series(1, 1000) i")
			select {
			case <-writing.Done():
			case <-time.After(500 * time.Millisecond):
			}
		}
		written <- err
	}()
	x.sees(trouble{what: "lag growing", within: 2 * time.Minute, said: regexp.MustCompile(copies + ` is [0-9.]+ .iB behind, and falls further behind by [^·]*second`), steps: [][2]string{{"4", "notice: " + copies + " is"}}}, began)
	done()
	if err := <-written; err != nil {
		t.Error(err)
	}
	if err := psql(direct, "select pg_wal_replay_resume()"); err != nil {
		t.Error(err)
	}

	// A certificate from outside runs out in ten days.
	x.must("trust", "install", x.file, "counter", x.issued("counter"), "--yes")
	x.sees(trouble{what: "certificate expiring", within: time.Minute, said: regexp.MustCompile(`the certificate from outside of counter runs out in 9 days`), steps: [][2]string{{"7", "shown by name 9 days left"}}}, time.Now())

	// Somebody else leads.
	leads = x.leader("tariffs")
	began = time.Now()
	x.kill(leads)
	x.sees(trouble{what: "leader changed", within: 10 * time.Second, said: regexp.MustCompile(leads + ` is dark: was killed by signal 9 \(KILL\)|nobody leads tariffs: writes wait for an election`),
		settle: func() {
			x.until("another leads", 30*time.Second, func() bool { now := x.leader("tariffs"); return now != "" && now != leads })
			x.s.again("leads tariffs, term", func() { x.s.press("4") })
			x.s.press("1")
		},
		steps: [][2]string{{"4", leads}, {"{", "leads tariffs, term"}, {"w", leads + " went dark"}}}, began)
	x.ready(leads, time.Minute)

	// An entry comes and goes.
	began = time.Now()
	for range 3 {
		x.ready("desk-1", time.Minute)
		x.kill("desk-1")
		x.until("its end is known", 10*time.Second, func() bool { return x.status().member("desk-1").Phase != "ready" })
	}
	x.sees(trouble{what: "flapping", within: time.Minute, said: regexp.MustCompile(`desk-1 comes and goes: [^·]*\(KILL\)`), steps: [][2]string{{"4", "notice: desk-1 comes and goes"}}}, began)

	// The disk fills: all hosts share one here.
	var fs syscall.Statfs_t
	if err := syscall.Statfs(x.hosts.dir, &fs); err != nil {
		t.Fatal(err)
	}
	used := (fs.Blocks - fs.Bfree) * uint64(fs.Bsize)
	x.hosts.do("mount", "-o", fmt.Sprintf("remount,size=%d", used*100/96), x.hosts.dir)
	x.sees(trouble{what: "disk filling", within: time.Minute, said: regexp.MustCompile(`the disk of [^·]* free, [0-9.]+ % of [0-9.]+ .iB`), steps: [][2]string{{"4", "notice: the disk of"}}}, time.Now())
	x.hosts.do("mount", "-o", "remount,size=50%", x.hosts.dir)

	// A zone is cut off.
	zone := x.hosts.list[4:]
	began = time.Now()
	for _, m := range zone {
		m.cutOff(zone...)
	}
	x.sees(trouble{what: "cut off", within: time.Minute, said: regexp.MustCompile(`[^·]* unknown: no agent in lighthouse answers`), steps: [][2]string{{"6", "skua-1"}}}, began)
	for _, m := range zone {
		m.heal()
	}
	t.Log("\n| made on purpose | what the verdict said | after | keys to the cause |\n| --- | --- | --- | --- |\n" + strings.Join(x.table, "\n"))
}
