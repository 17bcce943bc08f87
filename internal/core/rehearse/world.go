// Package rehearse carries out rollouts on simulated nodes in virtual time: the same engine, with agents that are a few
// lines of arithmetic. It reads no clock and starts no goroutine, so that the same world always ends the same way.
package rehearse

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"lanternfield/internal/core/loop"
	"lanternfield/internal/core/snapshot"
	"lanternfield/internal/core/state"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// World is simulated nodes under the care of a simulated controller.
type World struct {
	State *state.State
	Log   []state.Event
	Now   time.Time

	// ReadyAfter is how long members of a role take from their start to being lit.
	ReadyAfter map[field.RoleName]time.Duration
	// Broken members end as soon as they are started.
	Broken map[field.MemberName]bool
	// Unfit members refuse any change of what they run with, for that reason.
	Unfit map[field.MemberName]string
	// Ranks is how advanced the data of stopped members is; of those that are missing it cannot be read.
	Ranks map[field.MemberName]int
	// GivenAfter is how long the ground takes for a node; one that it cannot give stands in NotGiven, with the reason.
	GivenAfter map[field.NodeName]time.Duration
	NotGiven   map[field.NodeName]string
	// Lives is every process that ever ran, in the order of their starts.
	Lives []*Life
	// Problems is what the engine could not do.
	Problems []string

	// DieAfter has the controller die when the log has that many events; 0 means never. What had not left by then never
	// leaves.
	DieAfter int
	Dead     bool // the controller is dead

	loop     *loop.Loop
	nodes    map[field.NodeName]*node
	clusters map[field.RoleName]*Cluster
	queue    events
	seq      int
	pid      int
}

// Life is the life of one process.
type Life struct {
	Member     field.MemberName
	PID        int
	From, To   time.Time // To is zero while it lives
	Round      int
	revision   uint64
	incarnates int
	lit        bool
}

type node struct {
	name    field.NodeName
	asked   int // the newest asking that is under way
	cut     bool
	members map[field.MemberName]*simulated
	reports []order.Report
	last    uint64

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

// How long things take in a rehearsal.
const (
	travel     = time.Millisecond // an order or a report on its way
	stopTakes  = 20 * time.Millisecond
	retryAfter = time.Second
	noticeCut  = 1500 * time.Millisecond
	askAgain   = 10 * time.Second // for a node that could not be given
)

// New makes a world without nodes; binding a field's nodes makes them.
func New(start time.Time) *World {
	w := &World{State: state.NewState(), Now: start, ReadyAfter: map[field.RoleName]time.Duration{},
		Broken: map[field.MemberName]bool{}, Unfit: map[field.MemberName]string{}, Ranks: map[field.MemberName]int{}, GivenAfter: map[field.NodeName]time.Duration{}, NotGiven: map[field.NodeName]string{}, nodes: map[field.NodeName]*node{}, clusters: map[field.RoleName]*Cluster{}}
	w.loop = loop.New(disk{w}, w.State)
	return w
}

// disk is where the simulated controller stores its events, until it dies.
type disk struct{ w *World }

func (d disk) Last() uint64 { return uint64(len(d.w.Log)) }

func (d disk) Append(expected uint64, events []state.Event) error {
	if expected != d.Last() {
		return fmt.Errorf("the log ends with event %d, and not with %d", d.Last(), expected)
	}
	for _, e := range events {
		d.w.Log = append(d.w.Log, e)
		if d.w.DieAfter > 0 && len(d.w.Log) >= d.w.DieAfter {
			return errDied
		}
	}
	return nil
}

var errDied = errors.New("the controller has died")

// TakeOver starts a controller: at first, or after one has died. A new one knows what is in the log and nothing else.
func (w *World) TakeOver() {
	w.Dead, w.DieAfter = false, 0
	w.State = state.NewState()
	for _, e := range w.Log {
		state.Apply(w.State, e)
	}
	w.loop = loop.New(disk{w}, w.State)
	w.Do(engine.TakeOver{By: "a rehearsed controller"})
	for _, name := range slices.Sorted(maps.Keys(w.State.Nodes)) {
		n := w.node(name)
		if n.cut {
			w.Cut(name)
			continue
		}
		w.deliver(n)
		_ = w.Do(engine.NodeFound{Node: name})
	}
}

// Do hands an input to the controller.
func (w *World) Do(in engine.Input) error {
	if w.Dead {
		return fmt.Errorf("the controller is dead")
	}
	out, err := w.loop.Decide(func() time.Time { return w.Now }, []loop.Input{loop.Of(in)})
	if err != nil {
		w.Dead = true // what follows in this batch was never stored, and its commands never left
		return nil
	}
	w.Problems = append(w.Problems, out.Problems...)
	w.dispatch()
	return out.Answers[0]
}

// dispatch sends what the state asks for. Orders on their way twice are harmless.
func (w *World) dispatch() {
	for _, c := range w.loop.Commands() {
		n := w.node(c.Node)
		if c.Give > 0 {
			w.give(n, c.Give)
			continue
		}
		if c.Release {
			w.after(travel, func() { w.release(n) })
			continue
		}
		if c.Operation != nil {
			w.after(travel, func() { w.operate(n, *c.Operation) })
			continue
		}
		o := *c.Order
		w.after(travel, func() { w.receive(n, o) })
	}
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

// Kill kills the member's process, if one runs.
func (w *World) Kill(name field.MemberName) bool {
	for _, n := range w.nodes {
		if m := n.members[name]; m != nil && m.life != nil {
			w.beforeLoss(name)
			w.exit(n, m, m.life, order.Exit{Known: true, Code: 137, Signal: "9 (KILL)"})
			return true
		}
	}
	return false
}

// Cut cuts a node off from the controller; Heal ends that. What runs on it goes on.
func (w *World) Cut(name field.NodeName) {
	n := w.node(name)
	n.cut = true
	w.after(noticeCut, func() {
		if n.cut {
			_ = w.Do(engine.NodeLost{Node: name, Why: "its agent does not answer"})
		}
	})
}

// Heal lets a node be reached again.
func (w *World) Heal(name field.NodeName) {
	n := w.node(name)
	n.cut = false
	w.deliver(n)
	_ = w.Do(engine.NodeFound{Node: name})
	if !w.Dead {
		w.dispatch()
	}
}

// AgentAgain has a node's agent be started again: it finds what runs, and says so before it takes any order.
func (w *World) AgentAgain(name field.NodeName) {
	n := w.node(name)
	for _, member := range slices.Sorted(maps.Keys(n.members)) {
		life := n.members[member].life
		if life == nil {
			continue
		}
		w.report(n, order.Report{Kind: order.Adopted, Member: member, Incarnation: life.incarnates, PID: life.PID, Revision: life.revision, Round: life.Round})
		if life.lit {
			w.report(n, order.Report{Kind: order.Ready, Member: member, Incarnation: life.incarnates})
		}
	}
}

// Lead has a member claim that it leads its role.
func (w *World) Lead(name field.MemberName, term uint64) { w.Claim(name, true, term) }

// Claim has a member say whether it leads its role.
func (w *World) Claim(name field.MemberName, leads bool, term uint64) {
	for _, n := range w.nodes {
		if n.members[name] != nil {
			w.report(n, order.Report{Kind: order.Leading, Member: name, Leads: leads, Term: term})
		}
	}
}

// Unsure has it not be known whether a member that led leads still.
func (w *World) Unsure(name field.MemberName, why string) {
	if n, _ := w.find(name); n != nil {
		w.report(n, order.Report{Kind: order.Leading, Member: name, Leads: true, Unknown: true, Why: why})
	}
}

// report numbers a report, keeps it, and sends it.
func (w *World) report(n *node, r order.Report) {
	n.last++
	r.Seq, r.At = n.last, w.Now
	n.reports = append(n.reports, r)
	w.after(travel, func() { w.deliver(n) })
}

// deliver brings all reports that are kept to the controller, which acknowledges them.
func (w *World) deliver(n *node) {
	if n.cut || w.Dead || len(n.reports) == 0 {
		return
	}
	_ = w.Do(engine.Reports{Node: n.name, Agent: "agent of " + string(n.name), Reports: slices.Clone(n.reports)})
	if !w.Dead {
		n.reports = nil
	}
}

// Snapshot is the field as the controller sees it.
func (w *World) Snapshot() *snapshot.Snapshot { return snapshot.Of(w.State, w.Now) }

// Overlaps names the members of which two processes ever lived at the same time.
func (w *World) Overlaps() []field.MemberName {
	last := map[field.MemberName]*Life{}
	bad := map[field.MemberName]bool{}
	for _, l := range w.Lives {
		if before := last[l.Member]; before != nil && (before.To.IsZero() || before.To.After(l.From)) {
			bad[l.Member] = true
		}
		last[l.Member] = l
	}
	return slices.Sorted(maps.Keys(bad))
}

// Running counts the processes that live.
func (w *World) Running() int {
	n := 0
	for _, l := range w.Lives {
		if l.To.IsZero() {
			n++
		}
	}
	return n
}
