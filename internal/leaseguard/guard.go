// Package leaseguard is the guard of a member of a role whose program elects nobody: the parent of the member's program, which holds the role's lease while
// the member leads, and with which the member dies. What it does next is decided by package lease; here it is done. A guard needs neither
// a controller nor an agent.
package leaseguard

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"

	"lanternfield/internal/core/lease"
	"lanternfield/internal/host"
	"lanternfield/internal/leasestore"
)

// How often things are looked at.
const (
	pace      = 500 * time.Millisecond // while nothing is to be done
	soon      = 20 * time.Millisecond  // after something was
	storeWait = time.Second
	stateWait = 1500 * time.Millisecond
	unwell    = 2 * time.Second         // for how long a program that leads may not answer before that counts
	stuckFor  = 1500 * time.Millisecond // for how long a program may be unable to follow before it is started again
	actWait   = 30 * time.Second        // for what leads to leading or following
)

// handing is an order to give the lease to another.
type handing struct {
	to   lease.Name
	done chan error
}

// standing is what a guard says of its member.
type standing struct {
	Leads   bool       `json:"leads"`
	Follows bool       `json:"follows"`
	Going   bool       `json:"going,omitempty"`
	Number  uint64     `json:"number"`
	Lead    lease.Name `json:"lead,omitempty"`
	Why     string     `json:"why,omitempty"`
}

type guard struct {
	argv     []string
	live     atomic.Pointer[program] // what runs; as program, for other goroutines
	program  *program
	fenced   atomic.Bool // the program was ended because the lease could: it is started again
	term     term
	wake     chan struct{}
	handOver chan handing

	mu       sync.Mutex // for what follows, which others read
	config   *lease.Config
	kept     kept
	claiming bool          // it is about to take the lease
	bound    time.Duration // until when it has promised to take nothing
	says     standing

	// Of the main loop alone.
	read    time.Time // when the configuration was changed
	trusted time.Time // when the authority was
	store   *store
	stop    context.CancelFunc
	id      clientv3.LeaseID
	seen    seen
	self    lease.Self
	report  lease.Report
	failing time.Time // since when the program does not say how it is
	fresh   bool      // its state was read in this turn
	stuck   time.Time // since when it cannot follow
	begun   time.Time // when the program was started
	free    time.Time // since when the lease is seen to be free
	mark    int64     // of the setting that was seen to hold
	barrier int64     // how far the member had written after that; -1 before that is known
}

// note writes a line into the member's log.
func note(line string) {
	fmt.Fprintf(os.Stderr, "%s guard: %s\n", time.Now().UTC().Format("2006-01-02 15:04:05.000 MST"), line)
}

// Run guards a member, whose program is argv, until that ends; it gives the exit status.
func Run(argv []string) int {
	g := &guard{argv: argv, wake: make(chan struct{}, 1), handOver: make(chan handing), barrier: -1}
	if len(argv) == 0 {
		note("there is nothing to run")
		return 2
	}
	if err := g.begin(); err != nil {
		note(err.Error())
		return 1
	}
	return g.run()
}

func (g *guard) run() int {
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, syscall.SIGHUP, syscall.SIGINT, syscall.SIGTERM, syscall.SIGQUIT, syscall.SIGUSR1, syscall.SIGUSR2)
	go g.watch()
	for {
		wait := g.turn()
		var exited chan int
		if g.program != nil {
			exited = g.program.exited
		}
		select {
		case <-time.After(wait):
		case <-g.wake:
		case s := <-signals:
			switch s := s.(syscall.Signal); {
			case g.ends(s) && g.program != nil:
				return g.finish(s)
			case g.ends(s):
				return 128 + int(s)
			case g.program != nil:
				g.program.signal(s)
			}
		case h := <-g.handOver:
			h.done <- g.give(h.to)
		case code := <-exited:
			g.gone()
			g.letGo("its program has ended")
			if sweep(2 * time.Second); !g.fenced.Swap(false) {
				return code
			}
		}
		host.ReapOrphans()
	}
}

// ends tells whether a signal asks the program to end.
func (g *guard) ends(s syscall.Signal) bool {
	return s == syscall.SIGTERM || s == syscall.SIGINT || s == syscall.SIGQUIT || s == host.SignalByName(g.config.Stop)
}

// finish ends the program in order, and gives up the lease only then.
func (g *guard) finish(s syscall.Signal) int {
	g.mu.Lock()
	g.says.Going = true
	g.mu.Unlock()
	g.say("it is asked to end")
	if drain := time.Duration(g.config.Drain); drain > 0 && (g.says.Leads || g.says.Follows) {
		select {
		case <-time.After(drain):
		case code := <-g.program.exited:
			g.program.exited <- code
		}
	}
	g.program.signal(s)
	code := <-g.program.exited
	g.gone()
	sweep(2 * time.Second)
	g.letGo("it was asked to end")
	return code
}

// watch renews the lease that is held, and ends the program before the lease can have ended. It waits for nothing that the program does.
func (g *guard) watch() {
	var asking sync.WaitGroup
	renewed, promised := time.Duration(0), time.Duration(0)
	for ; ; time.Sleep(50 * time.Millisecond) {
		number := g.term.held()
		if number == 0 {
			continue
		}
		left, all := g.term.left()
		if all <= 0 {
			if g.term.end() {
				g.fenced.Store(true)
				if p := g.live.Load(); p != nil {
					p.kill()
				}
				g.say("the lease could not be renewed in time: its program was ended, so that it takes no writes while another may")
				g.rouse()
			}
			continue
		}
		lasts := time.Duration(g.settings().For)
		if at := now(); at-renewed > lasts/5 {
			renewed = at
			asking.Go(func() { g.renew(number, lasts) })
		}
		if at := now(); left < lasts/2 && at-promised > lasts/5 {
			promised = at
			asking.Go(func() {
				if g.promises(number) {
					g.term.agreed(number, at)
				}
			})
		}
	}
}

func (g *guard) renew(number uint64, lasts time.Duration) {
	g.mu.Lock()
	s, id := g.store, g.id
	g.mu.Unlock()
	if s == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), lasts/4)
	defer cancel()
	sent := now()
	switch err := s.Renew(ctx, id); {
	case err == nil:
		g.term.renewed(number, sent)
	case errors.Is(err, leasestore.ErrGone) && g.term.held() == number:
		g.rouse() // the main loop sees it, and ends it
	}
}

// turn looks once at everything and does the next thing. It gives how long to wait before the next turn.
func (g *guard) turn() time.Duration {
	if err := g.configure(); err != nil {
		g.say(err.Error())
	}
	g.look()
	if g.program == nil {
		return g.launch()
	}
	g.ask()
	action := lease.Next(g.view())
	g.tell(action)
	if g.unable() {
		return soon
	}
	if action.Kind == lease.Wait {
		if r := g.seen.Record; !g.fresh || g.term.held() != 0 && r != nil && len(r.Sync) < g.config.Want {
			return soon * 5
		}
		return pace
	}
	if err := g.do(action); err != nil {
		g.say(fmt.Sprintf("%s: %v", phrase(action), err))
		return pace / 2
	}
	return soon
}
