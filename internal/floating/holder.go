// Package floating is the holder of an address that one member of a role has at a time: a small process beside an agent, which takes a lease when it is free,
// has the address while it holds that, and announces it. What it does next is decided by core/floating; here it is done.
package floating

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/netip"
	"os"
	"os/signal"
	"reflect"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"lanternfield/internal/core/floating"
	"lanternfield/internal/core/lease"
	"lanternfield/internal/core/order"
)

// How often the store is read while nothing changes in it, how long it may take, how long what was read is gone by, and for how long a holder goes on without an agent:
// it does not know then whether the member does its work.
const (
	pace      = 500 * time.Millisecond
	storeWait = time.Second
	freshFor  = 2 * time.Second
	alone     = 15 * time.Second

	againAfter = 200 * time.Millisecond // something has failed
)

// addresses is what a holder does with the machine's network.
type addresses interface {
	// Put has the address on the interface that has the other one, for that long.
	Put(a, near netip.Addr, life time.Duration) error
	Remove(a netip.Addr) error
	// Announce tells who is on the network that the address is here.
	Announce(a netip.Addr) error
}

// leases is what a holder does in the store.
type leases interface {
	Read(ctx context.Context) (held, error)
	Take(ctx context.Context, member string, lasts time.Duration) (held, error)
	Renew(ctx context.Context, lease int64) error
	GiveBack(ctx context.Context, lease int64) error
	Changes(ctx context.Context, tell func())
	Close()
}

// held is who holds the lease; Member is empty where nobody does.
type held struct {
	Member string
	Lease  int64
	Term   uint64
}

var errTaken = errors.New("another was faster")

type holder struct {
	net  addresses
	open func(*order.Floating) (leases, error)
	now  func() time.Duration // a clock that goes on while the machine sleeps
	out  *json.Encoder

	told    floating.Told
	store   leases
	stop    context.CancelFunc
	wake    chan struct{}
	at      netip.Addr
	near    netip.Addr
	said    floating.Says
	why     string
	read    time.Duration // when the store was read; 0 where that is not known
	seen    held
	mine    held          // the lease that is held; Member is empty where none is
	until   time.Duration // it may be gone by
	renewed time.Duration
	due     []time.Duration // when the address is to be announced again
}

// Run is a holder from start to exit, which speaks with its agent over standard input and output.
func Run() int {
	h := &holder{net: &kernel{}, open: openStore, now: sinceBoot, out: json.NewEncoder(os.Stdout)}
	ctx, cancel := signal.NotifyContext(context.Background(), syscall.SIGTERM, syscall.SIGINT) // a successor goes on with what is there
	defer cancel()
	signal.Ignore(syscall.SIGPIPE, syscall.SIGHUP) // the agent may be gone
	h.run(ctx, os.Stdin)
	return 0
}

func sinceBoot() time.Duration {
	var t unix.Timespec
	if unix.ClockGettime(unix.CLOCK_BOOTTIME, &t) != nil {
		return 0
	}
	return time.Duration(t.Nano())
}

// run goes on until the agent says that it ends, has been gone for some time, or the context ends.
func (h *holder) run(ctx context.Context, in io.Reader) {
	h.wake = make(chan struct{}, 1)
	heard := make(chan floating.Told)
	go func() {
		defer close(heard)
		lines := json.NewDecoder(bufio.NewReader(in))
		for {
			var t floating.Told
			if lines.Decode(&t) != nil {
				return
			}
			select {
			case heard <- t:
			case <-ctx.Done():
				return
			}
		}
	}()
	var orphaned <-chan time.Time
	for ctx.Err() == nil {
		wait := pace
		if h.told.Of != nil {
			wait = h.turn(ctx)
			if h.told.Ends && h.mine.Member == "" {
				break
			}
		}
		select {
		case <-ctx.Done():
		case <-h.wake:
		case <-time.After(wait):
		case <-orphaned:
			h.told.Ends = true
		case t, more := <-heard:
			if !more {
				heard, orphaned = nil, time.After(alone)
				continue
			}
			h.take(ctx, t)
		}
	}
	if h.store != nil {
		h.stop()
		h.store.Close()
	}
}

// take goes by what the agent says from now on.
func (h *holder) take(ctx context.Context, t floating.Told) {
	before := h.told
	h.told = t
	if t.Of == nil || before.Of != nil && reflect.DeepEqual(*before.Of, *t.Of) {
		return
	}
	if h.store != nil {
		h.stop()
		h.store.Close()
		h.store = nil
	}
	at, err := netip.ParseAddr(t.Of.Address)
	near, bad := netip.ParseAddr(t.Near)
	if err = errors.Join(err, bad); err != nil {
		h.says(err.Error())
		return
	}
	if h.at.IsValid() && at != h.at {
		_ = h.net.Remove(h.at)
	}
	h.at, h.near, h.read = at, near, 0
	store, err := h.open(t.Of)
	if err != nil {
		h.says(err.Error())
		return
	}
	watching, cancel := context.WithCancel(ctx)
	h.store, h.stop = store, cancel
	go func() {
		for watching.Err() == nil {
			store.Changes(watching, h.rouse)
			select {
			case <-watching.Done():
			case <-time.After(pace):
			}
		}
	}()
}

func (h *holder) rouse() {
	select {
	case h.wake <- struct{}{}:
	default:
	}
}

// says tells the agent how things are, when that has changed.
func (h *holder) says(why string) {
	now := floating.Says{Holds: h.mine.Member != "", Term: h.mine.Term, Why: why}
	if now != h.said {
		h.said = now
		_ = h.out.Encode(now) // nobody may be there
	}
}

// turn does what is next, and gives how long nothing is to be done after it.
func (h *holder) turn(ctx context.Context) time.Duration {
	if h.store == nil {
		return pace
	}
	lasts := time.Duration(h.told.Of.For)
	if h.mine.Member == "" || h.now()-h.read > pace {
		h.look(ctx)
	}
	now := h.now()
	known := h.read > 0 && now-h.read < freshFor
	s := floating.Seen{Ready: h.told.Ready, Ends: h.told.Ends, Known: known, Free: h.seen.Member == "", Mine: h.seen.Member == string(h.told.Member),
		Holds: h.mine.Member != "", Left: h.until - now, Renewed: now - h.renewed, Lasts: lasts}
	s.Mine = s.Mine && (!s.Holds || h.seen.Lease == h.mine.Lease)
	act := floating.Next(s)
	h.do(ctx, act, lasts)
	if h.mine.Member != "" {
		h.announceAgain()
	}
	h.says(h.why)
	if act != floating.Wait && h.why == "" {
		return 0
	}
	if act != floating.Wait {
		return againAfter
	}
	if h.mine.Member != "" {
		return min(max(h.renewed+lasts/floating.RenewedBy-h.now(), time.Millisecond), 100*time.Millisecond)
	}
	return pace
}

// look reads who holds the lease.
func (h *holder) look(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, storeWait)
	defer cancel()
	at := h.now()
	seen, err := h.store.Read(ctx)
	if err != nil {
		h.why = "the store of its lease does not answer: " + err.Error()
		return
	}
	h.seen, h.read, h.why = seen, at, ""
}

// do does one thing.
func (h *holder) do(ctx context.Context, act floating.Act, lasts time.Duration) {
	if act == floating.Wait {
		return
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), storeWait)
	defer cancel()
	sent := h.now()
	switch act {
	case floating.Take:
		got, err := h.store.Take(ctx, string(h.told.Member), lasts)
		if err != nil {
			h.read = 0 // what came of it is read
			if !errors.Is(err, errTaken) {
				h.why = "its lease cannot be taken: " + err.Error()
			}
			return
		}
		h.seen, h.read = got, h.now()
		h.have(got, sent, lasts, true)
	case floating.Adopt:
		if err := h.store.Renew(ctx, h.seen.Lease); err != nil {
			h.read = 0
			return
		}
		h.have(h.seen, sent, lasts, true)
	case floating.Renew:
		if err := h.store.Renew(ctx, h.mine.Lease); err != nil {
			h.why, h.read = "its lease cannot be renewed: "+err.Error(), 0
			h.renewed += lasts / (4 * floating.RenewedBy) // and again soon
			return
		}
		h.have(h.mine, sent, lasts, false)
	case floating.Lay, floating.Lost:
		if err := h.net.Remove(h.at); err != nil {
			h.why = "its address cannot be taken away: " + err.Error()
			if act == floating.Lay { // the system takes it away when its time has come
				h.renewed = sent
				return
			}
		}
		id := h.mine.Lease
		h.mine, h.due, h.read = held{}, nil, 0
		h.says(h.why)
		_ = h.store.GiveBack(ctx, id) // else it ends by itself
	}
}

// have goes by a lease that was asked for at that time, and has the address for as long.
func (h *holder) have(got held, sent, lasts time.Duration, first bool) {
	until := lease.Deadline(sent, lasts)
	life := floating.Lifetime(until - h.now())
	if life == 0 {
		h.why = "the store of its lease is too slow"
		return
	}
	if err := h.net.Put(h.at, h.near, life); err != nil {
		h.why = "it cannot be given its address: " + err.Error()
		if first {
			ctx, cancel := context.WithTimeout(context.Background(), storeWait)
			defer cancel()
			_ = h.store.GiveBack(ctx, got.Lease)
			h.read = 0
			time.Sleep(pace) // another may have it meanwhile
		}
		return
	}
	h.mine, h.until, h.renewed, h.why = got, until, sent, ""
	if !first {
		return
	}
	h.due = nil
	for _, after := range announcedAfter {
		h.due = append(h.due, h.now()+after)
	}
}

// announcedAfter is when an address is announced that has just come: several times, as announcements get lost.
var announcedAfter = []time.Duration{0, 100 * time.Millisecond, 500 * time.Millisecond, 2 * time.Second, 10 * time.Second}

// announcedEvery is how often it is announced after that, for who has missed all of these.
const announcedEvery = time.Minute

func (h *holder) announceAgain() {
	for len(h.due) > 0 && h.now() >= h.due[0] {
		if err := h.net.Announce(h.at); err != nil {
			h.why = "its address cannot be announced: " + err.Error()
		}
		if h.due = h.due[1:]; len(h.due) == 0 {
			h.due = []time.Duration{h.now() + announcedEvery}
		}
	}
}
