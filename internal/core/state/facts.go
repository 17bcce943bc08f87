package state

import (
	"fmt"
	"maps"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/wording"
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
	Mark string `json:",omitempty"` // random; who knows it has read this log up to here
	Log  string `json:",omitempty"` // the log's identity, where it had none
}

// Accepted makes a draft the wanted field.
type Accepted struct {
	Field *field.Field
	Bound map[field.NodeName]Binding `json:",omitempty"` // its new nodes, in logs of before grounds were asked; see NodeAsked
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
	Term   uint64             `json:",omitempty"`
	Unsure string             `json:",omitempty"` // why it could not be asked again; what it said before stands
	Beside []field.MemberName `json:",omitempty"` // who say so too, and no term decides between them
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

// RosterUnread says why a cluster's own list of its members cannot be read.
type RosterUnread struct {
	Role field.RoleName
	From field.MemberName
	Why  string
}

// NodeDark says that a node's agent cannot be reached.
type NodeDark struct {
	Node    field.NodeName
	Why     string
	Refuses bool `json:",omitempty"` // it answers, and does not obey
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
	StopAsked struct {
		Members []field.MemberName
		By      string `json:",omitempty"`
	}
	StartAsked struct {
		Members []field.MemberName
		Without []field.MemberName `json:",omitempty"` // whose data is given up, should it be the newest
		By      string             `json:",omitempty"`
	}
	RestartAsked struct {
		Members []field.MemberName
		Why     string
		Part    bool   `json:",omitempty"` // of what goes on: it begins no rollout where one is under way
		By      string `json:",omitempty"`
	}
)

// RetireAsked takes the field down.
type RetireAsked struct{ By string }

// NodeReleasing says that a node's agent is to end and its folder to go; NodeReleased, that both are gone.
type (
	NodeReleasing struct{ Node field.NodeName }
	NodeReleased  struct {
		Node      field.NodeName
		Withdrawn bool `json:",omitempty"` // its ground had never given it
	}
)

// FieldRetired says that nothing is left.
type FieldRetired struct{}

// RolloutPaused keeps anything new from being begun; RolloutResumed lets it go on.
type (
	RolloutPaused  struct{ By string }
	RolloutResumed struct{ By string }
)

// RestartSpared says that members that were to be restarted run already with what is wanted.
type RestartSpared struct{ Members []field.MemberName }

// RolloutFailed says that a rollout has stopped half-way. What it had not begun is not begun before the next deploy.
type RolloutFailed struct {
	What string
	Why  string
}

// RolloutEnded says that everything wanted has come true: by a rollout, or by a task.
type RolloutEnded struct {
	What string
	Task int `json:",omitempty"` // its number
}

func (f TermRaised) apply(s *State, _ time.Time) {
	s.Term, s.Base = f.Term, s.Revision
	if s.Log == "" {
		s.Log = f.Log
	}
	if f.Mark != "" {
		if s.Marks == nil {
			s.Marks = map[uint64]string{}
		}
		s.Marks[f.Term] = f.Mark
	}
	for _, n := range s.Nodes {
		n.Unheard = n.There()
	}
}

func (f TermRaised) Sentence() string {
	return fmt.Sprintf("%s holds the field, term %d", f.By, f.Term)
}

func (f Accepted) apply(s *State, at time.Time) {
	if s.Retired {
		s.reset()
	}
	before := s.Field
	s.Field = f.Field
	for _, declared := range f.Field.Roles {
		r, was := s.ensureRole(declared.Name), (*field.Role)(nil)
		if before != nil {
			was = before.Role(declared.Name)
		}
		if was == nil || was.Program == nil || declared.Program == nil {
			continue
		}
		if was.Program.Roster != nil && declared.Program.Roster == nil { // what was asked before is asked no more
			r.Roster, r.RosterWhy = nil, ""
		}
		if was.Program.Leader != nil && declared.Program.Leader == nil {
			r.Leader, r.Claims, r.HandedOver = "", nil, ""
		}
	}
	for name, b := range f.Bound {
		bound := 1
		if before := s.Nodes[name]; before != nil {
			bound = before.Bound + 1
		}
		s.Nodes[name] = &Node{Name: name, Bound: bound}
		s.Nodes[name].bind(b, at)
	}
	for _, m := range s.Members {
		m.Halted, m.Unfit = false, ""
		if m.RestartWhy == ConfigurationChanged {
			m.RestartDue, m.RestartWhy = false, "" // what is due by this draft is worked out anew
		}
		if r := f.Field.Role(m.Role); r != nil { // of a role that is gone, what it said last holds
			m.Keeps = r.Keeps()
		}
	}
	s.beginRollout(Rollout{What: "deploy", By: f.By, Began: at, Target: Digest(f.Field), From: s.Rollout.Target})
	s.Stalled = ""
	s.Shape++
	s.Census++
	s.Drafts++
}

func (f Accepted) Sentence() string {
	members := 0
	for _, r := range f.Field.Roles {
		members += r.Members
	}
	return fmt.Sprintf("deploy asked for by %s: %s, %s, %s", f.By, wording.Counted(len(f.Field.Roles), "role"), wording.Counted(members, "member"),
		wording.Counted(len(f.Field.Nodes), "node"))
}

func (f RoleFounded) apply(s *State, _ time.Time) {
	r := s.ensureRole(f.Role)
	r.Founded, r.Founders, r.FoundDue = true, f.Founders, f.Steps
	for _, name := range f.Founders {
		m := s.Member(name)
		m.Joined, m.Admitted, m.Begins = true, true, true
	}
	s.Shape++
}

func (f RoleFounded) Sentence() string {
	if len(f.Founders) == 0 {
		return fmt.Sprintf("%s starts again with data that was kept", f.Role)
	}
	return fmt.Sprintf("%s is founded by %s", f.Role, wording.Members(f.Founders))
}

func (f LeaderSeen) apply(s *State, at time.Time) {
	s.claim(f.Role, Claim{Member: f.Member, Term: f.Term, Unsure: f.Unsure}, true, at)
}

func (f LeaderSeen) Sentence() string {
	if f.Unsure != "" {
		return fmt.Sprintf("it is not known whether %s still leads %s: %s", f.Member, f.Role, f.Unsure)
	}
	if len(f.Beside) > 0 {
		return fmt.Sprintf("%s says that it leads %s, and so does %s: they may accept different writes", f.Member, f.Role, wording.Members(f.Beside))
	}
	if f.Term > 0 {
		return fmt.Sprintf("%s leads %s, term %d", f.Member, f.Role, f.Term)
	}
	return fmt.Sprintf("%s leads %s", f.Member, f.Role)
}

func (f LeaderLost) apply(s *State, at time.Time) {
	s.claim(f.Role, Claim{Member: f.Member}, false, at)
}

func (f LeaderLost) Sentence() string { return fmt.Sprintf("%s no longer leads %s", f.Member, f.Role) }

func (f RosterSeen) apply(s *State, at time.Time) {
	r := s.ensureRole(f.Role)
	r.Roster, r.RosterAt, r.RosterWhy = f.Roster, at, ""
	for _, m := range s.Members {
		if m.Role == f.Role && m.Phase != Gone && !m.Listed && s.Entry(m) != nil {
			m.Listed = true
		}
	}
}

func (f RosterSeen) Sentence() string {
	names := make([]string, len(f.Roster)) // at most as many as an agent reads
	for i, e := range f.Roster {
		names[i] = e.Name
		if e.Name == "" {
			names[i] = "(no name, " + e.ID + ")"
		}
		if !e.Voter {
			names[i] += " (learner)"
		}
	}
	return fmt.Sprintf("%s lists as its members: %s", f.Role, wording.FirstOf(names, 12))
}

func (f RosterUnread) apply(s *State, _ time.Time) { s.ensureRole(f.Role).RosterWhy = f.Why }

func (f RosterUnread) Sentence() string {
	return fmt.Sprintf("the members that %s lists cannot be read from %s: %s", f.Role, f.From, f.Why)
}

func (f NodeDark) apply(s *State, at time.Time) {
	n := s.Nodes[f.Node]
	if !n.Unreachable {
		n.Since = at
	}
	n.Unheard, n.Unreachable, n.UnreachableWhy, n.Refuses = false, true, f.Why, f.Refuses
	s.judgeAllClaims(at)
}

func (f NodeDark) Sentence() string {
	if f.Refuses {
		return fmt.Sprintf("%s does not obey: %s", f.Node, f.Why)
	}
	return fmt.Sprintf("%s cannot be reached: %s", f.Node, f.Why)
}

func (f NodeBack) apply(s *State, at time.Time) {
	n := s.Nodes[f.Node]
	n.Unheard, n.Unreachable, n.UnreachableWhy, n.Refuses, n.Since = false, false, "", false, at
	s.judgeAllClaims(at)
}

// judgeAllClaims finds out anew who leads where several say so: who can be heard has changed.
func (s *State) judgeAllClaims(at time.Time) {
	for _, r := range s.Roles {
		if len(r.Claims) > 1 {
			s.judgeClaims(r, at)
		}
	}
}

func (f NodeBack) Sentence() string { return fmt.Sprintf("%s answers", f.Node) }

func (f ReportsDropped) apply(*State, time.Time) {}

func (f ReportsDropped) Sentence() string {
	return fmt.Sprintf("the agent of %s dropped %s, since no controller had asked for them for long; the newest of each kind are there", f.Node, wording.Counted(f.Count, "report"))
}

func (f Heard) apply(s *State, _ time.Time) {
	if n := s.Nodes[f.Node]; n != nil {
		n.Agent, n.Heard, n.Forced = f.Agent, f.Seq, false
	}
}

func (f Heard) Sentence() string { return fmt.Sprintf("heard %s up to report %d", f.Node, f.Seq) }

func (f StopAsked) apply(s *State, at time.Time) {
	for _, name := range f.Members {
		m := s.Member(name)
		m.Halted, m.RestartDue, m.RestartWhy, m.Asked = true, false, "", false
	}
	s.beginTask("stop", f.By, f.Members, at)
}

func (f StopAsked) Sentence() string { return "stop asked for: " + wording.Members(f.Members) }

func (f StartAsked) apply(s *State, at time.Time) {
	for _, name := range f.Members {
		m := s.Member(name)
		m.Halted, m.Asked = false, true
		if len(f.Without) > 0 {
			s.ensureRole(m.Role).Without = f.Without
		}
	}
	s.beginTask("start", f.By, f.Members, at)
}

func (f StartAsked) Sentence() string {
	if len(f.Without) > 0 {
		return fmt.Sprintf("start asked for, without what %s may have that the others have not: %s", wording.Members(f.Without), wording.Members(f.Members))
	}
	return "start asked for: " + wording.Members(f.Members)
}

func (f RestartAsked) apply(s *State, at time.Time) {
	for _, name := range f.Members {
		m := s.Member(name)
		m.RestartDue, m.RestartWhy, m.Attempt = true, f.Why, 0
	}
	switch {
	case f.Part && s.Rollout.Active():
	case f.Part || f.Why != AskedFor:
		s.beginRollout(Rollout{What: "restart", Began: at, Target: s.Rollout.Target, From: s.Rollout.Target})
	default:
		s.beginTask("restart", f.By, f.Members, at)
	}
}

// Why members are restarted.
const (
	AskedFor             = "asked for"
	ConfigurationChanged = "changed configuration"
)

func (f RestartAsked) Sentence() string {
	if f.Part {
		return fmt.Sprintf("to be restarted (%s): %s", f.Why, wording.Members(f.Members))
	}
	if f.Why == AskedFor {
		return "restart asked for: " + wording.Members(f.Members)
	}
	return fmt.Sprintf("restart asked for (%s): %s", f.Why, wording.Members(f.Members))
}

func (f RestartSpared) apply(s *State, _ time.Time) {
	for _, name := range f.Members {
		m := s.Member(name)
		m.RestartDue, m.RestartWhy = false, ""
	}
}

func (f RestartSpared) Sentence() string {
	return "not restarted, as it runs with what is wanted: " + wording.Members(f.Members)
}

func (f RetireAsked) apply(s *State, at time.Time) {
	s.Retiring = true
	s.beginRollout(Rollout{What: "retire", By: f.By, Began: at, From: s.Rollout.Target})
}

func (f RetireAsked) Sentence() string { return "retire asked for by " + f.By }

func (f NodeReleasing) apply(s *State, _ time.Time) { s.Nodes[f.Node].Releasing = true }

func (f NodeReleasing) Sentence() string { return fmt.Sprintf("%s is being freed", f.Node) }

func (f NodeReleased) apply(s *State, _ time.Time) {
	n := s.Nodes[f.Node]
	n.Released, n.Unreachable = true, false
	s.Census++
	for _, m := range s.Members {
		if m.Node == f.Node {
			m.Kept = false
			s.retireMember(m)
		}
	}
}

func (f NodeReleased) Sentence() string {
	if f.Withdrawn {
		return fmt.Sprintf("%s is not asked for any more; it never was there", f.Node)
	}
	return fmt.Sprintf("%s is free: its agent has ended and its folder is gone", f.Node)
}

func (f FieldRetired) apply(s *State, at time.Time) {
	s.Retired, s.Retiring, s.Rollout.Ended, s.Rollout.Outcome = true, false, at, Completed
}

func (f FieldRetired) Sentence() string { return "the field is retired; nothing is left" }

func (f RolloutPaused) apply(s *State, _ time.Time) { s.Rollout.Paused = true }

func (f RolloutPaused) Sentence() string { return "paused by " + f.By + ": nothing new is begun" }

func (f RolloutResumed) apply(s *State, _ time.Time) { s.Rollout.Paused = false }

func (f RolloutResumed) Sentence() string { return "resumed by " + f.By }

func (f RolloutEnded) apply(s *State, at time.Time) {
	began := s.Rollout.Began
	for _, t := range s.Tasks {
		if t.Active() && (t.Number == f.Task || f.Task == 0 && t.What == f.What) {
			began = t.Began
		}
	}
	if f.Task > 0 || f.What != s.Rollout.What || !s.Rollout.Active() {
		if !s.endTask(f.Task, f.What, at) {
			return
		}
	} else {
		s.Rollout.Ended, s.Rollout.Outcome = at, Completed
	}
	lasted := maps.Clone(s.Lasted)
	if lasted == nil {
		lasted = map[string]time.Duration{}
	}
	lasted[f.What] = at.Sub(began)
	s.Lasted = lasted
}

func (f RolloutFailed) apply(s *State, at time.Time) {
	s.Rollout.Ended, s.Rollout.Failed, s.Rollout.Outcome, s.Stalled = at, f.Why, Failing, f.Why
}

func (f RolloutFailed) Sentence() string {
	return fmt.Sprintf("%s stopped half-way: %s", f.What, f.Why)
}

func (f RolloutEnded) Sentence() string { return f.What + " done" }
