package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

// desk is a database behind an entry, and a store: what clients reach through an entry, and directly.
const desk = `format: 1
field: harbour-trust
nodes:
  - {name: "gull-{1..2}", zone: north-quay}
  - {name: "tern-{1..2}", zone: south-quay}
roles:
  tariffs: {kit: etcd, members: 3, spread: node}
  berths: {kit: postgresql, members: 2, settings: {database: berths}}
  desk: {kit: haproxy, members: 1, calls: {members: berths}, names: [desk.harbour.example]}
`

// caller calls the database through its entry all the time, each time over a connection of its own whose certificate is verified, and counts.
type caller struct {
	url       atomic.Pointer[string]
	done      chan struct{}
	all       sync.WaitGroup
	ok, lost  atomic.Int64
	mu        sync.Mutex
	firstLoss string
}

// call begins to call so many times a second.
func call200(t *testing.T, url string) *caller {
	c := &caller{done: make(chan struct{})}
	c.url.Store(&url)
	const callers, perSecond = 8, 200
	for i := range callers {
		c.all.Go(func() {
			tick := time.NewTicker(time.Second * callers / perSecond)
			defer tick.Stop()
			for n := 0; ; n++ {
				select {
				case <-c.done:
					return
				case <-tick.C:
				}
				if err := c.once(i*1_000_000 + n); err != nil {
					c.lost.Add(1)
					c.mu.Lock()
					if c.firstLoss == "" {
						c.firstLoss = err.Error()
					}
					c.mu.Unlock()
					continue
				}
				c.ok.Add(1)
			}
		})
	}
	t.Cleanup(c.end)
	return c
}

func (c *caller) once(n int) error {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	conn, err := pgx.Connect(ctx, *c.url.Load())
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	_, err = conn.Exec(ctx, "insert into calls values ($1)", n)
	return err
}

func (c *caller) end() {
	select {
	case <-c.done:
	default:
		close(c.done)
	}
	c.all.Wait()
}

// TestTheAuthorityIsReplacedUnderCalls has another authority take the place of the first while 200 calls a second go through the entry, by clients that
// know only the one before: none is lost. Then clients are given the new one, the one before is withdrawn, and none is lost again; who still shows or knows
// the old one is turned away.
func TestTheAuthorityIsReplacedUnderCalls(t *testing.T) {
	t.Parallel()
	x := newTrial(t, desk)
	x.must("deploy", x.file, "--yes", "--timeout", "120s")
	before, store := x.access("berths"), x.access("tariffs")
	if out, err := before.runs("psql", "-Xqc", "create table calls (n bigint primary key)").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	calls := call200(t, before.url)
	x.until("calls go through", 40*time.Second, func() bool { return calls.ok.Load() > 100 })

	out := x.must("trust", "renew", x.file, "--yes", "--timeout", "120s")
	x.contains(out, "show what was issued last")
	out = x.must("trust", "rotate", x.file, "--yes", "--timeout", "120s")
	x.contains(out, "Authorities 1 and 2 count")
	if _, code := x.try(20*time.Second, "trust", "rotate", x.file, "--yes"); code == 0 {
		t.Error("a second authority takes the place of one that has not taken its own")
	}
	if out, err := store.runs("etcdctl", "put", "tariff", "12").CombinedOutput(); err != nil {
		t.Errorf("a client that knows the authority before: %v %s", err, out)
	}
	after, storeAfter := x.access("berths"), x.access("tariffs")
	calls.url.Store(&after.url)
	x.must("trust", "rotate", x.file, "--finish", "--yes", "--timeout", "120s")
	x.until("more calls go through", 40*time.Second, func() bool { return calls.ok.Load() > 500 })
	calls.end()
	if n := calls.lost.Load(); n > 0 {
		t.Errorf("%d of %d calls were lost: %s", n, n+calls.ok.Load(), calls.firstLoss)
	}
	t.Logf("%d calls, %d lost", calls.ok.Load(), calls.lost.Load())

	if out, err := storeAfter.runs("etcdctl", "get", "tariff").CombinedOutput(); err != nil || !strings.Contains(string(out), "12") {
		t.Errorf("a client with the new authority: %v %s", err, out)
	}
	if out, err := store.runs("etcdctl", "--dial-timeout=1s", "--command-timeout=2s", "get", "tariff").CombinedOutput(); err == nil {
		t.Errorf("a client with the authority before is still served: %s", out)
	}
	var trust struct {
		Authorities  []struct{ Number int }
		Certificates []struct {
			Member string
			Served []struct{ Same, Silent bool }
		}
		Wrong []string
	}
	if err := json.Unmarshal([]byte(x.must("trust", x.file, "--json")), &trust); err != nil || len(trust.Authorities) != 1 || trust.Authorities[0].Number != 2 || len(trust.Wrong) > 0 || len(trust.Certificates) != 6 {
		t.Errorf("trust: %+v, %v", trust, err)
	}
}

// TestAKeyThatIsGoneOrForeignIsSaid takes the key of an authority away, and puts another in its place: members are given nothing that was made without it,
// what runs goes on, and with the key back everything does.
func TestAKeyThatIsGoneOrForeignIsSaid(t *testing.T) {
	t.Parallel()
	x := newTrial(t, "format: 1\nfield: harbour-lost\nnodes: [{name: \"gull-{1..3}\"}]\nroles:\n  tariffs: {kit: etcd, members: 3, spread: node}\n")
	x.must("deploy", x.file, "--yes", "--timeout", "60s")
	x.must("trust", "rotate", x.file, "--yes", "--timeout", "60s")
	ring := x.keyring()
	key := ring.Root(2)
	x.rootOf(2, nil)
	out, code := x.try(20*time.Second, "trust", x.file)
	if code != 2 || !strings.Contains(out, "the key of authority 2 is not in the keyring") || !strings.Contains(out, "back from a newer copy") {
		t.Errorf("exit status %d\n%s", code, out)
	}
	pid := x.status().member("tariffs-2").PID
	if out, code = x.try(20*time.Second, "restart", x.file, "tariffs-2", "--yes", "--timeout", "3s"); code == 0 {
		t.Errorf("a member was restarted without a certificate:\n%s", out)
	}
	if out := x.must("status", x.file); !strings.Contains(out, "problem: tariffs-2 is not given its order: the key of authority 2 is not in the keyring") {
		t.Errorf("status does not say it:\n%s", out)
	}
	if m := x.status().member("tariffs-2"); m.PID != pid || syscall.Kill(pid, 0) != nil {
		t.Errorf("what ran does not go on: %+v, process %d before", m, pid)
	}
	x.rootOf(2, bytes.Repeat([]byte{0xab}, 32))
	if out, code = x.try(20*time.Second, "trust", x.file); code != 2 || !strings.Contains(out, "is not the one that it was made with") {
		t.Errorf("a foreign key: exit status %d\n%s", code, out)
	}
	x.rootOf(2, key)
	x.until("it is restarted", 60*time.Second, func() bool {
		x.must("trust", x.file) // somebody keeps the field
		s := x.status()
		return s.State == "converged" && s.member("tariffs-2").PID != pid
	})
}
