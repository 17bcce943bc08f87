package rehearse

import (
	"maps"
	"slices"

	"lanternfield/internal/core/engine"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
)

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
			_ = w.Do(engine.NodeLost{Node: name, Why: state.Silent})
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
