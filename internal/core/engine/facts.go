package engine

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

// Fact is what an event says. Each fact knows how it changes the state and how to say itself; none decides.
type Fact interface {
	apply(s *State, at time.Time)
	// Sentence words the fact for the journal.
	Sentence() string
}

// TermRaised is the first event of every controller.
type TermRaised struct {
	Term uint64
	By   string // who holds the field now, for people
}

// Accepted makes a draft the wanted field and gives its new nodes their addresses and the folders of their agents: one
// fact, since a field without its nodes could not go on.
type Accepted struct {
	Field *field.Field
	Bound map[field.NodeName]Binding
	By    string
}

// RoleFounded freezes who founds the cluster of a role, before the first of them is started.
type RoleFounded struct {
	Role     field.RoleName
	Founders []field.MemberName
	Steps    int `json:",omitempty"` // of its program's founding procedure; one that is added later is not for this cluster
}

// LeaderSeen says who leads a role; Term is the cluster's own count where it has one.
type LeaderSeen struct {
	Role   field.RoleName
	Member field.MemberName
	Term   uint64 `json:",omitempty"`
}

// LeaderLost says that a member leads no more.
type LeaderLost struct {
	Role   field.RoleName
	Member field.MemberName
}

// RosterSeen is the cluster's own list of its members, changed.
type RosterSeen struct {
	Role   field.RoleName
	From   field.MemberName
	Roster []order.RosterEntry
}

// NodeDark says that a node's agent cannot be reached.
type NodeDark struct {
	Node field.NodeName
	Why  string
}

// NodeBack says that a node's agent answers: again, or this controller for the first time.
type NodeBack struct{ Node field.NodeName }

// ReportsDropped says that an agent waited so long for a controller that it dropped reports: a hole in history that is
// not silent.
type ReportsDropped struct {
	Node  field.NodeName
	Count int
}

// Heard says up to which report an agent has been heard.
type Heard struct {
	Node  field.NodeName
	Agent string
	Seq   uint64
}

// StopAsked, StartAsked and RestartAsked are orders for members that stay members.
type (
	StopAsked    struct{ Members []field.MemberName }
	StartAsked   struct{ Members []field.MemberName }
	RestartAsked struct {
		Members []field.MemberName
		Why     string
	}
)

// RetireAsked takes the field down.
type RetireAsked struct{ By string }

// NodeReleasing says that a node's agent is to end and its folder to go; NodeReleased, that both are gone.
type (
	NodeReleasing struct{ Node field.NodeName }
	NodeReleased  struct{ Node field.NodeName }
)

// FieldRetired says that nothing is left.
type FieldRetired struct{}

// RolloutPaused keeps anything new from being begun; RolloutResumed lets it go on.
type (
	RolloutPaused  struct{ By string }
	RolloutResumed struct{ By string }
)

// RolloutEnded says that everything wanted has come true.
type RolloutEnded struct{ What string }

func (f TermRaised) apply(s *State, _ time.Time) {
	s.Term = f.Term
	for _, n := range s.Nodes {
		n.Unheard = true
	}
}

func (f TermRaised) Sentence() string {
	return fmt.Sprintf("%s holds the field, term %d", f.By, f.Term)
}

func (f Accepted) apply(s *State, at time.Time) {
	if s.Retired {
		s.reset()
	}
	s.Field = f.Field
	for _, r := range f.Field.Roles {
		s.role(r.Name)
	}
	for name, b := range f.Bound {
		s.Nodes[name] = &Node{Name: name, Address: b.Address, Dir: b.Dir, Since: at}
	}
	for _, m := range s.Members {
		m.Halted = false
		if r := f.Field.Role(m.Role); r != nil { // of a role that is gone, what it said last holds
			m.Keeps = r.Keeps()
		}
	}
	s.Rollout = Rollout{What: "deploy", Began: at}
	s.shape++
}

func (f Accepted) Sentence() string {
	members := 0
	for _, r := range f.Field.Roles {
		members += r.Members
	}
	return fmt.Sprintf("deploy asked for by %s: %s, %s, %s", f.By, counted(len(f.Field.Roles), "role"), counted(members, "member"),
		counted(len(f.Field.Nodes), "node"))
}

func (f RoleFounded) apply(s *State, _ time.Time) {
	r := s.role(f.Role)
	r.Founded, r.Founders, r.FoundDue = true, f.Founders, f.Steps
	for _, name := range f.Founders {
		s.Members[name].Joined, s.Members[name].Admitted = true, true
	}
	s.shape++
}

func (f RoleFounded) Sentence() string {
	if len(f.Founders) == 0 {
		return fmt.Sprintf("%s goes on with data that was kept", f.Role)
	}
	return fmt.Sprintf("%s is founded by %s", f.Role, joinNames(f.Founders))
}

func (f LeaderSeen) apply(s *State, at time.Time) {
	r := s.role(f.Role)
	r.Leader, r.LeaderTerm, r.LeaderSince, r.HandedOver = f.Member, f.Term, at, ""
}

func (f LeaderSeen) Sentence() string {
	if f.Term > 0 {
		return fmt.Sprintf("%s leads %s, term %d", f.Member, f.Role, f.Term)
	}
	return fmt.Sprintf("%s leads %s", f.Member, f.Role)
}

func (f LeaderLost) apply(s *State, _ time.Time) { s.dropLeader(s.Members[f.Member]) }

func (f LeaderLost) Sentence() string { return fmt.Sprintf("%s leads %s no more", f.Member, f.Role) }

func (f RosterSeen) apply(s *State, at time.Time) {
	r := s.role(f.Role)
	r.Roster, r.RosterAt = f.Roster, at
	for _, m := range s.Members {
		if m.Role == f.Role && m.Phase != Gone && !m.Listed && s.entry(m) != nil {
			m.Listed = true
		}
	}
}

func (f RosterSeen) Sentence() string {
	names := make([]string, len(f.Roster))
	for i, e := range f.Roster {
		names[i] = e.Name
		if e.Name == "" {
			names[i] = "(no name, " + e.ID + ")"
		}
		if !e.Voter {
			names[i] += " (learner)"
		}
	}
	return fmt.Sprintf("%s lists as its members: %s", f.Role, strings.Join(names, ", "))
}

func (f NodeDark) apply(s *State, at time.Time) {
	n := s.Nodes[f.Node]
	if !n.Dark {
		n.Since = at
	}
	n.Unheard, n.Dark, n.DarkWhy = false, true, f.Why
}

func (f NodeDark) Sentence() string { return fmt.Sprintf("%s cannot be reached: %s", f.Node, f.Why) }

func (f NodeBack) apply(s *State, at time.Time) {
	n := s.Nodes[f.Node]
	n.Unheard, n.Dark, n.DarkWhy, n.Since = false, false, "", at
}

func (f NodeBack) Sentence() string { return fmt.Sprintf("%s answers", f.Node) }

func (f ReportsDropped) apply(*State, time.Time) {}

func (f ReportsDropped) Sentence() string {
	return fmt.Sprintf("%s had to drop %s while nobody came for them; the newest of each kind are there", f.Node, counted(f.Count, "report"))
}

func (f Heard) apply(s *State, _ time.Time) {
	if n := s.Nodes[f.Node]; n != nil {
		n.Agent, n.Heard = f.Agent, f.Seq
	}
}

func (f Heard) Sentence() string { return fmt.Sprintf("heard %s up to report %d", f.Node, f.Seq) }

func (f StopAsked) apply(s *State, at time.Time) {
	for _, name := range f.Members {
		s.Members[name].Halted, s.Members[name].RestartDue = true, false
	}
	s.Rollout = Rollout{What: "stop", Began: at}
}

func (f StopAsked) Sentence() string { return "stop asked for: " + joinNames(f.Members) }

func (f StartAsked) apply(s *State, at time.Time) {
	for _, name := range f.Members {
		s.Members[name].Halted = false
	}
	s.Rollout = Rollout{What: "start", Began: at}
}

func (f StartAsked) Sentence() string { return "start asked for: " + joinNames(f.Members) }

func (f RestartAsked) apply(s *State, at time.Time) {
	for _, name := range f.Members {
		s.Members[name].RestartDue, s.Members[name].Attempt = true, 0
	}
	s.Rollout = Rollout{What: "restart", Began: at}
}

func (f RestartAsked) Sentence() string {
	return fmt.Sprintf("restart asked for (%s): %s", f.Why, joinNames(f.Members))
}

func (f RetireAsked) apply(s *State, at time.Time) {
	s.Retiring = true
	s.Rollout = Rollout{What: "retire", Began: at}
}

func (f RetireAsked) Sentence() string { return "retire asked for by " + f.By }

func (f NodeReleasing) apply(s *State, _ time.Time) { s.Nodes[f.Node].Releasing = true }

func (f NodeReleasing) Sentence() string { return fmt.Sprintf("%s is released", f.Node) }

func (f NodeReleased) apply(s *State, _ time.Time) {
	n := s.Nodes[f.Node]
	n.Released, n.Dark = true, false
	for _, m := range s.Members {
		if m.Node == f.Node {
			m.Kept = false
		}
	}
}

func (f NodeReleased) Sentence() string {
	return fmt.Sprintf("%s is free: its agent has ended and its folder is gone", f.Node)
}

func (f FieldRetired) apply(s *State, at time.Time) {
	s.Retired, s.Retiring, s.Rollout.Ended = true, false, at
}

func (f FieldRetired) Sentence() string { return "the field is retired; nothing is left" }

func (f RolloutPaused) apply(s *State, _ time.Time) { s.Rollout.Paused = true }

func (f RolloutPaused) Sentence() string { return "paused by " + f.By + ": nothing new is begun" }

func (f RolloutResumed) apply(s *State, _ time.Time) { s.Rollout.Paused = false }

func (f RolloutResumed) Sentence() string { return "goes on, asked for by " + f.By }

func (f RolloutEnded) apply(s *State, at time.Time) {
	s.Rollout.Ended = at
	if s.Lasted == nil {
		s.Lasted = map[string]time.Duration{}
	}
	s.Lasted[f.What] = at.Sub(s.Rollout.Began)
}

func (f RolloutEnded) Sentence() string { return f.What + " done" }

func joinNames(names []field.MemberName) string {
	texts := make([]string, len(names))
	for i, n := range names {
		texts[i] = string(n)
	}
	slices.Sort(texts)
	if len(texts) > 12 {
		return strings.Join(texts[:12], ", ") + fmt.Sprintf(" and %d more", len(texts)-12)
	}
	return strings.Join(texts, ", ")
}

func counted(n int, one string) string { return fmt.Sprintf("%d %s", n, plural(n, one, one+"s")) }
