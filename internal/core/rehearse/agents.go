package rehearse

import (
	"fmt"
	"slices"

	"lanternfield/internal/core/state"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

type node struct {
	name    field.NodeName
	asked   int // the newest asking that is under way
	cut     bool
	members map[field.MemberName]*simulated
	reports []order.Report
	last    uint64
	lives   int // how often it was freed

	term       uint64
	operations map[uint64]bool             // taken in
	newest     map[field.MemberName]uint64 // operation about each member; older ones are not tried any more
}

type simulated struct {
	order  order.Order
	life   *Life
	count  int
	failed int
}

func (w *World) node(name field.NodeName) *node {
	n := w.nodes[name]
	if n == nil {
		n = &node{name: name, members: map[field.MemberName]*simulated{}, operations: map[uint64]bool{}, newest: map[field.MemberName]uint64{}}
		w.nodes[name] = n
	}
	return n
}

// give is the ground that is asked for a node, as often as it is asked.
func (w *World) give(n *node, times int) {
	if n.asked == times {
		return
	}
	n.asked = times
	w.after(w.GivenAfter[n.name], func() {
		if why := w.NotGiven[n.name]; why != "" {
			_ = w.Do(engine.NodeNotGiven{Node: n.name, Times: times, Why: why})
			w.after(askAgain, func() { n.asked = 0; w.dispatch() })
			return
		}
		n.asked = 0
		_ = w.Do(engine.NodeGiven{Node: n.name, Times: times, Binding: w.binding(n)})
	})
}

// binding gives a node addresses out of the block that is set aside for trials (RFC 2544), by its place in the field.
func (w *World) binding(n *node) state.Binding {
	at := state.Binding{Addresses: map[string]string{}, Dir: "/rehearsal/" + string(n.name)}
	place := 0
	if f := w.State.Field; f != nil {
		if declared := f.Node(n.name); declared != nil {
			at.Ground = f.GroundFor(declared)
			at.Ground.Kind = ""
		}
		place = max(0, slices.IndexFunc(f.Possible(), func(o field.Node) bool { return o.Name == n.name }))
		for i, network := range f.Networks {
			at.Addresses[network] = fmt.Sprintf("198.18.%d.%d", (i+1)*64+place/250, place%250+1)
		}
	}
	at.Address = fmt.Sprintf("198.18.%d.%d", place/250, place%250+1)
	return at
}

func (w *World) release(n *node) {
	if n.cut || len(n.members) > 0 {
		return
	}
	n.reports = nil
	_ = w.Do(engine.NodeFreed{Node: n.name})
}

// receive is an agent taking an order.
func (w *World) receive(n *node, o order.Order) {
	if n.cut {
		return
	}
	m := n.members[o.Member]
	if m == nil {
		m = &simulated{}
		n.members[o.Member] = m
	}
	if o.Term < m.order.Term || o.Revision < m.order.Revision {
		return
	}
	again, before := o.Revision == m.order.Revision, m.order
	m.order = o
	w.report(n, order.Report{Kind: order.Taken, Member: o.Member, Revision: o.Revision})
	if again {
		return
	}
	switch {
	case o.Want == order.Run && o.NoRestart && m.life == nil:
		w.report(n, order.Report{Kind: order.Stopped, Member: o.Member, Revision: o.Revision})
	case o.Want == order.Run && m.life == nil:
		w.start(n, m)
	case o.Want == order.Run && w.Unfit[o.Member] != "" && !o.NoRestart:
		m.life.Round = o.Round
		w.report(n, order.Report{Kind: order.Reloaded, Member: o.Member, Revision: o.Revision, Why: w.Unfit[o.Member]})
	case o.Want == order.Run && m.life.Round == o.Round:
		if before.Spec != nil && order.Answered(before.Spec, o.Spec) {
			w.after(travel, func() { w.report(n, order.Report{Kind: order.Reloaded, Member: o.Member, Revision: o.Revision}) })
		}
	case o.Want == order.Run && m.life.Round != o.Round:
		w.stop(n, m, func() { w.start(n, m) })
	case o.Want == order.Stop:
		w.stop(n, m, func() { w.report(n, order.Report{Kind: order.Stopped, Member: o.Member, Revision: o.Revision}) })
	case o.Want == order.Gone:
		w.stop(n, m, func() {
			delete(n.members, o.Member)
			w.forget(o.Member)
			w.report(n, order.Report{Kind: order.Removed, Member: o.Member, Revision: o.Revision, Kept: o.Keep})
		})
	}
}

func (w *World) start(n *node, m *simulated) {
	if m.order.Want != order.Run || m.order.NoRestart || m.life != nil {
		return
	}
	name := m.order.Member
	w.pid++
	m.count++
	life := &Life{Member: name, PID: w.pid, From: w.Now, Round: m.order.Round, revision: m.order.Revision, incarnates: m.count}
	m.life = life
	w.Lives = append(w.Lives, life)
	w.report(n, order.Report{Kind: order.Started, Member: name, Incarnation: m.count, PID: life.PID, Revision: m.order.Revision})
	if w.Broken[name] {
		w.after(travel, func() { w.exit(n, m, life, order.Exit{Known: true, Code: 1}) })
		return
	}
	w.after(max(w.ReadyAfter[m.order.Spec.Role], travel), func() {
		if m.life == life {
			m.failed = 0
			life.lit = true
			w.wasLit(m.order.Spec.Role, name)
			w.report(n, order.Report{Kind: order.Ready, Member: name, Incarnation: life.incarnates})
		}
	})
}

func (w *World) stop(n *node, m *simulated, then func()) {
	if m.life == nil {
		then()
		return
	}
	life := m.life
	if m.order.Want != order.Gone {
		w.beforeLoss(m.order.Member)
	}
	w.after(stopTakes, func() {
		if m.life == life {
			life.To, m.life = w.Now, nil
			w.lost(m)
		}
		then()
	})
}

func (w *World) exit(n *node, m *simulated, life *Life, e order.Exit) {
	if m.life != life {
		return
	}
	life.To, m.life = w.Now, nil
	w.lost(m)
	if m.order.NoRestart {
		w.report(n, order.Report{Kind: order.Stopped, Member: m.order.Member, Revision: m.order.Revision})
		return
	}
	m.failed++
	wait := retryAfter << min(m.failed-1, 5)
	w.report(n, order.Report{Kind: order.Exited, Member: m.order.Member, Incarnation: life.incarnates, PID: life.PID, Exit: &e,
		Attempt: m.failed, RetryIn: wait})
	w.after(wait, func() { w.start(n, m) })
}

// lost has a member's cluster notice that it is not there any more.
func (w *World) lost(m *simulated) {
	if m.order.Spec != nil && w.State.Field != nil && w.clustered(m.order.Spec.Role) {
		w.elect(w.Cluster(m.order.Spec.Role))
	}
}

// forget ends a simulated cluster of which no member is left.
func (w *World) forget(name field.MemberName) {
	for role, c := range w.clusters {
		if !c.Voters[name] && !c.Learners[name] {
			continue
		}
		left := false
		for other := range c.Voters {
			_, m := w.find(other)
			left = left || m != nil
		}
		if !left {
			delete(w.clusters, role)
		}
	}
}
