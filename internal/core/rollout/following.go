package rollout

import (
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/pace"
	"lanternfield/internal/core/state"
)

// concerned lists the members whose phase an event may have changed.
func (r *Recorder) concerned(s *state.State, f state.Fact) []*state.Member {
	var out []*state.Member
	add := func(m *state.Member) {
		if m != nil && (r.only == nil || r.only[m.Name]) {
			out = append(out, m)
		}
	}
	all := func(is func(*state.Member) bool) {
		for _, m := range s.Members {
			if is(m) {
				add(m)
			}
		}
	}
	role := func(name field.RoleName) { all(func(m *state.Member) bool { return m.Role == name }) }
	node := func(name field.NodeName) { all(func(m *state.Member) bool { return m.Node == name }) }
	switch f := f.(type) {
	case state.MemberPlanned:
		add(s.Member(f.Name))
	case state.MemberOrdered:
		add(s.Member(f.Order.Member))
	case state.OrderTaken:
		add(s.Member(f.Member))
	case state.MemberStarted:
		add(s.Member(f.Member))
	case state.StartFailed:
		add(s.Member(f.Member))
	case state.MemberReady:
		add(s.Member(f.Member))
	case state.MemberUnready:
		add(s.Member(f.Member))
	case state.MemberExited:
		add(s.Member(f.Member))
	case state.MemberReloaded:
		add(s.Member(f.Member))
	case state.MemberStopped:
		add(s.Member(f.Member))
	case state.MemberGone:
		add(s.Member(f.Member))
	case state.MemberLeaving:
		add(s.Member(f.Member))
	case state.MemberAdmitted:
		add(s.Member(f.Member))
	case state.RestartAsked:
		for _, name := range f.Members {
			add(s.Member(name))
		}
	case state.RestartSpared:
		for _, name := range f.Members {
			add(s.Member(name))
		}
	case state.RosterSeen:
		role(f.Role)
	case state.OperationDone:
		role(f.Role)
	case state.NodeDark:
		node(f.Node)
	case state.NodeBack:
		node(f.Node)
	}
	return out
}

// follow takes in what an event made of a member.
func (r *Recorder) follow(s *state.State, m *state.Member, e state.Event) {
	row := r.rows[m.Name]
	phase, due := s.PhaseOf(m), m.RestartDue
	if row == nil {
		if !moved(s, m, e.Fact) {
			return
		}
		row = r.touch(s, m, e.At)
	}
	if now := row.Now(); now.Phase != phase || now.Due != due {
		at := maxTime(e.At, now.From) // reports may come late
		now.To = at
		next := Segment{Phase: phase, From: at, Due: due, Why: whyOf(m, phase), Usual: pace.Of(s.Took[m.Role][phase])}
		row.Segments = append(row.Segments, next)
		if at.Equal(now.From) && len(row.Segments) > 1 { // it took no time
			row.Segments = slices.Delete(row.Segments, len(row.Segments)-2, len(row.Segments)-1)
		}
	} else if why := whyOf(m, phase); why != "" {
		now.Why = why
	}
	if f, is := e.Fact.(state.MemberOrdered); is && row.Begun.IsZero() {
		if row.Action == Flaps {
			row.Action = actionOf(m, f)
		}
		row.Begun, row.After = e.At, r.cause(s, row, e.At)
	}
	if f, is := e.Fact.(state.MemberLeaving); is && f.Member == m.Name {
		row.Action, row.Done = Leaves, time.Time{}
	}
	r.finish(s, m, row, e.At)
	if row.Done.IsZero() {
		delete(r.done, m.Name)
	} else {
		r.done[m.Name] = row
	}
}

// moved tells whether a fact makes a member part of what goes on.
func moved(s *state.State, m *state.Member, f state.Fact) bool {
	switch f := f.(type) {
	case state.MemberOrdered:
		return !f.Same && (f.Draft || f.Restart || f.Order.Want != order.Run || f.Order.NoRestart || m.PID == 0)
	case state.OrderTaken, state.RosterSeen, state.OperationDone, state.NodeBack, state.MemberReloaded, state.RestartSpared, state.MemberReady:
		return false
	case state.MemberStarted:
		return !f.Adopted
	}
	return true
}

// touch makes the row of a member, which was as it is until that moment.
func (r *Recorder) touch(s *state.State, m *state.Member, at time.Time) *Row {
	if m == nil {
		return nil
	}
	if row := r.rows[m.Name]; row != nil {
		return row
	}
	row := &Row{Member: m.Name, Role: m.Role, Node: m.Node, Number: m.Number, Stage: r.stages[m.Role], Action: r.actionFor(s, m)}
	if s.Field != nil {
		if n := s.Field.Node(m.Node); n != nil {
			row.Zone = n.Zone
		}
	}
	phase := s.PhaseOf(m)
	row.Segments = []Segment{{Phase: phase, From: at, Due: m.RestartDue, Why: whyOf(m, phase), Usual: pace.Of(s.Took[m.Role][phase])}}
	r.rows[m.Name] = row
	if phase == state.Planned || phase == state.Stopped {
		r.look(s, m.Role, at)
	}
	return row
}

// actionFor is what becomes of a member, as far as that is known when it is first heard of.
func (r *Recorder) actionFor(s *state.State, m *state.Member) Action {
	switch {
	case s.Retiring, m.Leaving:
		return Leaves
	case r.record.What == "stop":
		return Stops
	case r.record.What == "start":
		return Starts
	case r.record.What == "restart":
		return Restarts
	case m.RestartDue:
		return Changes
	case m.Phase == state.Planned:
		return Comes
	}
	return Flaps
}

// actionOf is what an order makes of a member.
func actionOf(m *state.Member, f state.MemberOrdered) Action {
	switch {
	case m.Leaving || f.Order.Want == order.Gone || f.Order.NoRestart:
		return Leaves
	case f.Order.Want == order.Stop:
		return Stops
	case f.Restart, f.Draft:
		return Changes
	}
	return Starts
}

// finish notes that a member has come to where it was to come, or that it is not there any more.
func (r *Recorder) finish(s *state.State, m *state.Member, row *Row, at time.Time) {
	there := false
	switch phase := s.PhaseOf(m); row.Action {
	case Leaves:
		there = phase == state.Gone
	case Stops:
		there = phase == state.Stopped || phase == state.Gone
	case Flaps:
		there = phase == state.Ready || phase == state.Gone
	default:
		taken := row.Action != Changes || !m.Awaited() // who comes may be told of others later on
		there = phase == state.Ready && !m.RestartDue && !row.Begun.IsZero() && taken || phase == state.Gone
	}
	switch {
	case there && row.Done.IsZero():
		row.Done = at
	case !there:
		row.Done = time.Time{}
	}
}

// whyOf is what failed.
func whyOf(m *state.Member, phase state.Phase) string {
	switch phase {
	case state.Failed, state.Unready:
		return m.Why
	case state.Starting:
		return m.ProbeError
	case state.Joining, state.Draining:
		return m.Trouble
	}
	return ""
}
