package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// cluster is a kind of voting store that the tests can write to and ask.
type cluster struct {
	kit   string
	write func(m member, key, value string) error
	read  func(m member, key string) (string, error)
	list  func(t *testing.T, m member) []string // the cluster's own list of voters; anything else on it fails the test
}

var client = &http.Client{Timeout: 2 * time.Second}

func call(method, url, body string, into any) error {
	req, err := http.NewRequest(method, url, strings.NewReader(body))
	if err != nil {
		return err
	}
	res, err := client.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	data, err := io.ReadAll(res.Body)
	if err != nil {
		return err
	}
	if res.StatusCode >= 300 {
		return fmt.Errorf("%s: %s", res.Status, data)
	}
	if into == nil {
		return nil
	}
	return json.Unmarshal(data, into)
}

// inTheClear is a client of a field whose members speak no TLS: what is tried here is who votes.
var inTheClear = way{http: http.Client{Timeout: 500 * time.Millisecond}}

var etcds = cluster{kit: "etcd",
	write: func(m member, key, value string) error { _, err := put(&inTheClear, m, key, value); return err },
	read: func(m member, key string) (string, error) {
		var got struct{ Kvs []struct{ Value []byte } }
		err := etcd(&inTheClear, m, "/v3/kv/range", map[string][]byte{"key": []byte(key)}, &got)
		if err == nil && len(got.Kvs) == 0 {
			err = fmt.Errorf("there is no key %s", key)
		}
		if err != nil {
			return "", err
		}
		return string(got.Kvs[0].Value), nil
	},
	list: func(t *testing.T, m member) []string {
		cmd := exec.Command("etcdctl", "--endpoints="+m.url("client"), "member", "list")
		cmd.Env = append(os.Environ(), "ETCDCTL_API=3")
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("etcdctl member list: %v\n%s", err, out)
		}
		var names []string
		for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
			f := strings.Split(line, ", ") // id, status, name, peers, clients, learner
			if len(f) != 6 || f[1] != "started" || f[5] != "false" {
				t.Errorf("etcdctl member list has %q", line)
				continue
			}
			names = append(names, f[2])
		}
		slices.Sort(names)
		return names
	}}

var wardens = cluster{kit: "warden",
	write: func(m member, key, value string) error {
		return call("PUT", m.url("main")+"/kv/"+key, value, nil)
	},
	read: func(m member, key string) (string, error) {
		var got struct{ Value string }
		return got.Value, call("GET", m.url("main")+"/kv/"+key, "", &got)
	},
	list: func(t *testing.T, m member) []string {
		var got struct {
			Members []struct {
				ID    string
				Voter bool
			}
		}
		if err := call("GET", m.url("main")+"/members", "", &got); err != nil {
			t.Fatal(err)
		}
		var names []string
		for _, m := range got.Members {
			if !m.Voter {
				t.Errorf("%s is on the list and no voter", m.ID)
			}
			names = append(names, m.ID)
		}
		slices.Sort(names)
		return names
	}}

// field is a field of one voting role on nine nodes.
func (c cluster) field(members int, rest string) string {
	return fmt.Sprintf(`format: 1
field: saltmarsh
trust: {tls: off}
nodes:
  - {name: "gull-{1..3}", zone: north-quay}
  - {name: "tern-{1..3}", zone: south-quay}
  - {name: "puffin-{1..3}", zone: lighthouse}
roles:
  store: {kit: %s, members: %d}
%s`, c.kit, members, rest)
}

// writer writes 50 values a second through all members that there are, each through another, and keeps what was
// acknowledged.
type writer struct {
	x       *trial
	c       cluster
	mu      sync.Mutex
	members []member
	acked   map[string]string
	last    time.Time
	gap     time.Duration
	tried   int
}

func (x *trial) writing(c cluster) (*writer, func()) {
	w := &writer{x: x, c: c, acked: map[string]string{}}
	w.look()
	ctx, stop := context.WithCancel(context.Background())
	var wait sync.WaitGroup
	wait.Add(2)
	go func() {
		defer wait.Done()
		for ctx.Err() == nil {
			time.Sleep(200 * time.Millisecond)
			w.look()
		}
	}()
	go func() {
		defer wait.Done()
		tick := time.NewTicker(20 * time.Millisecond)
		defer tick.Stop()
		for n := 0; ctx.Err() == nil; n++ {
			<-tick.C
			wait.Add(1)
			go func() {
				defer wait.Done()
				w.write(n)
			}()
		}
	}()
	return w, func() { stop(); wait.Wait() }
}

// look learns who is there, without failing the test where nothing can be learned at the moment.
func (w *writer) look() {
	out, _ := w.x.command(context.Background(), "status", w.x.file, "--json").Output()
	var s status
	if json.Unmarshal(out, &s) != nil || len(s.Members) == 0 {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.members = s.Members
}

// write writes one value, through the next member where one does not take it, as a client does.
func (w *writer) write(n int) {
	w.mu.Lock()
	members := w.members
	w.tried++
	w.mu.Unlock()
	key, value := fmt.Sprintf("k%d", n), fmt.Sprintf("v%d", n)
	for i := range members {
		if w.c.write(members[(n+i)%len(members)], key, value) != nil {
			continue
		}
		w.mu.Lock()
		defer w.mu.Unlock()
		w.acked[key] = value
		now := time.Now()
		if !w.last.IsZero() {
			w.gap = max(w.gap, now.Sub(w.last))
		}
		w.last = now
		return
	}
}

// longest gives the longest time without an acknowledged write since it was asked last.
func (w *writer) longest() time.Duration {
	w.mu.Lock()
	defer w.mu.Unlock()
	gap := max(w.gap, time.Since(w.last))
	w.gap, w.last = 0, time.Now()
	return gap
}

func (x *trial) names() []string {
	var names []string
	for _, m := range x.status().Members {
		names = append(names, m.Member)
	}
	slices.Sort(names)
	return names
}

// TestVotersGrowAndShrinkUnderAWriter scales both stores 3→5→3 with the leader among those that leave, while somebody
// writes through all members. Nothing acknowledged is lost, and the cluster lists exactly the survivors.
func TestVotersGrowAndShrinkUnderAWriter(t *testing.T) {
	for _, c := range []cluster{etcds, wardens} {
		t.Run(c.kit, func(t *testing.T) {
			x := newTrial(t, c.field(3, ""))
			x.must("deploy", x.file, "--yes")
			w, stop := x.writing(c)
			x.until("writes go through", 20*time.Second, func() bool { w.mu.Lock(); defer w.mu.Unlock(); return len(w.acked) > 20 })
			w.longest()
			x.must("scale", "store", "5", "--yes")
			out := w.longest()
			s := x.status()
			if s.Roles[0].Voters != 5 || s.Roles[0].Survives != 2 || len(s.Members) != 5 {
				t.Fatalf("grown: %+v", s.Roles[0])
			}
			leader := s.Roles[0].Leader
			var pins []string
			for _, m := range s.Members {
				if m.Member != leader && len(pins) < 3 {
					pins = append(pins, m.Node)
				}
			}
			x.write(c.field(3, "place: {store: ["+strings.Join(pins, ", ")+"]}\n"))
			x.must("deploy", x.file, "--yes")
			in := w.longest()
			time.Sleep(100 * time.Millisecond) // some writes to the survivors alone
			stop()
			// On a slow machine the survivors may still be electing somebody: that is theirs to do, and no loss.
			x.until("the survivors are led", 20*time.Second, func() bool { return x.status().State == "converged" })
			s = x.status()
			if slices.Contains(x.names(), leader) || len(s.Members) != 3 {
				t.Fatalf("shrunk: %s; %v should not have %s", s.Verdict, x.names(), leader)
			}
			lost := 0
			for key, value := range w.acked {
				got, err := c.read(s.Members[len(key)%3], key)
				for tries := 0; err != nil && tries < 5; tries++ { // no answer in time says nothing about what is there
					got, err = c.read(s.Members[len(key)%3], key)
				}
				if err != nil || got != value {
					if lost++; lost < 4 {
						t.Errorf("%s was acknowledged as %q and is %q (%v)", key, value, got, err)
					}
				}
			}
			if list := c.list(t, s.Members[0]); !slices.Equal(list, x.names()) {
				t.Errorf("the cluster lists %v, and the members are %v", list, x.names())
			}
			t.Logf("%d of %d writes acknowledged, %d of them lost; longest gap 3→5: %s, 5→3 without the leader: %s", len(w.acked), w.tried, lost,
				out.Round(time.Millisecond), in.Round(time.Millisecond))
		})
	}
}

// TestAllProcessesEndAndTheVotersComeBackWithTheirData stops a field, ends every process that belongs to it as a machine
// that is switched off does, and starts it again: the same members, one cluster, all data.
func TestAllProcessesEndAndTheVotersComeBackWithTheirData(t *testing.T) {
	t.Parallel()
	for _, c := range []cluster{etcds, wardens} {
		t.Run(c.kit, func(t *testing.T) {
			x := newTrial(t, c.field(3, ""))
			x.must("deploy", x.file, "--yes")
			x.must("scale", "store", "4", "--yes") // one of them has joined, and not founded
			before := x.status()
			if err := c.write(before.Members[0], "ferry", "gull"); err != nil {
				t.Fatal(err)
			}
			same := func(how string) {
				t.Helper()
				s := x.status()
				if s.State != "converged" || !slices.Equal(c.list(t, s.Members[0]), []string{"store-1", "store-2", "store-3", "store-4"}) {
					t.Errorf("%s: %s", how, s.Verdict)
				}
				for i, m := range s.Members {
					if got, err := c.read(m, "ferry"); err != nil || got != "gull" || m.Member != before.Members[i].Member || m.PID == before.Members[i].PID {
						t.Errorf("%s: %s has %q (%v), process %d", how, m.Member, got, err, m.PID)
					}
				}
			}
			x.must("stop", x.file, "--yes")
			x.killKeeper()
			for _, p := range x.processes() {
				_ = syscall.Kill(p.pid, syscall.SIGKILL)
			}
			x.until("all processes have ended", 10*time.Second, func() bool { return len(x.processes()) == 0 })
			if s := x.status(); s.State == "converged" {
				t.Errorf("with everything ended: %s", s.Verdict)
			}
			x.must("start", x.file, "--yes")
			same("stopped and started")

			before = x.status()
			x.killKeeper()
			for _, p := range x.processes() { // without having been stopped: the power goes
				_ = syscall.Kill(p.pid, syscall.SIGKILL)
			}
			x.until("all processes have ended", 10*time.Second, func() bool { return len(x.processes()) == 0 })
			x.must("deploy", x.file, "--yes")
			x.until("it has converged", 60*time.Second, func() bool { return x.status().State == "converged" })
			same("after the power went")
		})
	}
}

// TestALostNodesVoterIsReplaced cuts a node off by stopping its agent, takes it out of the file, and looks at what the
// cluster lists. When the node answers again, what is left on it goes.
func TestALostNodesVoterIsReplaced(t *testing.T) {
	t.Parallel()
	for _, c := range []cluster{etcds, wardens} {
		t.Run(c.kit, func(t *testing.T) {
			x := newTrial(t, c.field(3, ""))
			x.must("deploy", x.file, "--yes")
			s := x.status()
			lost := s.member(s.Roles[0].Leader) // the hardest: the one that leads
			agent := x.agentOf(lost.Node)
			_ = syscall.Kill(agent, syscall.SIGSTOP)
			defer func() { _ = syscall.Kill(agent, syscall.SIGCONT) }()
			_ = syscall.Kill(lost.PID, syscall.SIGKILL)
			x.until("the node is unknown and the others have elected", 20*time.Second, func() bool {
				s := x.status()
				ready := 0
				for _, m := range s.Members {
					if m.Phase == "ready" && c.write(m, "ferry", "tern") == nil {
						ready++
					}
				}
				return s.member(lost.Member).Phase == "unknown" && ready == 2
			})
			out, code := x.try(30*time.Second, "scale", "store", "5", "--yes")
			if code != 2 || !strings.Contains(out, "Replacing it is safer than waiting if "+lost.Node+" does not come back") {
				t.Errorf("scaling out with a lost voter: %d\n%s", code, out)
			}

			nodes := ""
			for _, n := range []string{"gull-1", "gull-2", "tern-1", "tern-2", "puffin-1", "puffin-2"} {
				if n != lost.Node {
					nodes += "  - {name: " + n + ", zone: " + map[byte]string{'g': "north-quay", 't': "south-quay", 'p': "lighthouse"}[n[0]] + "}\n"
				}
			}
			x.write("format: 1\nfield: saltmarsh\ntrust: {tls: off}\nnodes:\n" + nodes + "roles:\n  store: {kit: " + c.kit + ", members: 3}\n")
			x.must("deploy", x.file, "--yes")
			x.until("store-1 is replaced", 30*time.Second, func() bool { // somebody leads again
				s = x.status()
				return s.State == "converged" && s.member("store-4").Phase == "ready"
			})
			if s.member("store-4").Node == lost.Node {
				t.Errorf("replaced: %s", s.Verdict)
			}
			want := []string{"store-1", "store-2", "store-3", "store-4"}
			want = slices.DeleteFunc(want, func(n string) bool { return n == lost.Member })
			if list := c.list(t, s.member("store-4")); !slices.Equal(list, want) {
				t.Errorf("the cluster lists %v, want %v", list, want)
			}
			_ = syscall.Kill(agent, syscall.SIGCONT)
			x.must("deploy", x.file, "--yes")
			x.until("the lost node is free", 30*time.Second, func() bool {
				_, _ = x.try(20*time.Second, "deploy", x.file, "--yes") // a controller, so that there is somebody to see to it
				return x.status().member(lost.Member).Member == "" && !slices.Contains(x.agents(), agent)
			})
		})
	}
}
