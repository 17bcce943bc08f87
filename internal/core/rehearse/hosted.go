package rehearse

import (
	"fmt"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
)

// Host carries a world whose nodes obey a controller that is not the simulated one: the real one, with its drivers, in virtual time. It calls
// one function of the world at a time, with Now as it is and State as that controller has stored it.
type Host struct {
	After func(d time.Duration, do func()) // has something done later, in the same way
	News  func(node field.NodeName)        // there are reports of a node
}

// Hosted makes a world that is carried by a host.
func Hosted(h Host, now time.Time) *World {
	w := New(now)
	w.host = &h
	return w
}

// Reaches tells whether a node can be reached.
func (w *World) Reaches(name field.NodeName) bool { return !w.node(name).cut }

// Binding is what a node is given.
func (w *World) Binding(name field.NodeName) state.Binding { return w.binding(w.node(name)) }

// Agent is who answers on a node: after it was freed, somebody else.
func (w *World) Agent(name field.NodeName) string {
	return fmt.Sprintf("agent %d of %s", w.node(name).lives, name)
}

// Receive has a node's agent take an order, and Operate an operation.
func (w *World) Receive(name field.NodeName, o order.Order)     { w.receive(w.node(name), o) }
func (w *World) Operate(name field.NodeName, o order.Operation) { w.operate(w.node(name), o) }

// Reports gives the reports of a node that come after that number, and forgets those up to another.
func (w *World) Reports(name field.NodeName, after, heard uint64) []order.Report {
	n := w.node(name)
	n.reports = slices.DeleteFunc(n.reports, func(r order.Report) bool { return r.Seq <= heard })
	from := slices.IndexFunc(n.reports, func(r order.Report) bool { return r.Seq > after })
	if from < 0 {
		return nil
	}
	return slices.Clone(n.reports[from:])
}

// Free gives a node back; it is refused while members are on it.
func (w *World) Free(name field.NodeName) error {
	n := w.node(name)
	if n.cut {
		return fmt.Errorf("%s cannot be reached", name)
	}
	if len(n.members) > 0 {
		return fmt.Errorf("%d members are on %s", len(n.members), name)
	}
	lives := n.lives
	delete(w.nodes, name)
	w.node(name).lives = lives + 1
	return nil
}
