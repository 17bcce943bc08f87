// Package rehearse carries out rollouts on simulated nodes in virtual time: the same engine, with agents that are a few
// lines of arithmetic. It reads no clock and starts no goroutine, so that the same world always ends the same way. Its nodes can obey the real
// controller and its drivers instead; see Hosted.
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
	// Disproved proofs do not hold, for that reason; ProofsWait has none of them carried out.
	Disproved  map[state.ProofKey]string
	ProofsWait bool
	// Lives is every process that ever ran, in the order of their starts.
	Lives []*Life
	// Problems is what the engine could not do.
	Problems []string

	// Ahead and NodesAhead are by how much the clocks of the controller and of all nodes are ahead of the time that passes. Clocks jump where they are changed.
	Ahead, NodesAhead time.Duration

	// DieAfter has the controller die when the log has that many events; 0 means never. What had not left by then never
	// leaves.
	DieAfter int
	Dead     bool // the controller is dead

	host     *Host // whose controller the nodes obey; nil for the simulated one
	loop     *loop.Loop
	nodes    map[field.NodeName]*node
	clusters map[field.RoleName]*Cluster
	queue    events
	proofs   map[int]bool // that are being carried out, by number
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

// How long things take in a rehearsal.
const (
	travel     = time.Millisecond // an order or a report on its way
	stopTakes  = 20 * time.Millisecond
	retryAfter = time.Second
	noticeCut  = 1500 * time.Millisecond
	proofTakes = 15 * time.Millisecond
	askAgain   = 10 * time.Second // for a node that could not be given
)

// New makes a world without nodes; binding a field's nodes makes them.
func New(start time.Time) *World {
	w := &World{State: state.NewState(), Now: start, ReadyAfter: map[field.RoleName]time.Duration{},
		Broken: map[field.MemberName]bool{}, Unfit: map[field.MemberName]string{}, Ranks: map[field.MemberName]int{}, GivenAfter: map[field.NodeName]time.Duration{}, NotGiven: map[field.NodeName]string{}, nodes: map[field.NodeName]*node{}, proofs: map[int]bool{}, Disproved: map[state.ProofKey]string{}, clusters: map[field.RoleName]*Cluster{}}
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
	if w.host != nil {
		return nil // it finds out by itself
	}
	if w.Dead {
		return fmt.Errorf("the controller is dead")
	}
	out, err := w.loop.Decide(w.Clock, []loop.Input{loop.Of(in)})
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
	if w.host != nil {
		return
	}
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
	for _, due := range w.loop.State().ProofsDue() {
		if w.proofs[due.Number] || w.ProofsWait {
			continue
		}
		w.proofs[due.Number] = true
		why := w.Disproved[state.KeyOf(due.Role, due.Name)]
		w.after(proofTakes, func() {
			delete(w.proofs, due.Number) // a controller that has died meanwhile has a successor that does it anew
			_ = w.Do(engine.ProofCame{Run: due, Result: state.ProofResult{OK: why == "", Why: why, Took: proofTakes}})
		})
	}
}

// report numbers a report, keeps it, and sends it.
func (w *World) report(n *node, r order.Report) {
	n.last++
	r.Seq, r.At = n.last, w.Now.Add(w.NodesAhead)
	n.reports = append(n.reports, r)
	w.after(travel, func() { w.deliver(n) })
}

// deliver brings all reports that are kept to the controller, which acknowledges them.
func (w *World) deliver(n *node) {
	if w.host != nil {
		w.host.News(n.name)
		return
	}
	if n.cut || w.Dead || len(n.reports) == 0 {
		return
	}
	_ = w.Do(engine.Reports{Node: n.name, Agent: "agent of " + string(n.name), Reports: slices.Clone(n.reports)})
	if !w.Dead {
		n.reports = nil
	}
}

// Clock is what the controller's clock says.
func (w *World) Clock() time.Time { return w.Now.Add(w.Ahead) }

// Snapshot is the field as the controller sees it.
func (w *World) Snapshot() *snapshot.Snapshot { return snapshot.Of(w.State, w.Clock()) }

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
