package e2e

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

func example(t *testing.T, name string) string {
	t.Helper()
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// etcd asks one etcd member something.
func etcd(w *way, m member, path string, body any, into any) error {
	data, err := json.Marshal(body)
	if err != nil {
		return err
	}
	res, err := w.http.Post(w.at(m, "client")+path, "application/json", bytes.NewReader(data))
	if err != nil {
		return err
	}
	defer res.Body.Close()
	answer, err := io.ReadAll(res.Body)
	if err != nil {
		return err
	}
	if res.StatusCode != http.StatusOK {
		return fmt.Errorf("%s: %s", res.Status, answer)
	}
	return json.Unmarshal(answer, into)
}

type etcdStatus struct {
	Header struct {
		MemberID string `json:"member_id"`
		RaftTerm string `json:"raft_term"`
	}
	Leader string
}

// put writes through one member and gives the term under which that was decided.
func put(w *way, m member, key, value string) (term uint64, err error) {
	var answer etcdStatus
	err = etcd(w, m, "/v3/kv/put", map[string][]byte{"key": []byte(key), "value": []byte(value)}, &answer)
	term, _ = strconv.ParseUint(answer.Header.RaftTerm, 10, 64)
	return term, err
}

func (s status) store() (leader member, others []member) {
	for _, m := range s.Members {
		if m.Role == "store" {
			if m.Member == s.Roles[0].Leader {
				leader = m
			} else {
				others = append(others, m)
			}
		}
	}
	return leader, others
}

// TestEtcdAndNATSFromDeployToRetire is the whole first path: converge, agree with etcd about who leads, serve clients,
// survive the leader's death, stop and start with data, and go away without a trace.
func TestEtcdAndNATSFromDeployToRetire(t *testing.T) {
	t.Parallel()
	x := newTrial(t, example(t, "../examples/etcd-nats.field.yaml"))
	out := x.must("deploy", x.file, "--yes")
	x.contains(out, "place store-1", "place news-1", "news-1", "planned, waits for store: quorum", "is converged after")

	s := x.status()
	role := s.Roles[0]
	if s.State != "converged" || role.Voters != 3 || role.VotesNeeded != 2 || role.Survives != 1 || len(role.Roster) != 3 {
		t.Fatalf("status: %+v", s)
	}
	x.until("a leader is known", 10*time.Second, func() bool { s = x.status(); return s.Roles[0].Leader != "" })
	leader, others := s.store()
	store, news := x.access("store"), x.access("news")
	if res, err := http.Get(leader.url("client") + "/health"); err == nil && res.StatusCode == http.StatusOK {
		t.Error("etcd answers in the clear")
	}
	bare := tls.Config{RootCAs: store.tls.RootCAs}
	if _, err := (&http.Client{Transport: &http.Transport{TLSClientConfig: &bare}}).Get(store.at(leader, "client") + "/health"); err == nil {
		t.Error("etcd answers who shows no certificate")
	}
	var own etcdStatus
	if err := etcd(&store, leader, "/v3/maintenance/status", struct{}{}, &own); err != nil || own.Leader != own.Header.MemberID {
		t.Fatalf("etcd does not say that %s leads: %+v, %v", leader.Member, own, err)
	}

	for _, args := range [][]string{{"put", "ferry", "gull"}, {"get", "ferry"}} {
		if out, err := store.runs("etcdctl", args...).CombinedOutput(); err != nil || !strings.Contains(string(out), map[bool]string{true: "OK", false: "gull"}[args[0] == "put"]) {
			t.Errorf("etcdctl %v: %v\n%s", args, err, out)
		}
	}
	relays(t, &news, s.member("news-1"), s.member("news-3"))

	before := s.Roles[0].LeaderTerm
	if err := syscall.Kill(leader.PID, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	dark := x.until("status shows the loss", time.Second, func() bool { return x.status().member(leader.Member).Phase == "failed" })
	var term uint64
	wrote := x.until("a write through a survivor", 20*time.Second, func() bool {
		var err error
		term, err = put(&store, others[0], "ferry", "tern")
		return err == nil
	})
	if back := x.status().member(leader.Member); back.Phase == "ready" {
		t.Errorf("%s was back before the write went through", leader.Member)
	}
	if term <= before {
		t.Errorf("the write was decided under term %d, the leader was killed in term %d", term, before)
	}
	t.Logf("seen dark after %s, written after %s under term %d (before: %d)", dark, wrote, term, before)
	x.until("it is back and another one leads", 30*time.Second, func() bool {
		s = x.status()
		return s.State == "converged" && s.Roles[0].LeaderTerm == term
	})
	if back := s.member(leader.Member); back.PID == leader.PID || !strings.Contains(back.LastExit, "signal 9") || s.Roles[0].Leader == leader.Member {
		t.Errorf("status does not tell what happened: %+v, leader %s", back, s.Roles[0].Leader)
	}

	x.must("stop", x.file, "--yes")
	if s := x.status(); s.State != "stopped" || len(listening(leader.Address+":23")) > 0 {
		t.Errorf("after stop: %s, %v", s.Verdict, listening(leader.Address))
	}
	x.must("start", x.file, "--yes")
	var got struct{ Kvs []struct{ Value []byte } }
	if err := etcd(&store, x.status().member("store-2"), "/v3/kv/range", map[string][]byte{"key": []byte("ferry")}, &got); err != nil || len(got.Kvs) != 1 || string(got.Kvs[0].Value) != "tern" {
		t.Errorf("after stop and start: %v %v", got, err)
	}

	out = x.must("retire", x.file, "--yes")
	x.contains(out, "gone  store-1", "is retired: looked for every process and folder again, and found none")
	if left := x.processes(); len(left) > 0 {
		t.Errorf("processes: %v", left)
	}
	network := leader.Address[:strings.LastIndexByte(leader.Address, '.')+1]
	if left := listening(network); len(left) > 0 {
		t.Errorf("ports: %v", left)
	}
	if entries, err := os.ReadDir(x.state + "/saltmarsh-bookings/nodes"); err == nil {
		t.Errorf("folders: %v", entries)
	}
	x.must("retire", x.file, "--yes", "--forget")
	if _, err := os.Stat(x.state + "/saltmarsh-bookings"); !os.IsNotExist(err) {
		t.Errorf("--forget left the state folder: %v", err)
	}
}

// relays publishes through one NATS server and receives through another, over the protocol itself.
func relays(t *testing.T, w *way, from, to member) {
	t.Helper()
	dial := func(m member) (net.Conn, *bufio.Reader) {
		c, err := w.nats(m)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Close() })
		return c, bufio.NewReader(c)
	}
	expect := func(r *bufio.Reader, prefix string) {
		for {
			line, err := r.ReadString('\n')
			if err != nil {
				t.Fatalf("waiting for %q: %v", prefix, err)
			}
			if strings.HasPrefix(line, prefix) {
				return
			}
		}
	}
	sub, subReader := dial(to)
	fmt.Fprint(sub, "CONNECT {\"verbose\":false}\r\nSUB tides 1\r\nPING\r\n")
	expect(subReader, "PONG")
	pub, pubReader := dial(from)
	fmt.Fprint(pub, "CONNECT {\"verbose\":false}\r\n")
	// Interest spreads between servers by itself; until it has, messages have nobody to go to.
	stop := make(chan struct{})
	done := make(chan struct{})
	go func() {
		defer close(done)
		for {
			fmt.Fprint(pub, "PUB tides 4\r\nhigh\r\nPING\r\n")
			select {
			case <-stop:
				return
			case <-time.After(50 * time.Millisecond):
			}
		}
	}()
	expect(pubReader, "PONG")
	expect(subReader, "MSG tides 1 4")
	close(stop)
	<-done
}

// TestFormatCarriesOtherPrograms deploys the fixtures that the format was proven with.
func TestFormatCarriesOtherPrograms(t *testing.T) {
	t.Parallel()
	t.Run("NATS with JetStream", func(t *testing.T) {
		x := newTrial(t, example(t, "../internal/fieldfile/testdata/nats-jetstream.field.yaml"))
		x.must("deploy", x.file, "--yes")
		x.until("its leader is known and its roster has three", 20*time.Second, func() bool {
			r := x.status().Roles[0]
			return r.Leader != "" && len(r.Roster) == 3 && r.Survives == 1
		})
	})
	t.Run("PostgreSQL with a replica", func(t *testing.T) {
		if os.Geteuid() != 0 {
			t.Skip("PostgreSQL runs as a user of its own, which takes root")
		}
		x := newTrial(t, example(t, "../internal/fieldfile/testdata/postgres.field.yaml"))
		x.must("deploy", x.file, "--yes")
		s := x.status()
		if s.Roles[0].Leader != "records-1" || s.member("records-2").Phase != "ready" {
			t.Errorf("status: %+v", s)
		}
	})
	t.Run("HAProxy follows the members behind it", func(t *testing.T) {
		x := newTrial(t, example(t, "../internal/fieldfile/testdata/haproxy.field.yaml"))
		x.must("deploy", x.file, "--yes")
		before := x.status().member("gate-1")
		x.must("scale", x.file, "tills", "3", "--yes")
		x.until("the new member is behind the gate", 10*time.Second, func() bool {
			res, err := http.Get(before.url("stats") + "/;csv")
			if err != nil {
				return false
			}
			defer res.Body.Close()
			page, _ := io.ReadAll(res.Body)
			return strings.Contains(string(page), "front,tills-3")
		})
		if after := x.status().member("gate-1"); after.PID != before.PID {
			t.Errorf("the gate was restarted: process %d, before %d", after.PID, before.PID)
		}
		if data, _ := os.ReadFile(x.file); !strings.Contains(string(data), "members: 3") {
			t.Errorf("scale did not change the file:\n%s", data)
		}
	})
}
