package state

import (
	"fmt"
	"maps"
	"strconv"
	"strings"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/membership"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/wording"
)

// MemberAdmitted says that a member may be started: what must be done before has been done.
type MemberAdmitted struct {
	Member field.MemberName
	Steps  int `json:",omitempty"` // of joining that its program has; those after its start are still to be done
}

// MemberLeft says that a member is no member of its cluster any more.
type MemberLeft struct{ Member field.MemberName }

// RoleDissolved says that the last member of a cluster has gone on purpose, so that a new one may be founded.
type RoleDissolved struct{ Role field.RoleName }

// OperationAsked has one step of a procedure carried out.
type OperationAsked struct {
	Role      field.RoleName
	Operation order.Operation
	Via       field.MemberName `json:",omitempty"` // who admits the member
}

// OperationRetried says that a step was refused and goes on being tried.
type OperationRetried struct {
	Role      field.RoleName
	Member    field.MemberName
	ID        uint64
	Procedure order.Procedure
	Why       string
}

// OperationDone says that a step has had its effect.
type OperationDone struct {
	Role      field.RoleName
	Member    field.MemberName
	ID        uint64
	Procedure order.Procedure
	Captured  map[string]string `json:",omitempty"`
}

// OperationUndone says that a step has come to nothing; Unclear, that this is not certain.
type OperationUndone struct {
	Role      field.RoleName
	Member    field.MemberName
	ID        uint64
	Procedure order.Procedure
	Why       string
	Unclear   bool `json:",omitempty"`
}

// OperationLost says that the answer to a step cannot be had any more. Whether it has happened is found out before it is
// tried again.
type OperationLost struct {
	Role      field.RoleName
	Member    field.MemberName
	ID        uint64
	Procedure order.Procedure
	Why       string
}

// ChangeWaits says what the next change of a cluster's membership waits for.
type ChangeWaits struct {
	Role    field.RoleName
	For     string // nothing when it is as it shall be
	Blocked bool   `json:",omitempty"`
	// Answers are what a person can say to it, where waiting alone does not end it.
	Answers []Answer `json:",omitempty"`
}

// Answer is one of the things that a person can say to a question: who begins or is started then, and whose data is given up for that.
type Answer struct {
	Start   []field.MemberName `json:",omitempty"` // to be started too; all of the role where nobody is named
	Without []field.MemberName `json:",omitempty"` // begin without what only these may have
}

// ProceduresResumed has procedures tried again that had come to nothing.
type ProceduresResumed struct{ Members []field.MemberName }

func (f MemberAdmitted) apply(s *State, _ time.Time) {
	m := s.Member(f.Member)
	m.Admitted, m.JoinDue = true, f.Steps
	s.Shape++
}

func (f MemberAdmitted) Sentence() string {
	return fmt.Sprintf("%s may be started: all that must come before has been done", f.Member)
}

func (f MemberLeft) apply(s *State, _ time.Time) {
	s.Member(f.Member).Left = true
	s.Shape++
}

func (f MemberLeft) Sentence() string {
	return fmt.Sprintf("%s is no longer a member of its cluster", f.Member)
}

func (f RoleDissolved) apply(s *State, _ time.Time) {
	s.dropDue(f.Role)
	before := s.ensureRole(f.Role)
	s.Roles[f.Role] = &Role{Name: f.Role, Highest: before.Highest, Outside: before.Outside, OutsideCount: before.OutsideCount}
	s.Shape++
	s.Census++
}

func (f RoleDissolved) Sentence() string {
	return fmt.Sprintf("the cluster of %s has no members left and is dissolved", f.Role)
}

func (f OperationAsked) apply(s *State, _ time.Time) {
	op := f.Operation
	r := s.ensureRole(f.Role)
	r.Op, r.Retried = &op, ""
	if op.Procedure != order.Rank { // while it is read once more the question stands
		r.Waits, r.Answers = membership.Wait{}, nil
	}
	if m := s.Member(op.Member); m.Via == "" && op.Procedure == order.Join {
		m.Via = f.Via
	}
	s.Revision = max(s.Revision, op.ID)
}

func (f OperationAsked) Sentence() string {
	op := f.Operation
	on := ""
	if op.Asked != op.Member {
		on = fmt.Sprintf(", through %s", op.Asked)
	}
	switch {
	case op.VerifyOnly:
		return fmt.Sprintf("%s is asked whether it has added %s%s", f.Role, op.Member, on)
	case op.Procedure == order.Found:
		return fmt.Sprintf("step %d of founding %s is asked for%s", op.Step+1, f.Role, on)
	}
	return fmt.Sprintf("%s is asked to %s%s", f.Role, ProcedureVerb(op.Procedure, op.Member), on)
}

func ProcedureVerb(p order.Procedure, m field.MemberName) string {
	return map[order.Procedure]string{order.Join: fmt.Sprintf("add %s", m), order.Promote: fmt.Sprintf("give %s a vote", m),
		order.Leave: fmt.Sprintf("remove %s", m), order.HandOver: fmt.Sprintf("take the lead from %s", m), order.ChangeSecret: "take another secret", order.Found: "be founded", order.Rank: fmt.Sprintf("tell how advanced the data of %s is", m)}[p]
}

func (f OperationRetried) apply(s *State, _ time.Time) { s.ensureRole(f.Role).Retried = f.Why }

func (f OperationRetried) Sentence() string {
	return fmt.Sprintf("%s could not %s yet, and is asked again: %s", f.Role, ProcedureVerb(f.Procedure, f.Member), f.Why)
}

func (f OperationDone) apply(s *State, at time.Time) {
	r, m := s.ensureRole(f.Role), s.Member(f.Member)
	op := r.Op
	r.Op, r.Retried = nil, ""
	m.Unsettled, m.LastAsked, m.Trouble, m.Tries = "", "", "", 0
	switch {
	case op.Procedure == order.Found:
		r.FoundSteps = op.Step + 1
	case op.Procedure == order.Rank:
		rank, err := strconv.ParseFloat(strings.TrimSpace(f.Captured["rank"]), 64)
		if m.Rank = &rank; err != nil {
			m.Rank, m.Tries = nil, m.Tries+1
			m.Trouble = fmt.Sprintf("how advanced the data of %s is could not be read: its rank is %q, which is no number", m.Name, f.Captured["rank"])
		}
		return
	case op.Procedure == order.ChangeSecret && op.Last:
		m.step(op.Procedure, 0) // another one is taken anew
		s.secretTaken(f.Role, op.Secret, op.Number)
	case op.Procedure == order.HandOver && op.Last:
		r.HandedOver = op.Member
		m.step(op.Procedure, 0) // should it lead again, all of it is to be done again
	default:
		m.step(op.Procedure, op.Step+1)
	}
	if len(f.Captured) > 0 {
		captured := maps.Clone(f.Captured)
		for k, v := range m.Captured {
			if _, ok := captured[k]; !ok {
				captured[k] = v
			}
		}
		m.Captured = captured
	}
	s.joinedNow(r, at)
	s.Shape++
}

// step notes how many steps of a procedure are done. The map may be shared with another copy of the member.
func (m *Member) step(procedure order.Procedure, done int) {
	steps := map[order.Procedure]int{procedure: done}
	for p, n := range m.Steps {
		if p != procedure {
			steps[p] = n
		}
	}
	m.Steps = steps
}

func (f OperationDone) Sentence() string {
	return map[order.Procedure]string{order.Join: fmt.Sprintf("%s has added %s", f.Role, f.Member), order.Promote: fmt.Sprintf("%s has given %s a vote", f.Role, f.Member),
		order.Leave: fmt.Sprintf("%s has removed %s", f.Role, f.Member), order.HandOver: fmt.Sprintf("%s has handed over the lead of %s", f.Member, f.Role),
		order.ChangeSecret: fmt.Sprintf("a step by which %s takes another secret is done, at %s", f.Role, f.Member),
		order.Found:        fmt.Sprintf("a step of founding %s is done", f.Role), order.Rank: fmt.Sprintf("how advanced the data of %s is has been read: %s", f.Member, f.Captured["rank"])}[f.Procedure]
}

func (f OperationUndone) apply(s *State, _ time.Time) {
	r, m := s.ensureRole(f.Role), s.Member(f.Member)
	op := r.Op
	r.Op, r.Retried = nil, ""
	m.Unsettled, m.LastAsked = "", ""
	if f.Unclear {
		m.Unsettled = op.Procedure
	}
	if op.VerifyOnly && !f.Unclear {
		return // that is an answer
	}
	m.Tries++
	if op.Procedure == order.Rank {
		m.Unsettled, m.Trouble = "", fmt.Sprintf("how advanced the data of %s is could not be read: %s", m.Name, f.Why)
		return
	}
	if op.Procedure == order.HandOver {
		m.Unsettled = "" // asking again does no harm, and the leader may leave without
		return
	}
	if op.Procedure == order.ChangeSecret {
		m.Unsettled = "" // so does asking for this again: the steps find out what is done
		m.Trouble = fmt.Sprintf("%s could not %s: %s", f.Role, ProcedureVerb(op.Procedure, op.Member), f.Why)
		return
	}
	m.Stuck = f.Unclear && op.Do.DoneWhen == ""
	switch {
	case m.Stuck:
		m.Trouble = fmt.Sprintf("whether %s could %s is not known, and its step has no done_when to find it out by: %s", f.Role, ProcedureVerb(op.Procedure, op.Member), f.Why)
	case !f.Unclear:
		m.Trouble = fmt.Sprintf("%s could not %s: %s", f.Role, ProcedureVerb(op.Procedure, op.Member), f.Why)
	}
}

func (f OperationUndone) Sentence() string {
	if f.Unclear {
		return fmt.Sprintf("whether %s could %s is not known: %s", f.Role, ProcedureVerb(f.Procedure, f.Member), f.Why)
	}
	return fmt.Sprintf("%s could not %s: %s", f.Role, ProcedureVerb(f.Procedure, f.Member), f.Why)
}

func (f OperationLost) apply(s *State, _ time.Time) {
	r, m := s.ensureRole(f.Role), s.Member(f.Member)
	if r.Op.Procedure != order.HandOver && r.Op.Procedure != order.Rank && r.Op.Procedure != order.ChangeSecret {
		m.Unsettled, m.LastAsked = r.Op.Procedure, r.Op.Asked
		m.Stuck = r.Op.Do.DoneWhen == ""
	}
	if m.Stuck {
		m.Trouble = fmt.Sprintf("whether %s could %s is not known, and its step has no done_when to find it out by", f.Role, ProcedureVerb(r.Op.Procedure, f.Member))
	}
	r.Op, r.Retried = nil, ""
}

func (f OperationLost) Sentence() string {
	return fmt.Sprintf("whether %s could %s is not known (%s); that is found out first", f.Role, ProcedureVerb(f.Procedure, f.Member), f.Why)
}

func (f ChangeWaits) apply(s *State, _ time.Time) {
	r := s.ensureRole(f.Role)
	r.Waits, r.Answers = membership.Wait{For: f.For, Blocked: f.Blocked}, f.Answers
}

func (f ChangeWaits) Sentence() string {
	if f.For == "" {
		return fmt.Sprintf("%s has all the members it needs", f.Role)
	}
	return fmt.Sprintf("%s waits for %s", f.Role, f.For)
}

func (f ProceduresResumed) apply(s *State, _ time.Time) {
	for _, name := range f.Members {
		m := s.Member(name)
		m.Trouble, m.Tries, m.Stuck = "", 0, false
	}
}

func (f ProceduresResumed) Sentence() string {
	return "tried again: the procedures of " + wording.Members(f.Members)
}

// RoleCold says that nobody of a role runs, so that who begins has to be found out before anybody is started.
type RoleCold struct {
	Role field.RoleName
	Why  string
}

// MemberBegins says who of a role of which nobody runs is started first.
type MemberBegins struct {
	Member field.MemberName
	Role   field.RoleName
	Why    string
}

// RoleWarm says that the member that began is ready, so that the others may be started.
type RoleWarm struct{ Role field.RoleName }

// StepsSkipped says that steps of a procedure are not for this member, dead or alive as it is.
type StepsSkipped struct {
	Member    field.MemberName
	Procedure order.Procedure
	Done      int // steps that count as done
}

func (f RoleCold) apply(s *State, _ time.Time) {
	r := s.ensureRole(f.Role)
	r.Cold, r.Begins = true, ""
	for _, m := range s.Members {
		if m.Role == f.Role {
			m.Rank, m.Begins = nil, false
		}
	}
}

func (f RoleCold) Sentence() string {
	return fmt.Sprintf("nobody of %s runs (%s): who begins is found out first", f.Role, f.Why)
}

func (f MemberBegins) apply(s *State, _ time.Time) {
	s.ensureRole(f.Role).Begins = f.Member
	for _, m := range s.Members {
		if m.Role == f.Role {
			m.Begins = m.Name == f.Member
		}
	}
	s.Shape++
}

func (f MemberBegins) Sentence() string {
	return fmt.Sprintf("%s begins %s: %s", f.Member, f.Role, f.Why)
}

func (f RoleWarm) apply(s *State, _ time.Time) {
	r := s.ensureRole(f.Role)
	r.Cold, r.Begins, r.Without, r.Waits, r.Answers = false, "", nil, membership.Wait{}, nil
}

func (f RoleWarm) Sentence() string {
	return fmt.Sprintf("%s has begun: the others are started", f.Role)
}

func (f StepsSkipped) apply(s *State, _ time.Time) { s.Member(f.Member).step(f.Procedure, f.Done) }

func (f StepsSkipped) Sentence() string {
	return fmt.Sprintf("steps of %s that are not for %s as it is are left out", f.Procedure, f.Member)
}
