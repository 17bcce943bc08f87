package leaseguard

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strconv"
	"time"

	"lanternfield/internal/core/lease"
)

// rouse has the main loop look at once.
func (g *guard) rouse() {
	select {
	case g.wake <- struct{}{}:
	default:
	}
}

// say has the member's log, and those who ask, told what the guard does.
func (g *guard) say(why string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.says.Why == why {
		return
	}
	note(why)
	g.says.Why = why
	_ = os.WriteFile("data/lease/why", []byte(why+"\n"), 0o644)
}

// standing is what is said of the member now.
func (g *guard) standing() standing {
	g.mu.Lock()
	defer g.mu.Unlock()
	s := g.says
	if _, left := g.term.left(); s.Leads && left <= 0 {
		s.Leads = false
	}
	s.Number, s.Lead = g.kept.Number, g.kept.Lead
	return s
}

// look reads the store.
func (g *guard) look() {
	g.seen = seen{}
	if g.store == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), storeWait)
	defer cancel()
	got, err := g.store.read(ctx)
	if err != nil {
		return
	}
	g.seen = got
	switch {
	case got.Holder != nil:
		g.free = time.Time{}
	case g.free.IsZero():
		g.free = time.Now()
	}
}

// leadOf tells commands who leads.
func (g *guard) leadOf(name lease.Name) []string {
	for _, p := range g.config.Members {
		if p.Member == name {
			return []string{"LEAD_MEMBER=" + string(p.Member), "LEAD_ADDRESS=" + p.Address, "LEAD_PORT=" + strconv.Itoa(p.Port)}
		}
	}
	return nil
}

// ask has the program say how it is.
func (g *guard) ask() {
	g.fresh = false
	out, err := run(context.Background(), g.config.State, stateWait)
	var r lease.Report
	if err == nil {
		if err = json.Unmarshal(out, &r); err != nil {
			err = fmt.Errorf("%s: %w", g.config.State[len(g.config.State)-1], err)
		}
	}
	s := &g.self
	if err != nil {
		if g.failing.IsZero() {
			g.failing = time.Now().Add(-stateWait / 2) // it was asked earlier than that, or there is nobody to ask
		}
		if time.Since(g.failing) > unwell {
			s.Up = false
		}
		return
	}
	g.failing, g.fresh = time.Time{}, true
	if r.Busy {
		return
	}
	g.report = r
	follows := s.Follows
	*s = lease.Self{Up: true, Leads: r.Leads, Follows: follows, Cut: r.Follows == "" && !r.Gets, Blocked: r.Blocked, InEffect: true}
	if s.Cut {
		s.Follows = ""
	}
	for _, name := range r.Confirm {
		s.Confirm = append(s.Confirm, lease.Name(name))
	}
	slices.Sort(s.Confirm)
	for _, f := range r.Followers {
		s.InEffect = s.InEffect && f.Current
	}
	switch { // how far it had written is read after the setting was seen to hold
	case !s.InEffect || r.Mark != g.mark:
		g.mark, g.barrier = 0, -1
		if s.InEffect {
			g.mark = r.Mark
		}
	case g.barrier < 0:
		g.barrier = r.Written
	}
	for _, f := range r.Followers {
		if f.Gets {
			s.Streaming = append(s.Streaming, lease.Name(f.Member))
		}
		if f.Gets && g.barrier >= 0 && f.Flushed >= g.barrier {
			s.InSync = append(s.InSync, lease.Name(f.Member))
		}
	}
	slices.Sort(s.Streaming)
}

// view is what is decided by.
func (g *guard) view() lease.View {
	g.mu.Lock()
	defer g.mu.Unlock()
	c := g.config
	v := lease.View{Me: c.Member, Want: c.Want, Founds: c.Founds, Paused: c.Paused, Promised: g.kept.Number, Holding: g.term.held(), Store: g.seen.Store, Self: g.self}
	for _, p := range c.Members {
		if p.Member != c.Member {
			v.Others = append(v.Others, p.Member)
		}
	}
	v.Bound = now() < g.bound
	v.Yields = g.seen.Record != nil && g.seen.Record.Heir != "" && !g.free.IsZero() && time.Since(g.free) < time.Duration(c.For)
	return v
}

// tell says what the guard does or waits for.
func (g *guard) tell(a lease.Action) {
	held := g.term.held() != 0
	g.mu.Lock()
	g.says.Leads = held && g.self.Up && g.self.Leads
	g.says.Follows = !held && g.self.Up && !g.self.Leads && g.report.Gets && g.self.Follows != ""
	g.mu.Unlock()
	g.say(phrase(a))
}

// phrase words an action.
func phrase(a lease.Action) string {
	switch a.Kind {
	case lease.Wait:
		return a.Why
	case lease.Fence:
		return "its program is ended, and starts again without taking writes: " + a.Why
	case lease.Drop:
		return "it gives up a lease: " + a.Why
	case lease.Acquire:
		return fmt.Sprintf("it takes the lease, number %d: %s", a.Record.Number, a.Why)
	case lease.Cut:
		return "it stops following: " + a.Why
	case lease.Confirm:
		return fmt.Sprintf("every write waits from now on until it is confirmed by %s", lease.List(a.Names))
	case lease.Promote:
		return "it begins to take writes: " + a.Why
	case lease.Write:
		return fmt.Sprintf("should this member be lost, %s may take over: all writes are there", lease.List(a.Record.Sync))
	}
	return fmt.Sprintf("it follows %s, which holds the lease (number %d)", a.To.Member, a.To.Number)
}
