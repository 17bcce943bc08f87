package engine

import (
	"cmp"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/state"
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

func (in Refusal) decide(s *state.State) ([]state.Fact, error) {
	m := s.Members[in.Member]
	if m != nil {
		if op := s.RoleOf(m.Role).Op; op != nil && op.ID == in.Revision && s.RoleOf(m.Role).Retried != in.Why {
			return []state.Fact{state.OperationRetried{Role: m.Role, Member: m.Name, ID: op.ID, Procedure: op.Procedure, Why: in.Why}}, nil
		}
	}
	if m == nil || m.Ordered.Revision != in.Revision || m.Refused == in.Why {
		return nil, nil
	}
	return []state.Fact{state.OrderRefused(in)}, nil
}

func (Reports) decide(*state.State) ([]state.Fact, error) { return nil, nil } // see observe

// observe judges the reports that are new one by one, each on the state that those before it have led to. What a report tells counts
// from when it happened.
func (in Reports) observe(s *state.State, at time.Time) []state.Event {
	n := s.Nodes[in.Node]
	if n == nil {
		return nil
	}
	var events []state.Event
	note := func(at time.Time, facts ...state.Fact) {
		for _, f := range facts {
			e := state.Event{At: at, Fact: f}
			state.Apply(s, e)
			events = append(events, e)
		}
	}
	fresh, last := in.since(n)
	for _, r := range fresh {
		note(r.At, hear(s, n, r)...)
	}
	if len(fresh) > 0 {
		note(at, state.Heard{Node: in.Node, Agent: lifeOf(last, in), Seq: last.Seq})
	}
	return events
}

// hear gives what one report of a node's agent tells that is new.
func hear(s *state.State, n *state.Node, r order.Report) []state.Fact {
	if r.Kind == order.Begun {
		var facts []state.Fact
		if f, news := began(s, n, r); news {
			facts = append(facts, f)
		}
		return append(facts, straysIn(s, n, r.Held)...)
	}
	if f := readStray(n, r); f != nil {
		return []state.Fact{f}
	}
	if r.Kind == order.Dropped {
		return []state.Fact{state.ReportsDropped{Node: n.Name, Count: r.Attempt}}
	}
	m := s.Members[r.Member]
	if m == nil || m.Phase == state.Gone || m.Node != n.Name && !asked(s, n.Name, m, r) {
		return nil
	}
	if f := read(s, m, r); f != nil {
		return []state.Fact{f}
	}
	return nil
}

// asked tells whether a report is of the operation about a member that the agent of that node was asked to carry out.
func asked(s *state.State, node field.NodeName, m *state.Member, r order.Report) bool {
	role := s.Roles[m.Role]
	if r.Operation == 0 || role == nil || role.Op == nil || role.Op.ID != r.Operation {
		return false
	}
	asked := s.Member(role.Op.Asked)
	return asked != nil && asked.Node == node
}

// lifeOf is the life of an agent that a report is of.
func lifeOf(r order.Report, in Reports) string { return cmp.Or(r.Life, in.Agent) }

// since gives the reports that have not been heard yet, and the last of all. Those of an earlier life come before those of a later one.
func (in Reports) since(n *state.Node) (fresh []order.Report, last order.Report) {
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
func read(s *state.State, m *state.Member, r order.Report) state.Fact {
	running := m.Ordered.Want == order.Run
	switch r.Kind {
	case order.Taken:
		if r.Revision > m.Taken {
			return state.OrderTaken{Member: m.Name, Revision: r.Revision}
		}
	case order.Started, order.Adopted:
		if r.Kind == order.Adopted || r.Incarnation > m.Incarnation || m.PID != r.PID {
			return state.MemberStarted{Member: m.Name, Incarnation: r.Incarnation, PID: r.PID, Adopted: r.Kind == order.Adopted, Revision: r.Revision, Round: r.Round}
		}
	case order.VersionRead:
		if r.Version != m.Version {
			return state.VersionSeen{Member: m.Name, Version: r.Version}
		}
	case order.Visited:
		return state.MemberVisited{Member: m.Name, By: r.By, What: r.Why}
	case order.StartFailed:
		if running {
			return state.StartFailed{Member: m.Name, Why: r.Why, Attempt: r.Attempt, RetryIn: r.RetryIn}
		}
	case order.Ready:
		if running && m.Phase != state.Ready && m.Phase != state.Stopping && (m.Phase != state.Draining || m.ProbeError != "") {
			return state.MemberReady{Member: m.Name}
		}
	case order.Unready:
		if running && m.Phase != state.Stopping && (m.Phase == state.Ready || m.ProbeError != r.Why) {
			return state.MemberUnready{Member: m.Name, Why: r.Why}
		}
	case order.Exited:
		if running && r.Exit != nil && (r.PID != 0 || m.PID != 0) { // without a process: nothing runs, whatever was thought
			return state.MemberExited{Member: m.Name, PID: r.PID, Exit: *r.Exit, Lines: r.Lines, Attempt: r.Attempt, RetryIn: r.RetryIn}
		}
	case order.Reloaded, order.Checked:
		if r.Revision == 0 || r.Revision > m.Applied || r.Why != "" && r.Revision == m.Ordered.Revision && m.Unfit != r.Why {
			return state.MemberReloaded{Member: m.Name, Why: r.Why, Revision: r.Revision, Checked: r.Kind == order.Checked}
		}
	case order.Stopped:
		if (m.Ordered.Want == order.Stop || m.Ordered.NoRestart && running) && m.Phase != state.Stopped && m.Ordered.Revision <= max(r.Revision, m.Taken) {
			return state.MemberStopped{Member: m.Name, Forced: r.Forced}
		}
	case order.Removed:
		if m.Ordered.Want == order.Gone {
			return state.MemberGone{Member: m.Name, Forced: r.Forced, Kept: r.Kept, Bytes: r.Bytes}
		}
	case order.Done, order.Undone, order.Unclear, order.Retried:
		return readOperation(s, m, r)
	case order.Leading:
		return readLeader(s, m, r)
	case order.RosterRead:
		return readRoster(s, m, r)
	}
	return nil
}

// readOperation takes what came of the operation that is under way; older ones tell nothing new.
func readOperation(s *state.State, m *state.Member, r order.Report) state.Fact {
	role := s.RoleOf(m.Role)
	if role.Op == nil || role.Op.ID != r.Operation {
		return nil
	}
	switch r.Kind {
	case order.Done:
		return state.OperationDone{Role: m.Role, Member: m.Name, ID: r.Operation, Procedure: role.Op.Procedure, Captured: r.Captured}
	case order.Retried:
		if role.Retried == r.Why {
			return nil
		}
		return state.OperationRetried{Role: m.Role, Member: m.Name, ID: r.Operation, Procedure: role.Op.Procedure, Why: r.Why}
	}
	return state.OperationUndone{Role: m.Role, Member: m.Name, ID: r.Operation, Procedure: role.Op.Procedure, Why: r.Why, Unclear: r.Kind == order.Unclear}
}

func readLeader(s *state.State, m *state.Member, r order.Report) state.Fact {
	role, address := s.RoleOf(m.Role), s.Field.FloatingOf(m.Role)
	i := slices.IndexFunc(role.Claims, func(c state.Claim) bool { return c.Member == m.Name })
	if r.Unknown && i >= 0 {
		r.Term = role.Claims[i].Term
	}
	switch over := r.Term < role.LeaderTerm; {
	case (!r.Leads || over) && i >= 0:
		return state.LeaderLost{Role: m.Role, Member: m.Name, Address: address}
	case !r.Leads, over:
		return nil
	case i >= 0 && role.Claims[i].Term == r.Term && role.Claims[i].Unsure == unsure(r):
		return nil
	}
	seen := state.LeaderSeen{Role: m.Role, Member: m.Name, Term: r.Term, Unsure: unsure(r), Address: address}
	for _, c := range role.Claims {
		if c.Member != m.Name && c.Term == r.Term && c.Unsure == "" && seen.Unsure == "" && !s.OutOfReach(c.Member) {
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

// readRoster believes the leader; others only while no leader can be heard, and only if they are members and their news is
// new: who was cut off for a while may bring a list that is long out of date. Where the list that is known has none of the role's members, it was none.
func readRoster(s *state.State, m *state.Member, r order.Report) state.Fact {
	role := s.RoleOf(m.Role)
	heard := role.Leader != ""
	if leader := s.Members[role.Leader]; leader != nil && s.Nodes[leader.Node] != nil && s.Nodes[leader.Node].Unreachable {
		heard = false
	}
	if r.Why != "" {
		if role.RosterWhy == r.Why || role.Leader != m.Name && (heard || role.RosterWhy != "") {
			return nil
		}
		return state.RosterUnread{Role: m.Role, From: m.Name, Why: r.Why}
	}
	if role.Leader != m.Name && (heard || r.At.Before(role.RosterAt) || role.Roster != nil && s.Entry(m) == nil && s.ListsAny(m.Role)) {
		return nil
	}
	if slices.Equal(role.Roster, r.Roster) && role.RosterWhy == "" {
		return nil
	}
	return state.RosterSeen{Role: m.Role, From: m.Name, Roster: r.Roster}
}
