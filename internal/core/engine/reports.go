package engine

import (
	"cmp"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// Reports are numbered reports of one agent, oldest first.
type Reports struct {
	Node    field.NodeName
	Agent   string
	Reports []order.Report
}

// Refusal says that an agent would not take an order.
type Refusal struct {
	Member   field.MemberName
	Revision uint64
	Why      string
}

func (in Refusal) decide(s *State) ([]Fact, error) {
	m := s.Members[in.Member]
	if m != nil {
		if op := s.role(m.Role).Op; op != nil && op.ID == in.Revision && s.role(m.Role).Retried != in.Why {
			return []Fact{OperationRetried{Role: m.Role, Member: m.Name, ID: op.ID, Procedure: op.Procedure, Why: in.Why}}, nil
		}
	}
	if m == nil || m.Ordered.Revision != in.Revision || m.Refused == in.Why {
		return nil, nil
	}
	return []Fact{OrderRefused(in)}, nil
}

func (Reports) decide(*State) ([]Fact, error) { return nil, nil } // see observe

// observe judges the reports that are new one by one, each on the state that those before it have led to. What a report tells counts
// from when it happened.
func (in Reports) observe(s *State, at time.Time) []Event {
	n := s.Nodes[in.Node]
	if n == nil {
		return nil
	}
	var events []Event
	note := func(at time.Time, facts ...Fact) {
		for _, f := range facts {
			e := Event{At: at, Fact: f}
			Apply(s, e)
			events = append(events, e)
		}
	}
	fresh, last := in.since(n)
	for _, r := range fresh {
		note(r.At, s.hear(n, r)...)
	}
	if len(fresh) > 0 {
		note(at, Heard{Node: in.Node, Agent: lifeOf(last, in), Seq: last.Seq})
	}
	return events
}

// hear gives what one report of a node's agent tells that is new.
func (s *State) hear(n *Node, r order.Report) []Fact {
	if r.Kind == order.Begun {
		var facts []Fact
		if f, news := s.began(n, r); news {
			facts = append(facts, f)
		}
		return append(facts, s.straysIn(n, r.Held)...)
	}
	if f := n.readStray(r); f != nil {
		return []Fact{f}
	}
	if r.Kind == order.Dropped {
		return []Fact{ReportsDropped{Node: n.Name, Count: r.Attempt}}
	}
	m := s.Members[r.Member]
	if m == nil || m.Phase == Gone || m.Node != n.Name && !s.asked(n.Name, m, r) {
		return nil
	}
	if f := s.read(m, r); f != nil {
		return []Fact{f}
	}
	return nil
}

// asked tells whether a report is of the operation about a member that the agent of that node was asked to carry out.
func (s *State) asked(node field.NodeName, m *Member, r order.Report) bool {
	role := s.Roles[m.Role]
	if r.Operation == 0 || role == nil || role.Op == nil || role.Op.ID != r.Operation {
		return false
	}
	asked := s.Members[role.Op.Asked]
	return asked != nil && asked.Node == node
}

// lifeOf is the life of an agent that a report is of.
func lifeOf(r order.Report, in Reports) string { return cmp.Or(r.Life, in.Agent) }

// since gives the reports that have not been heard yet, and the last of all. Those of an earlier life come before those of a later one.
func (in Reports) since(n *Node) (fresh []order.Report, last order.Report) {
	from := 0
	for i, r := range in.Reports {
		if lifeOf(r, in) == n.Agent && r.Seq <= n.Heard {
			from = i + 1
		}
		last = r
	}
	return in.Reports[from:], last
}

// read gives the fact in a report, or nil where it tells nothing new.
func (s *State) read(m *Member, r order.Report) Fact {
	running := m.Ordered.Want == order.Run
	switch r.Kind {
	case order.Taken:
		if r.Revision > m.Taken {
			return OrderTaken{Member: m.Name, Revision: r.Revision}
		}
	case order.Started, order.Adopted:
		if r.Kind == order.Adopted || r.Incarnation > m.Incarnation || m.PID != r.PID {
			return MemberStarted{Member: m.Name, Incarnation: r.Incarnation, PID: r.PID, Adopted: r.Kind == order.Adopted, Revision: r.Revision, Round: r.Round}
		}
	case order.StartFailed:
		if running {
			return StartFailed{Member: m.Name, Why: r.Why, Attempt: r.Attempt, RetryIn: r.RetryIn}
		}
	case order.Ready:
		if running && m.Phase != Ready && m.Phase != Stopping && (m.Phase != Draining || m.ProbeError != "") {
			return MemberReady{Member: m.Name}
		}
	case order.Unready:
		if running && m.Phase != Stopping && (m.Phase == Ready || m.ProbeError != r.Why) {
			return MemberUnready{Member: m.Name, Why: r.Why}
		}
	case order.Exited:
		if running && r.Exit != nil && (r.PID != 0 || m.PID != 0) { // without a process: nothing runs, whatever was thought
			return MemberExited{Member: m.Name, PID: r.PID, Exit: *r.Exit, Lines: r.Lines, Attempt: r.Attempt, RetryIn: r.RetryIn}
		}
	case order.Reloaded, order.Checked:
		if r.Revision == 0 || r.Revision > m.Applied || r.Why != "" && r.Revision == m.Ordered.Revision && m.Unfit != r.Why {
			return MemberReloaded{Member: m.Name, Why: r.Why, Revision: r.Revision, Checked: r.Kind == order.Checked}
		}
	case order.Stopped:
		if (m.Ordered.Want == order.Stop || m.Ordered.Final && running) && m.Phase != Stopped && m.Ordered.Revision <= max(r.Revision, m.Taken) {
			return MemberStopped{Member: m.Name, Forced: r.Forced}
		}
	case order.Removed:
		if m.Ordered.Want == order.Gone {
			return MemberGone{Member: m.Name, Forced: r.Forced, Kept: r.Kept, Bytes: r.Bytes}
		}
	case order.Done, order.Undone, order.Unclear, order.Retried:
		return s.readOperation(m, r)
	case order.Leading:
		return s.readLeader(m, r)
	case order.RosterRead:
		return s.readRoster(m, r)
	}
	return nil
}

// readOperation takes what came of the operation that is under way; older ones tell nothing new.
func (s *State) readOperation(m *Member, r order.Report) Fact {
	role := s.role(m.Role)
	if role.Op == nil || role.Op.ID != r.Operation {
		return nil
	}
	switch r.Kind {
	case order.Done:
		return OperationDone{Role: m.Role, Member: m.Name, ID: r.Operation, Procedure: role.Op.Procedure, Captured: r.Captured}
	case order.Retried:
		if role.Retried == r.Why {
			return nil
		}
		return OperationRetried{Role: m.Role, Member: m.Name, ID: r.Operation, Procedure: role.Op.Procedure, Why: r.Why}
	}
	return OperationUndone{Role: m.Role, Member: m.Name, ID: r.Operation, Procedure: role.Op.Procedure, Why: r.Why, Unclear: r.Kind == order.Unclear}
}

func (s *State) readLeader(m *Member, r order.Report) Fact {
	role := s.role(m.Role)
	i := slices.IndexFunc(role.Claims, func(c Claim) bool { return c.Member == m.Name })
	if r.Unknown && i >= 0 {
		r.Term = role.Claims[i].Term
	}
	switch over := r.Term < role.LeaderTerm; {
	case (!r.Leads || over) && i >= 0:
		return LeaderLost{Role: m.Role, Member: m.Name}
	case !r.Leads, over:
		return nil
	case i >= 0 && role.Claims[i].Term == r.Term && role.Claims[i].Unsure == unsure(r):
		return nil
	}
	seen := LeaderSeen{Role: m.Role, Member: m.Name, Term: r.Term, Unsure: unsure(r)}
	for _, c := range role.Claims {
		if c.Member != m.Name && c.Term == r.Term && c.Unsure == "" && seen.Unsure == "" && !s.outOfReach(c.Member) {
			seen.Beside = append(seen.Beside, c.Member)
		}
	}
	return seen
}

// unsure is why it is not known whether a member still leads; empty where it is.
func unsure(r order.Report) string {
	if r.Unknown {
		return r.Why
	}
	return ""
}

// outOfReach tells whether a member's node cannot be reached.
func (s *State) outOfReach(name field.MemberName) bool {
	m := s.Members[name]
	return m != nil && s.Nodes[m.Node] != nil && s.Nodes[m.Node].Dark
}

// readRoster believes the leader; others only while no leader can be heard, and only if they are members and their news is
// new: who was cut off for a while may bring a list that is long out of date.
func (s *State) readRoster(m *Member, r order.Report) Fact {
	role := s.role(m.Role)
	heard := role.Leader != ""
	if leader := s.Members[role.Leader]; leader != nil && s.Nodes[leader.Node] != nil && s.Nodes[leader.Node].Dark {
		heard = false
	}
	if r.Why != "" {
		if role.RosterWhy == r.Why || role.Leader != m.Name && (heard || role.RosterWhy != "") {
			return nil
		}
		return RosterUnread{Role: m.Role, From: m.Name, Why: r.Why}
	}
	if role.Leader != m.Name && (heard || r.At.Before(role.RosterAt) || role.Roster != nil && s.entry(m) == nil) {
		return nil
	}
	if slices.Equal(role.Roster, r.Roster) && role.RosterWhy == "" {
		return nil
	}
	return RosterSeen{Role: m.Role, From: m.Name, Roster: r.Roster}
}
