package pier

import (
	"bufio"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"lanternfield/internal/demo/part"
)

// behind is a member behind the pier: it answers each line with its name.
type behind struct {
	Target
	sick atomic.Bool
}

func newBehind(t *testing.T, name string) *behind {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	b := &behind{}
	health := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if b.sick.Load() {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	}))
	t.Cleanup(func() { l.Close(); health.Close() })
	b.Target = Target{Name: name, Address: l.Addr().String(), Health: health.URL}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				for lines := bufio.NewScanner(c); lines.Scan(); {
					fmt.Fprintf(c, "%s %s\n", name, lines.Text())
				}
			}()
		}
	}()
	return b
}

func newPier(t *testing.T) (*pier, string) {
	t.Helper()
	p, err := part.New("pier", part.Options{})
	if err != nil {
		t.Fatal(err)
	}
	x := &pier{Part: p, http: &http.Client{Timeout: time.Second}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go x.accept(t.Context(), l)
	return x, l.Addr().String()
}

// client is one connection through the pier.
type client struct {
	net.Conn
	lines *bufio.Reader
}

func dial(t *testing.T, address string) *client {
	t.Helper()
	c, err := net.Dial("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	_ = c.SetDeadline(time.Now().Add(10 * time.Second))
	return &client{c, bufio.NewReader(c)}
}

// who asks through the connection who is at its other end.
func (c *client) who() string {
	fmt.Fprintln(c, "hail")
	line, _ := c.lines.ReadString('\n')
	var name string
	_, _ = fmt.Sscan(line, &name)
	return name
}

func TestConnectionsAreBalancedOverReadyMembers(t *testing.T) {
	a, b, sick := newBehind(t, "a"), newBehind(t, "b"), newBehind(t, "sick")
	sick.sick.Store(true)
	x, address := newPier(t)
	x.follow(t.Context(), Config{Behind: []Target{a.Target, b.Target, sick.Target}})
	got := map[string]int{}
	for range 10 {
		got[dial(t, address).who()]++
	}
	if got["a"] != 5 || got["b"] != 5 {
		t.Errorf("got %v", got)
	}
}

func TestOpenConnectionsOutliveAChangeOfWhoIsBehind(t *testing.T) {
	a, b := newBehind(t, "a"), newBehind(t, "b")
	x, address := newPier(t)
	x.follow(t.Context(), Config{Behind: []Target{a.Target}})
	old := dial(t, address)
	if got := old.who(); got != "a" {
		t.Fatalf("got %q", got)
	}
	x.follow(t.Context(), Config{Behind: []Target{b.Target}})
	if got := old.who(); got != "a" {
		t.Errorf("the open connection got %q after the change", got)
	}
	if got := dial(t, address).who(); got != "b" {
		t.Errorf("a new connection got %q", got)
	}
}

func TestAMemberThatDoesNotTakeAConnectionIsPassedOver(t *testing.T) {
	a, gone := newBehind(t, "a"), newBehind(t, "gone")
	gone.Target.Address = "127.0.0.1:1" // healthy, and nobody listens
	x, address := newPier(t)
	x.follow(t.Context(), Config{Behind: []Target{gone.Target, a.Target}})
	for range 4 {
		if got := dial(t, address).who(); got != "a" {
			t.Errorf("got %q", got)
		}
	}
	x.follow(t.Context(), Config{})
	if got := dial(t, address).who(); got != "" || x.refused.Load() != 1 {
		t.Errorf("with nobody behind it: got %q, %d refused", got, x.refused.Load())
	}
}
