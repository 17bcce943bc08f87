package guests

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
	"lanternfield/internal/ground"
	"lanternfield/internal/ground/kind"
	"lanternfield/internal/identity"
)

// fakeAgent is the agent of a machine that has joined: it says who it is, and leaves as it is told to.
type fakeAgent struct {
	url   string
	close func()
	leave atomic.Value // func(http.ResponseWriter)
	asked atomic.Int32
}

func newFakeAgent(t *testing.T, authority *identity.Authority, node string) *fakeAgent {
	t.Helper()
	var party identity.Agent
	request, err := party.Request()
	if err != nil {
		t.Fatal(err)
	}
	certificate, err := authority.Sign(request, node)
	if err = errors.Join(err, party.Take(certificate, authority.Certificate())); err != nil {
		t.Fatal(err)
	}
	inner, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	a := &fakeAgent{url: "https://" + inner.Addr().String()}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /v1/standing", func(w http.ResponseWriter, _ *http.Request) {
		_ = json.NewEncoder(w).Encode(order.Standing{Speaks: order.Speaks, Arch: "none"})
	})
	mux.HandleFunc("POST /v1/leave", func(w http.ResponseWriter, _ *http.Request) {
		a.asked.Add(1)
		a.leave.Load().(func(http.ResponseWriter))(w)
	})
	server := &http.Server{Handler: mux}
	go func() { _ = server.Serve(identity.Listen(inner, party.Terms(), party.Counts)) }()
	a.close = func() { server.Close() }
	t.Cleanup(a.close)
	return a
}

func newGuests(t *testing.T) *Guests {
	t.Helper()
	authority, _, err := identity.New()
	if err != nil {
		t.Fatal(err)
	}
	g := &Guests{Cache: ground.Notes(t.TempDir())}
	g.Authority = authority
	return g
}

func TestANodeIsGivenWhenItsMachineHasJoined(t *testing.T) {
	g := newGuests(t)
	ctx := context.Background()
	want := ground.Want{Node: field.Node{Name: "skua"}}
	var awaited *ground.AwaitedError
	if at, err := g.Give(ctx, want, nil); !errors.As(err, &awaited) || at.Address != "" {
		t.Errorf("nobody has come, and it is given: %v %v", at, err)
	}
	if err := g.Came("skua", Guest{URL: "https://10.0.0.9:7800", Address: "10.0.0.9", Dir: "/x/quay/skua", Machine: "m"}); err != nil {
		t.Fatal(err)
	}
	at, err := g.Give(ctx, want, nil)
	if err != nil || at.Address != "10.0.0.9" || at.Dir != "/x/quay/skua" || at.ID != "m" || at.Kind != kind.Join {
		t.Errorf("%+v %v", at, err)
	}
	have := ground.Bindings{"skua": at}
	want.Address = "10.0.0.10"
	if _, err := g.Give(ctx, want, have); err == nil || !strings.Contains(err.Error(), "has joined at 10.0.0.9, and is to be at 10.0.0.10") {
		t.Errorf("its address in the file is another: %v", err)
	}
	want.Address, want.Networks = "", []string{"main", "wide"}
	if _, err := g.Give(ctx, want, have); err == nil || !strings.Contains(err.Error(), "its address on the network wide has to stand in the file") {
		t.Errorf("its address on another network is not known: %v", err)
	}
	want.Node.Addresses = map[string]string{"wide": "192.0.2.1"}
	if at, err := g.Give(ctx, want, have); err != nil || at.Addresses["wide"] != "192.0.2.1" || at.Dir != "/x/quay/skua" {
		t.Errorf("%+v %v", at, err)
	}
}

// TestANodeIsReleasedWhenItsAgentHasLeft has an agent leave in every way: it says that it cannot, is cut off while it leaves, says that something is left, and
// leaves at last. A machine that is only away has not left.
func TestANodeIsReleasedWhenItsAgentHasLeft(t *testing.T) {
	g := newGuests(t)
	agent := newFakeAgent(t, g.Authority, "skua")
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	at := state.Binding{Kind: kind.Join, Address: "127.0.0.1", Dir: "/x/quay/skua", ID: "m"}
	came := func() {
		t.Helper()
		if err := g.Came("skua", Guest{URL: agent.url, Address: at.Address, Dir: at.Dir, Machine: "m"}); err != nil {
			t.Fatal(err)
		}
	}
	came()
	noted := func() bool { var m Guest; return g.Cache.Read("skua", &m) }
	for want, leave := range map[string]func(http.ResponseWriter){
		"the disk is broken": func(w http.ResponseWriter) { http.Error(w, "the disk is broken", http.StatusInternalServerError) },
		"this is left there: /x/quay/skua, process 12 of a member": func(w http.ResponseWriter) {
			_ = json.NewEncoder(w).Encode([]string{"/x/quay/skua", "process 12 of a member"})
		},
	} {
		agent.leave.Store(leave)
		if err := g.Release(ctx, "skua", at); err == nil || !strings.Contains(err.Error(), want) || !noted() {
			t.Errorf("%v; want %s; noted: %t", err, want, noted())
		}
	}
	agent.leave.Store(func(w http.ResponseWriter) { _ = json.NewEncoder(w).Encode([]string{}) })
	if err := g.Release(ctx, "skua", at); err != nil || noted() {
		t.Errorf("it has left: %v; noted: %t", err, noted())
	}

	// One that was cut off while it left: it is known to have gone when it cannot be connected to. One that was never asked is not.
	came()
	agent.leave.Store(func(w http.ResponseWriter) {
		conn, _, _ := http.NewResponseController(w).Hijack()
		conn.Close()
	})
	if err := g.Release(ctx, "skua", at); err == nil || !noted() {
		t.Errorf("it was cut off: %v", err)
	}
	agent.close()
	if err := g.Release(ctx, "skua", at); err != nil || noted() {
		t.Errorf("it has gone: %v", err)
	}
	came()
	if err := g.Release(ctx, "skua", at); err == nil || !noted() {
		t.Errorf("a machine that is away has left: %v", err)
	}
}

// TestAnAgentIsFoundWhereNothingIsNoted looks for an agent at all ports at which it may be, and takes no other node's for it.
func TestAnAgentIsFoundWhereNothingIsNoted(t *testing.T) {
	g := newGuests(t)
	skua, tern := newFakeAgent(t, g.Authority, "skua"), newFakeAgent(t, g.Authority, "tern")
	at := state.Binding{Kind: kind.Join, Address: "127.0.0.1", Dir: "/x/quay/skua", ID: "m"}
	portOf := func(a *fakeAgent) int {
		p, err := net.LookupPort("tcp", a.url[strings.LastIndex(a.url, ":")+1:])
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	ctx := context.Background()
	at.Ground.AgentPort = portOf(tern)
	if _, err := g.Find(ctx, "skua", at); err == nil || !strings.Contains(err.Error(), "its agent answers at no port of 127.0.0.1") {
		t.Errorf("another node's agent is taken for it: %v", err)
	}
	at.Ground.AgentPort = portOf(skua)
	c, err := g.Ensure(ctx, "skua", at)
	if err != nil {
		t.Fatal(err)
	}
	c.Close()
	var m Guest
	if !g.Cache.Read("skua", &m) || m.URL != skua.url {
		t.Errorf("%+v is noted; want %s", m, skua.url)
	}
}
