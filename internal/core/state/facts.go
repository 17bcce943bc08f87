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
	Back  bool                       `json:",omitempty"` // the field itself goes back to it, as a role wants that when a member is late
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

	Address string `json:",omitempty"` // it leads by having this, which one member has at a time
}

// LeaderLost says that a member leads no more.
type LeaderLost struct {
	Role   field.RoleName
	Member field.MemberName

	Address string `json:",omitempty"` // which it had
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

// RetireAsked takes the field down.
type RetireAsked struct{ By string }

// FieldRetired says that nothing is left.
type FieldRetired struct{}

// RolloutPaused keeps anything new from being begun; RolloutResumed lets it go on.
type (
	RolloutPaused  struct{ By string }
	RolloutResumed struct{ By string }
)

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
	s.Field, s.Reactive = f.Field, reactive(f.Field)
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
	for name := range s.Roles {
		if f.Field.Role(name) == nil {
			s.dropDue(name)
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
	s.beginRollout(Rollout{What: "deploy", By: f.By, Began: at, Target: Digest(f.Field), From: s.Rollout.Target, Back: f.Back})
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
	if f.Address != "" {
		return fmt.Sprintf("%s has the address %s now", f.Member, f.Address)
	}
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

func (f LeaderLost) Sentence() string {
	if f.Address != "" {
		return fmt.Sprintf("%s no longer has the address %s", f.Member, f.Address)
	}
	return fmt.Sprintf("%s no longer leads %s", f.Member, f.Role)
}

func (f RosterSeen) apply(s *State, at time.Time) {
	r := s.ensureRole(f.Role)
	r.Roster, r.RosterAt, r.RosterWhy = f.Roster, at, ""
	for _, m := range s.Members {
		if m.Role == f.Role && m.Phase != Gone && !m.Listed && s.Entry(m) != nil {
			m.Listed = true
		}
	}
	s.joinedNow(r, at)
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

func (f RetireAsked) apply(s *State, at time.Time) {
	s.Retiring = true
	s.endTasks(at)
	s.beginRollout(Rollout{What: "retire", By: f.By, Began: at, From: s.Rollout.Target})
}

func (f RetireAsked) Sentence() string { return "retire asked for by " + f.By }

func (f FieldRetired) apply(s *State, at time.Time) {
	s.Retired, s.Retiring, s.Rollout.Ended, s.Rollout.Outcome = true, false, at, Completed
	s.Proofs, s.Invitations = nil, nil
	s.changeNotices(func(all []Notice) []Notice {
		for i := range all {
			if all[i].Over.IsZero() {
				all[i].Over = at
			}
		}
		return all
	})
	s.endTasks(at) // in a log of an older version they went on
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
		s.Rollout.Ended, s.Rollout.Outcome = notBefore(at, s.Rollout.Began), Completed
		if f.What == "deploy" {
			s.Good = s.Field
		}
	}
	lasted := maps.Clone(s.Lasted)
	if lasted == nil {
		lasted = map[string]time.Duration{}
	}
	if took := at.Sub(began); took >= 0 { // else a clock was set back meanwhile
		lasted[f.What] = took
	}
	s.Lasted = lasted
}

func (f RolloutFailed) apply(s *State, at time.Time) {
	s.Rollout.Ended, s.Rollout.Failed, s.Rollout.Outcome, s.Stalled = notBefore(at, s.Rollout.Began), f.Why, Failing, f.Why
}

func (f RolloutFailed) Sentence() string {
	return fmt.Sprintf("%s stopped half-way: %s", f.What, f.Why)
}

func (f RolloutEnded) Sentence() string { return f.What + " done" }
