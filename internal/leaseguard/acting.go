package leaseguard

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"syscall"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"

	"lanternfield/internal/core/lease"
	"lanternfield/internal/host"
)

// letGo gives up the lease, where it is held. The program has ended, or is about to be.
func (g *guard) letGo(why string) {
	g.mu.Lock()
	g.says.Leads, g.says.Follows = false, false
	g.mu.Unlock()
	held := g.term.end()
	if held {
		g.say("the lease is given up: " + why)
	}
	if g.id != 0 && g.store != nil {
		ctx, cancel := context.WithTimeout(context.Background(), storeWait)
		_ = g.store.Revoke(ctx, g.id)
		cancel()
	}
	g.setID(0)
}

func (g *guard) setID(id clientv3.LeaseID) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.id = id
}

// launch starts the program: as one that follows where somebody holds the lease, else as one that follows nobody yet. It never takes writes then.
func (g *guard) launch() time.Duration {
	if !g.seen.Known && time.Since(g.begun) < 3*time.Second && !g.begun.IsZero() {
		return soon * 5
	}
	p := &program{argv: g.argv}
	g.self = lease.Self{Blocked: true, InEffect: true}
	g.barrier, g.mark = -1, 0
	if h := g.seen.Holder; g.seen.Known && h != nil && h.Member != g.config.Member && h.Number >= g.kept.Number {
		if err := g.keep(h.Number, h.Member); err != nil {
			g.say(err.Error())
			return pace
		}
		p.env = g.leadOf(h.Member)
		g.self.Follows = h.Member
	}
	if r := g.seen.Record; g.seen.Known && r == nil && g.config.Founds {
		p.env = append(p.env, "LEASE_BEGINS=yes") // nobody has anything yet
	}
	if err := p.start(); err != nil {
		g.say(err.Error())
		return pace
	}
	g.live.Store(p)
	g.fenced.Store(false)
	g.program, g.begun, g.failing, g.stuck = p, time.Now(), time.Time{}, time.Time{}
	return soon * 5
}

// unable starts the program again where it cannot follow without that, and tells whether it has.
func (g *guard) unable() bool {
	switch {
	case !g.fresh || !g.report.Stuck || g.term.held() != 0:
		g.stuck = time.Time{}
	case g.stuck.IsZero():
		g.stuck = time.Now()
	case time.Since(g.stuck) > stuckFor && time.Since(g.begun) > 2*stuckFor:
		g.say("its program cannot follow as it is: it is started again")
		g.endProgram(host.SignalByName(g.config.Stop), 10*time.Second)
		return true
	}
	return false
}

// endProgram ends the program, with a signal at first.
func (g *guard) endProgram(s syscall.Signal, within time.Duration) {
	p := g.program
	p.signal(s)
	select {
	case <-p.exited:
		sweep(2 * time.Second)
	case <-time.After(within):
		p.kill()
		<-p.exited
	}
	g.gone()
}

// gone says that the program has ended.
func (g *guard) gone() {
	g.live.Store(nil)
	g.program = nil
}

// fence ends the program at once, and gives up the lease.
func (g *guard) fence() {
	g.program.kill()
	<-g.program.exited
	g.gone()
	g.letGo("its program was ended")
}

// do does what was decided.
func (g *guard) do(a lease.Action) error {
	ctx, cancel := context.WithTimeout(context.Background(), storeWait)
	defer cancel()
	var err error
	switch a.Kind {
	case lease.Fence:
		g.fence()
	case lease.Drop:
		err = g.store.drop(ctx, g.seen)
	case lease.Acquire:
		err = g.acquire(ctx, a.Record)
	case lease.Write:
		_, err = g.store.write(ctx, a.Record, g.seen)
	case lease.Cut:
		_, err = run(context.Background(), g.config.Cut, actWait)
		g.self.Follows = ""
	case lease.Confirm:
		var names []string
		for _, n := range a.Names {
			names = append(names, string(n))
		}
		_, err = run(context.Background(), g.config.Confirm, actWait, "CONFIRM="+strings.Join(names, " "))
	case lease.Promote:
		err = g.steps(g.config.TakeLead)
	case lease.Attach:
		if err = g.keep(a.To.Number, a.To.Member); err == nil {
			if err = g.steps(g.config.AttachTo, g.leadOf(a.To.Member)...); err == nil {
				g.self.Follows = a.To.Member
			}
		}
	}
	return err
}

func (g *guard) steps(steps [][]string, env ...string) error {
	for _, argv := range steps {
		if _, err := run(context.Background(), argv, actWait, env...); err != nil {
			return err
		}
	}
	return nil
}

// acquire takes the lease. Nothing is promised to another meanwhile.
func (g *guard) acquire(ctx context.Context, r lease.Record) error {
	g.mu.Lock()
	if g.claiming = now() >= g.bound || g.seen.Record == nil || g.seen.Record.Lead == g.config.Member; !g.claiming {
		g.mu.Unlock()
		return errors.New("it has promised to wait")
	}
	g.mu.Unlock()
	defer func() {
		g.mu.Lock()
		g.claiming = false
		g.mu.Unlock()
	}()
	if was := g.seen.Record; was != nil && was.Lead != g.config.Member {
		if number, who := g.highest(); number > was.Number {
			return fmt.Errorf("%s goes by number %d, and the store knows of %d only: %s", who, number, was.Number, putBack)
		}
	}
	sent, lasts := now(), time.Duration(g.config.For)
	id, got, taken, err := g.store.acquire(ctx, r, g.seen, lasts)
	if err != nil || !taken {
		if id != 0 {
			again, cancel := context.WithTimeout(context.Background(), storeWait)
			defer cancel()
			_ = g.store.Revoke(again, id)
		}
		if err == nil {
			err = errors.New("another was faster")
		}
		return err
	}
	g.setID(id)
	g.seen = got
	g.term.begin(r.Number, sent, lasts)
	if err := g.keep(r.Number, r.Lead); err != nil {
		g.fence()
		return err
	}
	return nil
}

// putBack says what to do about a store that knows less than members do.
const putBack = "it was put back to an earlier state, so nobody takes over by it. docs/leases.md says how to go on"

// give hands the lease over: the program ends in order, which brings all that it has written to those that follow; then the lease is for the other.
func (g *guard) give(to lease.Name) error {
	g.look()
	switch r := g.seen.Record; {
	case to == g.kept.Lead:
		return nil // it leads already
	case g.term.held() == 0:
		return fmt.Errorf("%s does not lead", g.config.Member)
	case !g.seen.Known || r == nil:
		return errors.New("the lease store does not answer")
	case !slices.Contains(r.Sync, to):
		return fmt.Errorf("%s may lack writes that were acknowledged: %s may take over", to, lease.List(r.Sync))
	default:
		g.say(fmt.Sprintf("the lease is handed over to %s", to))
		g.mu.Lock()
		g.says.Leads = false
		g.mu.Unlock()
		g.endProgram(host.SignalByName(g.config.Stop), time.Duration(g.config.For))
		ctx, cancel := context.WithTimeout(context.Background(), storeWait)
		defer cancel()
		next := *r
		next.Heir = to
		_, err := g.store.write(ctx, next, g.seen)
		g.letGo("it is for " + string(to))
		return err
	}
}
