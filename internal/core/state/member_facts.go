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

// MemberStarted says that a process runs for the member.
type MemberStarted struct {
	Member      field.MemberName
	Incarnation int
	PID         int
	Adopted     bool   `json:",omitempty"`
	Revision    uint64 `json:",omitempty"` // of the order that it was started with
	Round       int    `json:",omitempty"` // of the order that an adopted process was started with
}

// StartFailed says that no process could be started.
type StartFailed struct {
	Member  field.MemberName
	Why     string
	Attempt int
	RetryIn time.Duration
}

// MemberReady says that the ready probe succeeds.
type MemberReady struct{ Member field.MemberName }

// MemberUnready says that the ready probe fails.
type MemberUnready struct {
	Member field.MemberName
	Why    string
}

// MemberExited says that a process ended without having been asked to.
type MemberExited struct {
	Member  field.MemberName
	PID     int
	Exit    order.Exit
	Lines   []string `json:",omitempty"`
	Attempt int
	RetryIn time.Duration
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
		s.ensureRole(m.Role).Waited = at.Sub(m.Since)
	}
	switch {
	case f.Order.Want != order.Run:
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
)

func (f MemberOrdered) Sentence() string {
	if f.Order.NoRestart && f.Order.Want == order.Run {
		return fmt.Sprintf("%s drains (%s)", f.Order.Member, f.Why)
	}
	switch f.Why {
	case DraftChanged:
		return fmt.Sprintf("%s is given its changed configuration", f.Order.Member)
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

func (f MemberStarted) apply(s *State, at time.Time) {
	m := s.Member(f.Member)
	another := !f.Adopted || f.Revision > 0 && f.Incarnation > m.Incarnation // a process of which nothing was known
	m.PID, m.Incarnation, m.Why, m.ProbeError = f.PID, f.Incarnation, "", ""
	m.Kept, m.Bytes = false, 0 // it has its data back
	if another {
		m.startedWith(f.Revision)
		m.Began = false
		s.dropLeader(m) // that was another process
	}
	if f.Adopted {
		switch m.Phase {
		case Ready, Unready, Draining:
			return
		case Stopping: // it may be the process that is about to be stopped
			if m.Ordered.Want != order.Run || f.Round < m.Ordered.Round {
				return
			}
		}
	}
	m.StartedAt, m.ReadyAt = at, time.Time{}
	m.enter(Starting, at)
}

func (f MemberStarted) Sentence() string {
	if f.Adopted {
		return fmt.Sprintf("%s was found running as process %d and adopted", f.Member, f.PID)
	}
	return fmt.Sprintf("%s started as process %d", f.Member, f.PID)
}

func (f StartFailed) apply(s *State, at time.Time) {
	m := s.Member(f.Member)
	m.fail(f.Why, f.Attempt, f.RetryIn, at)
}

func (f StartFailed) Sentence() string {
	return fmt.Sprintf("%s could not be started: %s", f.Member, f.Why)
}

func (f MemberReady) apply(s *State, at time.Time) {
	m := s.Member(f.Member)
	if !m.Joined {
		m.Joined = true
		s.Shape++
	}
	if m.Phase == Starting && !m.StartedAt.IsZero() {
		s.ensureRole(m.Role).Warmed = at.Sub(m.StartedAt)
	}
	m.ReadyAt, m.Why, m.ProbeError, m.Attempt, m.RetryAt = at, "", "", 0, time.Time{}
	m.WasReady = true
	if m.Begins { // should it be started again by itself, its cluster is there
		m.Begins, m.Began = false, true
		s.Shape++
	}
	if m.Phase != Draining {
		m.enter(Ready, at)
	}
}

func (f MemberReady) Sentence() string { return fmt.Sprintf("%s is ready", f.Member) }

func (f MemberUnready) apply(s *State, at time.Time) {
	m := s.Member(f.Member)
	m.ProbeError = f.Why
	if m.Phase == Ready {
		m.Why = f.Why
		m.enter(Unready, at)
	}
}

func (f MemberUnready) Sentence() string { return fmt.Sprintf("%s is not ready: %s", f.Member, f.Why) }

func (f MemberExited) apply(s *State, at time.Time) {
	m := s.Member(f.Member)
	text := ExitText(f.Exit)
	m.LastExit, m.Running = &ExitNote{At: at, Text: text, Lines: f.Lines}, nil
	m.fail(text, f.Attempt, f.RetryIn, at)
	s.dropLeader(m)
}

func (f MemberExited) Sentence() string {
	return fmt.Sprintf("%s went dark: process %d %s; it is started again in %s", f.Member, f.PID, ExitText(f.Exit), field.Span(f.RetryIn))
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

func (m *Member) enter(p Phase, at time.Time) {
	if m.Phase != p {
		m.Phase, m.Since = p, at
	}
}

func (m *Member) fail(why string, attempt int, retryIn time.Duration, at time.Time) {
	if m.RestartDue || m.Ordered.Revision > m.Taken {
		attempt = 0 // it failed before the newest order reached it, which does not count against that order
	}
	m.PID, m.Running, m.Why, m.Attempt, m.RetryAt = 0, nil, why, attempt, at.Add(retryIn)
	m.enter(Failed, at)
}

func (s *State) dropLeader(m *Member) {
	if s.Roles[m.Role] != nil {
		s.claim(m.Role, Claim{Member: m.Name}, false, m.Since)
	}
}

// ExitText words how a process ended.
func ExitText(e order.Exit) string {
	switch {
	case e.Why != "":
		return e.Why + ", and was ended"
	case !e.Known:
		return "ended, and how is not known: its agent had been replaced meanwhile"
	case e.Signal != "":
		return "was killed by signal " + e.Signal
	default:
		return fmt.Sprintf("ended with exit code %d", e.Code)
	}
}

func forced(f bool) string {
	if f {
		return "; it ignored its stop signal and had to be killed"
	}
	return ""
}
