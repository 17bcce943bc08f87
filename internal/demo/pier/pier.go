// Package pier is the demo's entry: it takes TCP connections and hands each to a member behind it that is ready, the one
// with the fewest connections first. When its config file changes it goes on with the connections that it has.
//
// Over HTTP, on a port of its own: GET /behind, /health, /metrics.
package pier

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"lanternfield/internal/demo/part"
)

// Options are what a pier is started with.
type Options struct {
	part.Options
	Entry string        // address:port that clients connect to
	Every time.Duration // how often those behind are asked whether they are ready
}

// Config is a pier's config file.
type Config struct {
	Behind []Target `json:"behind"`
}

// Target is a member behind the pier.
type Target struct {
	Name    string `json:"name"`
	Address string `json:"address"` // address:port that connections are handed to
	Health  string `json:"health"`  // URL that tells whether it is ready; empty where it speaks no HTTP
}

type pier struct {
	*part.Part
	every time.Duration
	http  *http.Client

	mu     sync.Mutex
	behind []*target
	turn   int // where choosing begins next, so that equals take turns

	taken, refused atomic.Int64
	open           atomic.Int64
}

type target struct {
	Target
	ready bool
	open  int
}

// dialWithin is how long a member behind may take to accept a connection before the next is tried.
const dialWithin = 500 * time.Millisecond

// Run is a pier from start to end.
func Run(ctx context.Context, o Options) error {
	return part.Run(ctx, "pier", o.Options, func(ctx context.Context, p *part.Part) error { return play(ctx, p, o) })
}

func play(ctx context.Context, p *part.Part, o Options) error {
	x := &pier{Part: p, every: o.Every, http: &http.Client{Timeout: time.Second}}
	if err := part.Configured(ctx, p, func(c Config) { x.follow(ctx, c) }); err != nil {
		return err
	}
	side, err := p.Listen()
	if err != nil {
		return err
	}
	entry, err := net.Listen("tcp", o.Entry)
	if err != nil {
		return err
	}
	p.ReadyWhen(func(context.Context) error {
		if x.count() == 0 {
			return errors.New("nobody behind it is ready")
		}
		return nil
	})
	p.Mux.HandleFunc("GET /behind", func(w http.ResponseWriter, _ *http.Request) { part.Answer(w, http.StatusOK, x.list()) })
	p.Measure("behind_ready", func() float64 { return float64(x.count()) })
	p.Measure("connections", func() float64 { return float64(x.open.Load()) })
	p.Measure("connections_total", func() float64 { return float64(x.taken.Load()) })
	p.Measure("connections_refused_total", func() float64 { return float64(x.refused.Load()) })
	context.AfterFunc(ctx, func() { entry.Close() })
	go x.accept(ctx, entry)
	go func() {
		for part.Sleep(ctx, x.every) {
			x.ask(ctx)
		}
	}()
	return p.Serve(ctx, side)
}

// follow takes a new list of who is behind. What is known of those that stay is kept, and so are all connections.
func (x *pier) follow(ctx context.Context, c Config) {
	x.mu.Lock()
	var next []*target
	for _, t := range c.Behind {
		if i := slices.IndexFunc(x.behind, func(o *target) bool { return o.Target == t }); i >= 0 {
			next = append(next, x.behind[i])
		} else {
			next = append(next, &target{Target: t})
		}
	}
	x.behind = next
	x.mu.Unlock()
	x.ask(ctx)
}

// ask finds out who is ready.
func (x *pier) ask(ctx context.Context) {
	x.mu.Lock()
	all := slices.Clone(x.behind)
	x.mu.Unlock()
	var asking sync.WaitGroup
	for _, t := range all {
		asking.Add(1)
		go func() {
			defer asking.Done()
			err := x.asks(ctx, t.Target)
			x.mu.Lock()
			defer x.mu.Unlock()
			t.ready = err == nil
		}()
	}
	asking.Wait()
}

// asks finds out whether one of those behind is ready: by the page on which it says so; where it has none, by whether it can be
// connected to.
func (x *pier) asks(ctx context.Context, t Target) error {
	if t.Health == "" {
		var d net.Dialer
		c, err := d.DialContext(ctx, "tcp", t.Address)
		if err == nil {
			c.Close()
		}
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, t.Health, nil)
	if err != nil {
		return err
	}
	res, err := x.http.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if _, err := io.Copy(io.Discard, io.LimitReader(res.Body, 64<<10)); err != nil {
		return err
	}
	if res.StatusCode >= 400 && res.StatusCode != http.StatusNotFound {
		return fmt.Errorf("HTTP status %d", res.StatusCode)
	}
	return nil
}

func (x *pier) count() int {
	x.mu.Lock()
	defer x.mu.Unlock()
	n := 0
	for _, t := range x.behind {
		if t.ready {
			n++
		}
	}
	return n
}

func (x *pier) list() []map[string]any {
	x.mu.Lock()
	defer x.mu.Unlock()
	out := []map[string]any{}
	for _, t := range x.behind {
		out = append(out, map[string]any{"name": t.Name, "address": t.Address, "ready": t.ready, "connections": t.open})
	}
	return out
}

func (x *pier) accept(ctx context.Context, l net.Listener) {
	for {
		c, err := l.Accept()
		if err != nil {
			if ctx.Err() == nil {
				fmt.Println("the entry cannot take connections:", err)
			}
			return
		}
		go x.carry(c)
	}
}

// carry hands a connection to a member that takes it, and copies both ways until both sides are done.
func (x *pier) carry(client net.Conn) {
	defer client.Close()
	x.taken.Add(1)
	tried := map[*target]bool{}
	for {
		t := x.choose(tried)
		if t == nil {
			x.refused.Add(1)
			return
		}
		tried[t] = true
		member, err := net.DialTimeout("tcp", t.Address, dialWithin)
		if err != nil {
			x.left(t)
			continue
		}
		x.open.Add(1)
		both(client, member)
		x.open.Add(-1)
		x.left(t)
		return
	}
}

// choose gives the ready member with the fewest connections among those not tried yet.
func (x *pier) choose(tried map[*target]bool) *target {
	x.mu.Lock()
	defer x.mu.Unlock()
	var best *target
	x.turn++
	for i := range x.behind {
		t := x.behind[(x.turn+i)%len(x.behind)]
		if t.ready && !tried[t] && (best == nil || t.open < best.open) {
			best = t
		}
	}
	if best != nil {
		best.open++
	}
	return best
}

func (x *pier) left(t *target) {
	x.mu.Lock()
	defer x.mu.Unlock()
	t.open--
}

// both copies both ways. An end of one direction is passed on, so that the other can still be finished.
func both(a, b net.Conn) {
	defer b.Close()
	var copying sync.WaitGroup
	for _, way := range [][2]net.Conn{{a, b}, {b, a}} {
		copying.Add(1)
		go func() {
			defer copying.Done()
			_, _ = io.Copy(way[0], way[1])
			if c, ok := way[0].(*net.TCPConn); ok {
				_ = c.CloseWrite()
			}
		}()
	}
	copying.Wait()
}
