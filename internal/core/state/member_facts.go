package state

import (
	"fmt"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/place"
)

// MemberPlanned names a member and gives it a node and ports.
type MemberPlanned struct {
	place.Member
	Number   int
	Founding bool
	Returns  bool `json:",omitempty"` // to the data that was kept of it; it founds nothing
}

// MemberOrdered is a new order for a member's agent. Why says what it is for.
type MemberOrdered struct {
	Order   order.Order
	Via     field.MemberName `json:",omitempty"`
	Why     string
	Restart bool `json:",omitempty"` // it is stopped for that, and started again
	Draft   bool `json:",omitempty"` // the draft has changed, and not only what the member is told of others
	Same    bool `json:",omitempty"` // it runs with that already, as far as it matters
}

// OrderTaken says that the agent has an order on its disk.
type OrderTaken struct {
	Member   field.MemberName
	Revision uint64
}

// OrderRefused says that the agent could not take an order; it will be repeated.
type OrderRefused struct {
	Member   field.MemberName
	Revision uint64
	Why      string
}

// MemberReloaded says that a running member has taken what was changed, or why it has not and goes on as before.
type MemberReloaded struct {
	Member   field.MemberName
	Why      string `json:",omitempty"` // what went wrong
	Revision uint64 `json:",omitempty"`
	Checked  bool   `json:",omitempty"` // its files were only found valid: they are for its next start
}

// MemberStopped says that a member has ended on purpose.
type MemberStopped struct {
	Member field.MemberName
	Forced bool `json:",omitempty"`
}

// MemberGone says that nothing of a member is left on its node.
type MemberGone struct {
	Member field.MemberName
	Forced bool  `json:",omitempty"`
	Kept   bool  `json:",omitempty"` // but its data, which was put aside
	Bytes  int64 `json:",omitempty"` // of data
}

// MemberLeaving says that a member is to go for good.
type MemberLeaving struct {
	Member field.MemberName
	Why    string
}

func (f MemberPlanned) apply(s *State, at time.Time) {
	m := &Member{Member: f.Member, Number: f.Number, Founding: f.Founding, Phase: Planned, Since: at}
	if role := s.Field.Role(f.Role); role != nil {
		m.Keeps = role.Keeps()
	}
	if before := s.Member(f.Name); f.Returns && before != nil {
		m.Kept, m.Bytes, m.Joined = before.Kept, before.Bytes, true
	}
	s.Members[f.Name] = m
	delete(s.Former, f.Name)
	r := s.ensureRole(f.Role)
	r.Highest = max(r.Highest, f.Number)
	s.Shape++
	s.Census++
}

func (f MemberPlanned) Sentence() string {
	if f.Returns {
		return fmt.Sprintf("%s comes back to %s, to the data that was kept of it", f.Name, f.Node)
	}
	return fmt.Sprintf("%s planned on %s", f.Name, f.Node)
}

func (f MemberOrdered) apply(s *State, at time.Time) {
	m := s.Member(f.Order.Member)
	before := m.Ordered
	switch {
	case f.Order.Want != order.Run || f.Order.NoRestart:
		m.ComesSince = time.Time{}
	case before.Want != order.Run || f.Order.Round != before.Round:
		m.ComesSince = at
	}
	if s.Rollout.Active() && !f.Same && m.MovedBy != s.Rollout.Number {
		m.MovedBy = s.Rollout.Number
		s.Rollout.Moved++
	}
	m.Ordered, m.Refused, m.Unfit, m.Undone = f.Order, "", "", false
	m.remember(f.Order)
	switch {
	case f.Draft:
		m.Awaits = nil
		for _, d := range order.Pending(m.Running, f.Order.Spec) {
			m.Awaits = append(m.Awaits, d.What)
		}
	case f.Restart:
		m.Awaits = nil
	}
	if f.Same {
		m.Running, m.Began = f.Order.Spec, false
	}
	if f.Via != "" {
		m.Via = f.Via
	}
	s.Revision = max(s.Revision, f.Order.Revision)
	if m.Phase == Planned && f.Order.Want == order.Run {
		s.passed(m, at)
	}
	switch {
	case f.Order.Want != order.Run:
		if m.Phase == Draining {
			s.passed(m, at)
		}
		m.enter(Stopping, at)
	case f.Order.NoRestart:
		if !before.NoRestart {
			m.Lived = s.Works(m)
		}
		m.enter(Draining, at)
	case before.NoRestart:
		m.enter(Placing, at)
	case before.Want != order.Run:
		m.enter(Placing, at)
	case f.Order.Round != before.Round:
		m.RestartDue, m.RestartWhy = false, ""
		m.enter(Stopping, at)
	}
	s.Rendered[m.Name], s.Judged[m.Name] = s.Shape, s.Drafts
}

// Why a running member is given another spec.
const (
	DraftChanged  = "its configuration has changed"
	OthersChanged = "what it is told of others has changed"
	TrustChanged  = "its certificate has changed"

	SecretsChanged = "a secret of it has changed"
)

func (f MemberOrdered) Sentence() string {
	if f.Order.NoRestart && f.Order.Want == order.Run {
		return fmt.Sprintf("%s drains (%s)", f.Order.Member, f.Why)
	}
	switch f.Why {
	case DraftChanged:
		return fmt.Sprintf("%s is given its changed configuration", f.Order.Member)
	case TrustChanged:
		return fmt.Sprintf("%s is given its new certificate", f.Order.Member)
	case SecretsChanged:
		return fmt.Sprintf("%s is given another secret", f.Order.Member)
	case OthersChanged:
		return fmt.Sprintf("%s is told anew of the members that it knows of", f.Order.Member)
	}
	if f.Restart {
		return fmt.Sprintf("%s is restarted (%s)", f.Order.Member, f.Why)
	}
	verb := map[order.Want]string{order.Run: "run", order.Stop: "stop", order.Gone: "be removed"}[f.Order.Want]
	return fmt.Sprintf("%s is ordered to %s (%s)", f.Order.Member, verb, f.Why)
}

func (f OrderTaken) apply(s *State, _ time.Time) {
	m := s.Member(f.Member)
	m.Taken, m.Refused = f.Revision, ""
	if m.Running != nil && m.PID != 0 && m.Ordered.Revision == f.Revision && m.Ordered.Spec != nil && m.Ordered.Want == order.Run {
		m.Was = m.Running
		m.Running = order.InForce(m.Running, m.Ordered.Spec, false)
	}
}

func (f OrderTaken) Sentence() string { return fmt.Sprintf("the agent of %s has the order", f.Member) }

func (f OrderRefused) apply(s *State, _ time.Time) { s.Member(f.Member).Refused = f.Why }

func (f OrderRefused) Sentence() string {
	return fmt.Sprintf("the agent of %s cannot take the order: %s", f.Member, f.Why)
}

func (f MemberReloaded) apply(s *State, at time.Time) {
	m := s.Member(f.Member)
	m.Applied = max(m.Applied, f.Revision)
	switch {
	case f.Why == "" && !f.Checked && m.Running != nil && m.Ordered.Revision == f.Revision && m.Ordered.Spec != nil:
		m.Running = order.InForce(m.Running, m.Ordered.Spec, true)
	case f.Why == "":
	case f.Revision == 0: // of an older version
		m.Why = f.Why
	case f.Revision == m.Ordered.Revision:
		m.Unfit, m.Undone = f.Why, true
		if m.Running != nil && m.Was != nil {
			m.Running = m.Was // nothing of it holds
		}
		if m.Phase == Stopping && m.PID != 0 { // it was to be restarted, and goes on
			back := Ready
			if m.ReadyAt.IsZero() {
				back = Starting
			} else if m.ProbeError != "" {
				back = Unready
			}
			m.enter(back, at)
		}
	}
}

func (f MemberReloaded) Sentence() string {
	if f.Why != "" {
		return fmt.Sprintf("%s was not changed and goes on as before: %s", f.Member, f.Why)
	}
	if f.Checked {
		return fmt.Sprintf("%s's changed files are valid; they take effect at its next start", f.Member)
	}
	return fmt.Sprintf("%s has taken its changed configuration", f.Member)
}

func (f MemberStopped) apply(s *State, at time.Time) {
	m := s.Member(f.Member)
	m.PID, m.Running, m.Begins, m.Began = 0, nil, false, false
	if m.Phase == Stopping || m.Phase == Draining {
		s.passed(m, at)
	}
	m.enter(Stopped, at)
	s.dropLeader(m)
}

func (f MemberStopped) Sentence() string {
	return fmt.Sprintf("%s has stopped%s", f.Member, forced(f.Forced))
}

func (f MemberGone) apply(s *State, at time.Time) {
	m := s.Member(f.Member)
	m.PID, m.Running, m.Specs = 0, nil, nil
	// What it was run with is of no use any more; who it was stays for the record.
	m.Ordered.Spec, m.Was, m.Steps, m.Awaits, m.LastExit = nil, nil, nil, nil, nil
	m.Kept, m.Bytes = f.Kept, f.Bytes
	if m.Phase == Stopping || m.Phase == Draining {
		s.passed(m, at)
	}
	m.enter(Gone, at)
	s.dropLeader(m)
	s.retireMember(m)
	s.Shape++
	if s.Planned.Unplaced || m.Kept || !m.Leaving {
		s.Census++ // there may be room now
	}
}

func (f MemberGone) Sentence() string {
	data := ""
	if f.Kept {
		data = fmt.Sprintf("; its data, %s, is kept", field.Bytes(f.Bytes))
	}
	return fmt.Sprintf("%s is removed%s%s", f.Member, forced(f.Forced), data)
}

func (f MemberLeaving) apply(s *State, _ time.Time) {
	m := s.Member(f.Member)
	m.Leaving, m.RestartDue, m.RestartWhy = true, false, ""
	s.Shape++
	s.Census++
}

func (f MemberLeaving) Sentence() string {
	return fmt.Sprintf("%s is to be removed: %s", f.Member, f.Why)
}

func forced(f bool) string {
	if f {
		return "; it ignored its stop signal and had to be killed"
	}
	return ""
}
