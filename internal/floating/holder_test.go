package floating

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/floating"
	"lanternfield/internal/core/order"
)

// etcd is a store in memory whose leases do not end by themselves.
type etcd struct {
	mu     sync.Mutex
	held   held
	next   int64
	fails  error
	wakers []func()
}

func (e *etcd) tell() {
	for _, wake := range e.wakers {
		wake()
	}
}

func (e *etcd) Read(context.Context) (held, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.held, e.fails
}

func (e *etcd) Take(_ context.Context, member string, _ time.Duration) (held, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.fails != nil {
		return held{}, e.fails
	}
	if e.held.Member != "" {
		return held{}, errTaken
	}
	e.next++
	e.held = held{Member: member, Lease: e.next, Term: uint64(e.next)}
	return e.held, nil
}

func (e *etcd) Renew(_ context.Context, id int64) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.fails == nil && e.held.Lease != id {
		return errors.New("the lease has ended in the store")
	}
	return e.fails
}

func (e *etcd) GiveBack(_ context.Context, id int64) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.held.Lease == id {
		e.held = held{}
	}
	e.tell()
	return e.fails
}

func (e *etcd) Changes(ctx context.Context, tell func()) {
	e.mu.Lock()
	e.wakers = append(e.wakers, tell)
	e.mu.Unlock()
	<-ctx.Done()
}

func (e *etcd) Close() {}

func (e *etcd) fail(err error) {
	e.mu.Lock()
	e.fails = err
	e.mu.Unlock()
}

// card is a machine's network.
type card struct {
	mu        sync.Mutex
	has       bool
	refuses   error
	announced int
	log       []string
}

func (c *card) Put(_, _ netip.Addr, life time.Duration) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.refuses != nil {
		return c.refuses
	}
	if c.has = true; life < time.Second {
		c.log = append(c.log, "an address for "+life.String())
	}
	return nil
}

func (c *card) Remove(netip.Addr) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.has = false
	return nil
}

func (c *card) Announce(netip.Addr) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.announced++; !c.has {
		c.log = append(c.log, "announced what it does not have")
	}
	return nil
}

func (c *card) there() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.has
}

// one is a holder that runs.
type one struct {
	*testing.T
	name string
	net  *card
	in   *io.PipeWriter
	told floating.Told
	stop context.CancelFunc
	done chan struct{}

	mu   sync.Mutex
	said []floating.Says
}

func began(t *testing.T, name string, store *etcd, net *card) *one {
	in, tell := io.Pipe()
	heard, out := io.Pipe()
	ctx, cancel := context.WithCancel(context.Background())
	o := &one{T: t, name: name, net: net, in: tell, stop: cancel, done: make(chan struct{}),
		told: floating.Told{Member: field.MemberName(name), Near: "10.7.0.1", Of: &order.Floating{Address: "10.7.0.50", For: field.Duration(3 * time.Second)}, Ready: true}}
	h := &holder{net: o.net, open: func(*order.Floating) (leases, error) { return store, nil }, now: sinceBoot, out: json.NewEncoder(out)}
	go func() {
		h.run(ctx, in)
		out.Close()
		close(o.done)
	}()
	go func() {
		lines := json.NewDecoder(heard)
		for {
			var s floating.Says
			if lines.Decode(&s) != nil {
				return
			}
			o.mu.Lock()
			o.said = append(o.said, s)
			o.mu.Unlock()
		}
	}()
	t.Cleanup(func() { cancel(); <-o.done })
	o.tell()
	return o
}

func (o *one) tell() {
	if err := json.NewEncoder(o.in).Encode(o.told); err != nil {
		o.Fatal(err)
	}
}

func (o *one) last() floating.Says {
	o.mu.Lock()
	defer o.mu.Unlock()
	if len(o.said) == 0 {
		return floating.Says{}
	}
	return o.said[len(o.said)-1]
}

func until(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); !holds(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("never: %s", what)
		}
	}
}

// TestTheAddressIsWithWhoHoldsTheLease has two holders share an address, through what may happen to each.
func TestTheAddressIsWithWhoHoldsTheLease(t *testing.T) {
	store := &etcd{}
	a := began(t, "desk-1", store, &card{})
	until(t, "the first has it", func() bool { return a.net.there() && a.last().Holds })
	b := began(t, "desk-2", store, &card{})

	a.told.Ready = false
	a.tell()
	until(t, "it moves when the member does its work no more", func() bool { return b.net.there() && b.last().Holds && !a.net.there() && !a.last().Holds })
	if b.last().Term <= 1 {
		t.Errorf("its term does not rise: %+v", b.last())
	}

	// Its agent ends it without a word, as when that is replaced: the address stays, and a successor goes on with it.
	a.told.Ready = true
	a.tell()
	b.stop()
	<-b.done
	if !b.net.there() {
		t.Error("a holder that is replaced lays the address down")
	}
	again := began(t, "desk-2", store, b.net)
	until(t, "its successor goes on", func() bool { return again.last().Holds && again.last().Term == 2 })
	if a.net.there() {
		t.Error("another has it too")
	}

	// The store is gone: it is laid down before the lease can have ended.
	store.fail(errors.New("no answer"))
	until(t, "it is laid down without the store", func() bool { return !again.net.there() && !again.last().Holds })
	if why := again.last().Why; !strings.Contains(why, "no answer") {
		t.Errorf("why: %q", why)
	}
	store.mu.Lock()
	store.held = held{} // the lease has ended
	store.mu.Unlock()
	store.fail(nil)
	until(t, "somebody has it again", func() bool { return a.net.there() != again.net.there() })

	// Ending for good gives it back, and ends.
	for _, o := range []*one{a, again} {
		o.told.Ends = true
		o.tell()
	}
	for _, o := range []*one{a, again} {
		<-o.done
		if o.net.there() {
			t.Error("a holder that has ended has left the address")
		}
		o.net.mu.Lock()
		if len(o.net.log) > 0 {
			t.Errorf("%s: %v", o.name, slices.Compact(o.net.log))
		}
		o.net.mu.Unlock()
	}
	if store.held.Member != "" {
		t.Errorf("%s still holds the lease", store.held.Member)
	}
}

// TestWhoCannotHaveTheAddressGivesTheLeaseBack has a machine refuse the address: another one has it.
func TestWhoCannotHaveTheAddressGivesTheLeaseBack(t *testing.T) {
	store := &etcd{}
	a := began(t, "desk-1", store, &card{refuses: errors.New("only root may change a machine's addresses")})
	until(t, "it says why", func() bool {
		return a.last().Why == "it cannot be given its address: only root may change a machine's addresses" && !a.last().Holds
	})
	b := began(t, "desk-2", store, &card{})
	until(t, "another has it", func() bool { return b.net.there() })
}

// TestAnnouncementsAreAsTheStandardsSay compares them with what was written down by hand, by RFC 826, RFC 5227 and RFC 4861.
func TestAnnouncementsAreAsTheStandardsSay(t *testing.T) {
	card := []byte{2, 0, 0, 0, 0, 7}
	arp := []byte{
		255, 255, 255, 255, 255, 255, 2, 0, 0, 0, 0, 7, 8, 6, // to everybody, from the card, ARP
		0, 1, 8, 0, 6, 4, 0, 1, // Ethernet, IPv4, lengths, request
		2, 0, 0, 0, 0, 7, 10, 7, 0, 50, // who asks
		255, 255, 255, 255, 255, 255, 10, 7, 0, 50, // who is asked for: the same
	}
	if got := gratuitous(netip.MustParseAddr("10.7.0.50"), card, 1); !slices.Equal(got, arp) {
		t.Errorf("ARP: %v", got)
	}
	na := []byte{136, 0, 0, 0, 0x20, 0, 0, 0, 0xfd, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0x32, 2, 1, 2, 0, 0, 0, 0, 7}
	if got := advertisement(netip.MustParseAddr("fd00::32"), card); !slices.Equal(got, na) {
		t.Errorf("neighbour advertisement: %v", got)
	}
}
