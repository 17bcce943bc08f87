package engine

import (
	"fmt"
	"maps"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/membership"
	"lanternfield/internal/core/order"
)

// MemberAdmitted says that a member may be started: what must be done before has been done.
type MemberAdmitted struct{ Member field.MemberName }

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
}

// ProceduresResumed has procedures tried again that had come to nothing.
type ProceduresResumed struct{ Members []field.MemberName }

func (f MemberAdmitted) apply(s *State, _ time.Time) {
	s.Members[f.Member].Admitted = true
	s.shape++
}
func (f MemberAdmitted) Sentence() string { return fmt.Sprintf("%s is let in", f.Member) }

func (f MemberLeft) apply(s *State, _ time.Time) {
	s.Members[f.Member].Left = true
	s.shape++
}
func (f MemberLeft) Sentence() string { return fmt.Sprintf("%s is no member any more", f.Member) }

func (f RoleDissolved) apply(s *State, _ time.Time) {
	s.Roles[f.Role] = &Role{Name: f.Role, Highest: s.role(f.Role).Highest}
	s.shape++
}
func (f RoleDissolved) Sentence() string { return fmt.Sprintf("%s is dissolved", f.Role) }

func (f OperationAsked) apply(s *State, _ time.Time) {
	op := f.Operation
	r := s.role(f.Role)
	r.Op, r.Retried, r.Waits = &op, "", membership.Wait{}
	if m := s.Members[op.Member]; m.Via == "" && op.Procedure == order.Join {
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
	case op.Settle:
		return fmt.Sprintf("%s is asked whether it has let %s in%s", f.Role, op.Member, on)
	case op.Procedure == order.Found:
		return fmt.Sprintf("%s is to be founded, step %d%s", f.Role, op.Step+1, on)
	}
	return fmt.Sprintf("%s is to %s%s", f.Role, procedureVerb(op.Procedure, op.Member), on)
}

func procedureVerb(p order.Procedure, m field.MemberName) string {
	return map[order.Procedure]string{order.Join: fmt.Sprintf("let %s in", m), order.Promote: fmt.Sprintf("let %s vote", m),
		order.Leave: fmt.Sprintf("let %s go", m), order.HandOver: fmt.Sprintf("be handed over by %s", m), order.Found: "be founded"}[p]
}

func (f OperationRetried) apply(s *State, _ time.Time) { s.role(f.Role).Retried = f.Why }
func (f OperationRetried) Sentence() string {
	return fmt.Sprintf("%s does not %s yet, and is asked again: %s", f.Role, procedureVerb(f.Procedure, f.Member), f.Why)
}

func (f OperationDone) apply(s *State, _ time.Time) {
	r, m := s.role(f.Role), s.Members[f.Member]
	op := r.Op
	r.Op, r.Retried = nil, ""
	m.Unsettled, m.LastAsked, m.Trouble, m.Tries = "", "", "", 0
	switch {
	case op.Procedure == order.Found:
		r.FoundSteps = op.Step + 1
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
	s.shape++
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
	return map[order.Procedure]string{order.Join: fmt.Sprintf("%s has let %s in", f.Role, f.Member), order.Promote: fmt.Sprintf("%s has let %s vote", f.Role, f.Member),
		order.Leave: fmt.Sprintf("%s has let %s go", f.Role, f.Member), order.HandOver: fmt.Sprintf("%s has handed %s over", f.Member, f.Role),
		order.Found: fmt.Sprintf("a step of founding %s is done", f.Role)}[f.Procedure]
}

func (f OperationUndone) apply(s *State, _ time.Time) {
	r, m := s.role(f.Role), s.Members[f.Member]
	op := r.Op
	r.Op, r.Retried = nil, ""
	m.Unsettled, m.LastAsked = "", ""
	if f.Unclear {
		m.Unsettled = op.Procedure
	}
	if op.Settle && !f.Unclear {
		return // that is an answer
	}
	m.Tries++
	if op.Procedure == order.HandOver {
		m.Unsettled = "" // asking again does no harm, and the leader may leave without
		return
	}
	m.Stuck = f.Unclear && op.Do.DoneWhen == ""
	switch {
	case m.Stuck:
		m.Trouble = fmt.Sprintf("whether %s could %s is not known, and its step has no done_when to find it out by: %s", f.Role, procedureVerb(op.Procedure, op.Member), f.Why)
	case !f.Unclear:
		m.Trouble = fmt.Sprintf("%s could not %s: %s", f.Role, procedureVerb(op.Procedure, op.Member), f.Why)
	}
}
func (f OperationUndone) Sentence() string {
	if f.Unclear {
		return fmt.Sprintf("whether %s could %s is not known: %s", f.Role, procedureVerb(f.Procedure, f.Member), f.Why)
	}
	return fmt.Sprintf("%s did not %s: %s", f.Role, procedureVerb(f.Procedure, f.Member), f.Why)
}

func (f OperationLost) apply(s *State, _ time.Time) {
	r, m := s.role(f.Role), s.Members[f.Member]
	if r.Op.Procedure != order.HandOver {
		m.Unsettled, m.LastAsked = r.Op.Procedure, r.Op.Asked
		m.Stuck = r.Op.Do.DoneWhen == ""
	}
	if m.Stuck {
		m.Trouble = fmt.Sprintf("whether %s could %s is not known, and its step has no done_when to find it out by", f.Role, procedureVerb(r.Op.Procedure, f.Member))
	}
	r.Op, r.Retried = nil, ""
}
func (f OperationLost) Sentence() string {
	return fmt.Sprintf("whether %s could %s is not known (%s); that is found out first", f.Role, procedureVerb(f.Procedure, f.Member), f.Why)
}

func (f ChangeWaits) apply(s *State, _ time.Time) {
	s.role(f.Role).Waits = membership.Wait{For: f.For, Blocked: f.Blocked}
}
func (f ChangeWaits) Sentence() string {
	if f.For == "" {
		return fmt.Sprintf("%s has the members that it shall have", f.Role)
	}
	return fmt.Sprintf("%s waits for %s", f.Role, f.For)
}

func (f ProceduresResumed) apply(s *State, _ time.Time) {
	for _, name := range f.Members {
		m := s.Members[name]
		m.Trouble, m.Tries, m.Stuck = "", 0, false
	}
}
func (f ProceduresResumed) Sentence() string {
	return "tried again: the procedures of " + joinNames(f.Members)
}
