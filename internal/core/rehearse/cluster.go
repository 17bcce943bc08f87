package rehearse

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/quorum"
	"lanternfield/internal/core/state"
)

// Cluster is the simulated cluster of a role whose members join and leave by procedure. It is the truth that the engine
// knows from reports only: who votes, who learns, who leads.
type Cluster struct {
	Role     field.RoleName
	Voters   map[field.MemberName]bool
	Learners map[field.MemberName]bool
	Leader   field.MemberName
	Term     uint64

	// Refuse has the next operations of a procedure refused that often; Mute has their answers lost, after they took
	// effect.
	Refuse, Mute map[order.Procedure]int

	lost    time.Time // when a voter was lost last
	told    string    // the roster as it was told last, with who told it
	excused bool      // more has failed at once than the cluster survives: nothing that happens now is our doing
	pending map[field.MemberName]order.Procedure
}

// How long clusters take.
const (
	electTakes   = 150 * time.Millisecond
	settleTakes  = 5 * time.Millisecond // from a request to a change that is agreed on
	refusedFor   = 2 * time.Second      // how long an agent tries again
	leavingTakes = 3 * time.Millisecond // from having been let go to the end of the process
)

// Cluster gives the simulated cluster of a role, making it when there is none.
func (w *World) Cluster(role field.RoleName) *Cluster {
	c := w.clusters[role]
	if c == nil {
		c = &Cluster{Role: role, Voters: map[field.MemberName]bool{}, Learners: map[field.MemberName]bool{}, Refuse: map[order.Procedure]int{},
			Mute: map[order.Procedure]int{}, pending: map[field.MemberName]order.Procedure{}}
		w.clusters[role] = c
	}
	return c
}

func (w *World) clustered(role field.RoleName) bool {
	r := w.State.Field.Role(role)
	return r != nil && r.Program != nil && len(r.Program.Join) > 0 && r.Program.Roster != nil
}

// find gives the node that holds a member, and the member.
func (w *World) find(name field.MemberName) (*node, *simulated) {
	for _, n := range w.nodes {
		if m := n.members[name]; m != nil {
			return n, m
		}
	}
	return nil, nil
}

// lit tells whether a member's process runs and is up, whoever can see it.
func (w *World) lit(name field.MemberName) bool {
	_, m := w.find(name)
	return m != nil && m.life != nil && m.life.lit
}

// votes counts the voters of a cluster and those that are up.
func (w *World) votes(c *Cluster) (voters, healthy int) {
	for name := range c.Voters {
		if w.lit(name) {
			healthy++
		}
	}
	return len(c.Voters), healthy
}

func (w *World) hasQuorum(c *Cluster) bool {
	voters, healthy := w.votes(c)
	return voters > 0 && healthy >= quorum.Needed(voters)
}

// wasLit has a member that has come up take its place: as a founder, if the cluster has none yet.
func (w *World) wasLit(role field.RoleName, who field.MemberName) {
	if !w.clustered(role) {
		return
	}
	c := w.Cluster(role)
	if founders := w.State.Roles[role].Founders; len(c.Voters) == 0 && slices.Contains(founders, who) {
		for _, name := range founders {
			c.Voters[name] = true
		}
	}
	if voters, healthy := w.votes(c); healthy == voters {
		c.excused = false
	}
	w.elect(c)
}

// elect has the cluster choose a leader when it has none and can, and the leader tell the roster.
func (w *World) elect(c *Cluster) {
	if c.Leader != "" && w.lit(c.Leader) && c.Voters[c.Leader] {
		w.tell(c)
		return
	}
	c.Leader = ""
	w.after(electTakes, func() {
		if c.Leader != "" || !w.hasQuorum(c) {
			return
		}
		for _, name := range slices.Sorted(maps.Keys(c.Voters)) {
			if w.lit(name) {
				w.takesLead(c, name)
				return
			}
		}
	})
}

func (w *World) takesLead(c *Cluster, name field.MemberName) {
	if before := c.Leader; before != "" && before != name {
		if n, _ := w.find(before); n != nil {
			w.report(n, order.Report{Kind: order.Leading, Member: before})
		}
	}
	c.Term++
	c.Leader = name
	if n, _ := w.find(name); n != nil {
		w.report(n, order.Report{Kind: order.Leading, Member: name, Leads: true, Term: c.Term})
	}
	w.tell(c)
}

// tell has the leader's agent report the roster where it has changed.
func (w *World) tell(c *Cluster) {
	var entries []order.RosterEntry
	for _, name := range slices.Sorted(maps.Keys(c.Voters)) {
		entries = append(entries, order.RosterEntry{ID: "id-" + string(name), Name: string(name), Voter: true})
	}
	for _, name := range slices.Sorted(maps.Keys(c.Learners)) {
		entries = append(entries, order.RosterEntry{ID: "id-" + string(name), Name: string(name)})
	}
	text := fmt.Sprint(c.Leader, entries)
	n, _ := w.find(c.Leader)
	if text == c.told || n == nil {
		return
	}
	c.told = text
	w.report(n, order.Report{Kind: order.RosterRead, Member: c.Leader, Roster: entries})
	for _, name := range slices.Sorted(maps.Keys(c.Voters)) {
		if o, _ := w.find(name); o != nil && o != n && w.lit(name) {
			w.report(o, order.Report{Kind: order.RosterRead, Member: name, Roster: entries})
		}
	}
}

// operate is an agent taking an operation.
func (w *World) operate(n *node, o order.Operation) {
	if n.cut || n.operations[o.ID] || o.Term < n.term {
		return
	}
	n.term = o.Term
	n.operations[o.ID] = true
	n.newest[o.Member] = o.ID
	if c := w.Cluster(o.Spec.Role); c.lost.After(w.Now.Add(-3*travel)) || w.unknownLoss(c) {
		c.excused = true // the news of the loss was still on its way when this was decided
	}
	w.after(o.Delay+settleTakes, func() { w.try(n, o, w.Now.Add(refusedFor)) })
}

// unknownLoss tells whether a voter has been lost of which the controller has not heard yet.
func (w *World) unknownLoss(c *Cluster) bool {
	for name := range c.Voters {
		if m := w.State.Members[name]; m != nil && m.Phase == state.Ready && !w.lit(name) {
			return true
		}
	}
	return false
}

// try makes one call, and is repeated while it is refused.
func (w *World) try(n *node, o order.Operation, until time.Time) {
	if n.newest[o.Member] != o.ID {
		return
	}
	c := w.Cluster(o.Spec.Role)
	answer := func(kind order.ReportKind, why string) {
		delete(c.pending, o.Member)
		r := order.Report{Kind: kind, Member: o.Member, Operation: o.ID, Why: why}
		if kind == order.Done && o.Procedure == order.Join {
			r.Captured = map[string]string{"id": "id-" + string(o.Member)}
		}
		w.report(n, r)
	}
	if o.Procedure == order.Rank {
		if rank, known := w.Ranks[o.Member]; known {
			delete(c.pending, o.Member)
			w.report(n, order.Report{Kind: order.Done, Member: o.Member, Operation: o.ID, Captured: map[string]string{"rank": fmt.Sprint(rank)}})
		} else {
			answer(order.Undone, "its data cannot be read")
		}
		return
	}
	if !w.clustered(o.Spec.Role) || o.Procedure == order.ChangeSecret { // no more than a call that is answered or refused
		switch {
		case c.Refuse[o.Procedure] == 0:
			if o.Procedure == order.HandOver {
				w.Claim(o.Member, false, 0)
				w.Claim(field.MemberName(o.Do.Capture["target"]), true, 0)
			}
			answer(order.Done, "")
		case w.Now.After(until):
			answer(order.Undone, "the program is not ready for it")
		default:
			c.Refuse[o.Procedure]--
			w.after(100*time.Millisecond, func() { w.try(n, o, until) })
		}
		return
	}
	answers := w.lit(o.Asked) && w.hasQuorum(c)
	switch {
	case answers && (o.VerifyFirst || o.VerifyOnly) && c.has(o):
		answer(order.Done, "")
		return
	case answers && o.VerifyOnly:
		answer(order.Undone, "it has not happened")
		return
	case answers && c.Refuse[o.Procedure] == 0:
		w.effect(c, o)
		if c.Mute[o.Procedure] > 0 {
			c.Mute[o.Procedure]--
			answer(order.Unclear, "no answer in time")
		} else {
			answer(order.Done, "")
		}
		w.elect(c)
		return
	}
	if answers {
		c.Refuse[o.Procedure]--
		o.VerifyFirst = false // it has not happened
	}
	if w.Now.After(until) || n.cut {
		kind := order.Undone
		if o.VerifyFirst || o.VerifyOnly { // nobody has said whether it has happened
			kind = order.Unclear
		}
		answer(kind, "the cluster is not ready for it")
		return
	}
	c.pending[o.Member] = o.Procedure
	w.after(100*time.Millisecond, func() { w.try(n, o, until) })
}

// has tells whether what an operation is to bring about is so already.
func (c *Cluster) has(o order.Operation) bool {
	switch o.Procedure {
	case order.Join:
		return c.Voters[o.Member] || c.Learners[o.Member]
	case order.Promote:
		return c.Voters[o.Member]
	case order.Leave:
		return !c.Voters[o.Member] && !c.Learners[o.Member]
	}
	return false
}

// effect brings about what an operation asks for, and notes it when that costs the cluster its quorum.
func (w *World) effect(c *Cluster, o order.Operation) {
	if c.has(o) {
		return
	}
	switch o.Procedure {
	case order.Join:
		c.Learners[o.Member] = true
	case order.Promote:
		delete(c.Learners, o.Member)
		c.Voters[o.Member] = true
	case order.Leave:
		delete(c.Voters, o.Member)
		delete(c.Learners, o.Member)
		if n, m := w.find(o.Member); m != nil {
			w.after(leavingTakes, func() { w.ends(n, m) })
		}
		if c.Leader == o.Member {
			w.report(w.holder(o.Member), order.Report{Kind: order.Leading, Member: o.Member})
			c.Leader = ""
		}
	case order.HandOver:
		w.takesLead(c, field.MemberName(o.Do.Capture["target"]))
	}
	if voters, healthy := w.votes(c); healthy < quorum.Needed(voters) && !c.excused {
		w.Problems = append(w.Problems, fmt.Sprintf("%s: %s of %s left %d of %d votes", w.Now.Format("04:05.000"), o.Procedure, o.Member, healthy, voters))
	}
}

func (w *World) holder(name field.MemberName) *node {
	n, _ := w.find(name)
	if n == nil {
		n = &node{cut: true}
	}
	return n
}

// ends is the end of a process that its cluster has let go.
func (w *World) ends(n *node, m *simulated) {
	if m.life == nil {
		return
	}
	if !m.order.NoRestart {
		w.exit(n, m, m.life, order.Exit{Known: true, Code: 1})
		return
	}
	m.life.To, m.life = w.Now, nil
	w.report(n, order.Report{Kind: order.Stopped, Member: m.order.Member, Revision: m.order.Revision})
}

// beforeLoss looks whether a cluster survives the loss of a member that is about to happen. What follows from losing more
// than it survives, or from losses that the controller cannot see, is nobody's fault.
func (w *World) beforeLoss(name field.MemberName) {
	n, m := w.find(name)
	if m == nil || m.order.Spec == nil || !w.clustered(m.order.Spec.Role) {
		return
	}
	c := w.Cluster(m.order.Spec.Role)
	op := w.State.Roles[c.Role].Op
	if !c.Voters[name] && (op == nil || op.Member != name) {
		return
	}
	c.lost = w.Now
	voters, healthy := w.votes(c)
	spare := quorum.Survives(voters, healthy)
	if op != nil {
		switch {
		case op.Procedure == order.Promote && w.lit(op.Member):
			spare = min(spare, quorum.Survives(voters+1, healthy+1))
		case op.Procedure == order.Promote:
			spare = min(spare, quorum.Survives(voters+1, healthy))
		case op.Procedure == order.Leave && c.Voters[op.Member] && w.lit(op.Member):
			spare = min(spare, quorum.Survives(voters-1, healthy-1))
		}
	}
	if spare < 1 || n.cut || w.Dead {
		c.excused = true
	}
}
