package rollout

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/state"
)

// Recorder follows one rollout, or one task, from the event that began it. It is told every event after it was applied.
type Recorder struct {
	record Record
	only   map[field.MemberName]bool // whom a task is about; nil: everybody
	rows   map[field.MemberName]*Row
	done   map[field.MemberName]*Row // those of them that are done
	gated  map[field.RoleName]bool   // roles whose gates were looked at
	closed int                       // gates that are not open
	bound  map[field.NodeName]time.Time
	stages map[field.RoleName]int
	order  map[field.RoleName]int // of the roles, from 1: as they are deployed, those of a stage as the file has them
	total  int                    // members of the field that were not gone when it had ended
}

// Begins makes a recorder where an event, which has just been applied, begins a rollout or a task; nil where it begins none.
func Begins(s *state.State, e state.Event) *Recorder {
	r := &Recorder{rows: map[field.MemberName]*Row{}, done: map[field.MemberName]*Row{}, gated: map[field.RoleName]bool{}, bound: map[field.NodeName]time.Time{}}
	task := func(members []field.MemberName) {
		t := s.Tasks[len(s.Tasks)-1]
		r.record.Task, r.record.What, r.record.By = t.Number, t.What, t.By
		r.only = map[field.MemberName]bool{}
		for _, m := range members {
			r.only[m] = true
		}
	}
	var began []field.MemberName
	switch f := e.Fact.(type) {
	case state.RetireAsked:
		r.record.Number, r.record.What, r.record.By = s.Rollout.Number, s.Rollout.What, s.Rollout.By
		for _, m := range state.SortedMembers(s) {
			if m.Phase != state.Gone {
				began = append(began, m.Name)
			}
		}
	case state.Accepted:
		r.record.Number, r.record.What, r.record.By = s.Rollout.Number, s.Rollout.What, s.Rollout.By
	case state.StopAsked:
		task(f.Members)
		began = f.Members
	case state.StartAsked:
		task(f.Members)
		began = f.Members
	case state.RestartAsked:
		switch began = f.Members; {
		case s.Rollout.Active() && s.Rollout.Began.Equal(e.At) && s.Rollout.What == "restart":
			r.record.Number, r.record.What = s.Rollout.Number, s.Rollout.What
		case f.Part:
			return nil
		default:
			task(f.Members)
		}
	default:
		return nil
	}
	r.record.Began, r.record.At = e.At, e.At
	r.arrange(s)
	for _, name := range began {
		r.touch(s, s.Member(name), e.At)
	}
	if _, deploys := e.Fact.(state.Accepted); deploys {
		r.inherit(s, e.At)
	}
	return r
}

// before is how long the newest one took that can be compared with it: of the same kind, with as many members to move.
func (r *Recorder) before(s *state.State) *Before {
	if r.record.Task > 0 {
		for _, t := range slices.Backward(s.Tasks) {
			if t.What == r.record.What && t.Number != r.record.Task && len(t.Members) == len(r.only) && !t.Ended.IsZero() {
				return &Before{Took: t.Ended.Sub(t.Began)}
			}
		}
		return nil
	}
	if x := s.Comparable(); x != nil {
		return &Before{x.Number, x.Ended.Sub(x.Began)}
	}
	return nil
}

// arrange learns the stages of the field as it is to be.
func (r *Recorder) arrange(s *state.State) {
	if s.Field != nil && s.Field.Cycle() == nil {
		r.stages, r.order = plan.StageOf(s.Field), map[field.RoleName]int{}
		for _, stage := range s.Field.Stages() {
			for _, name := range stage {
				r.order[name] = len(r.order) + 1
			}
		}
	}
}

// inherit takes over those that were on their way when it began.
func (r *Recorder) inherit(s *state.State, at time.Time) {
	for _, m := range state.SortedMembers(s) {
		switch s.PhaseOf(m) {
		case state.Planned:
			r.touch(s, m, at)
		case state.Placing, state.Starting, state.Joining:
			row := r.touch(s, m, at)
			row.Action, row.Begun = Comes, at
		}
	}
}

// Done tells whether it has ended.
func (r *Recorder) Done() bool { return !r.record.Ended.IsZero() }

// Is tells whether this is the rollout, or the task, of that number.
func (r *Recorder) Is(number, task int) bool {
	return r.record.Number == number && r.record.Task == task
}

// Note takes in an event, which has just been applied to the state.
func (r *Recorder) Note(s *state.State, e state.Event) {
	if r.Done() {
		return
	}
	e.At = maxTime(e.At, r.record.Began) // a report may come late, and a clock may have been set back
	if e.At.After(r.record.At) {
		r.record.At = e.At
	}
	switch f := e.Fact.(type) {
	case state.Accepted, state.RetireAsked:
		r.end(s, e.At, state.Replaced, "")
		return
	case state.NodeBound:
		r.bound[f.Node] = e.At
	case state.RolloutPaused:
		r.record.Pauses = append(r.record.Pauses, Span{From: e.At})
	case state.RolloutResumed:
		if n := len(r.record.Pauses); n > 0 && r.record.Pauses[n-1].To.IsZero() {
			r.record.Pauses[n-1].To = e.At
		}
	}
	for _, m := range r.concerned(s, e.Fact) {
		r.follow(s, m, e)
	}
	if r.closed > 0 {
		r.gates(s, e)
	}
	switch f := e.Fact.(type) {
	case state.RolloutEnded:
		if r.record.Task > 0 && f.Task == r.record.Task || r.record.Task == 0 && f.Task == 0 && !s.Rollout.Active() {
			r.end(s, e.At, state.Completed, "")
		}
	case state.RolloutFailed:
		if r.record.Task == 0 {
			r.end(s, e.At, state.Failing, f.Why)
		}
	case state.FieldRetired:
		r.end(s, e.At, state.Completed, "")
	}
}

func (r *Recorder) end(s *state.State, at time.Time, outcome state.Outcome, why string) {
	r.record.Ended, r.record.At, r.record.Outcome, r.record.Failed = at, at, outcome, why
	for _, row := range r.rows {
		if now := row.Now(); now.To.IsZero() {
			now.To = maxTime(at, now.From)
		}
	}
	r.total = present(s)
	if outcome == state.Completed {
		r.record.Before = r.before(s)
	}
}

// present counts the members that are not gone.
func present(s *state.State) int {
	n := 0
	for _, m := range s.Members {
		if m.Phase != state.Gone {
			n++
		}
	}
	return n
}

// look notes which gates stand in the way of a role whose members wait.
func (r *Recorder) look(s *state.State, name field.RoleName, at time.Time) {
	if r.gated[name] || s.Field == nil || s.Retiring {
		return
	}
	r.gated[name] = true
	role := s.Field.Role(name)
	if role == nil {
		return
	}
	needs := s.Field.Needs(role)
	for _, on := range slices.Sorted(maps.Keys(needs)) {
		target := s.Field.Role(on)
		if target == nil {
			continue
		}
		if g := s.Gate(target, needs[on], s.MembersOf(on)); !g.Open {
			r.record.Gates = append(r.record.Gates, Gate{Role: name, Since: at, Gate: g})
			r.closed++
		}
	}
}

// gates looks at those that are closed again, after an event.
func (r *Recorder) gates(s *state.State, e state.Event) {
	if !opens(e.Fact) || s.Field == nil {
		return
	}
	about := state.SubjectOf(e.Fact)
	for i := range r.record.Gates {
		g := &r.record.Gates[i]
		target := s.Field.Role(g.Gate.On)
		if g.Open() || target == nil || about.Role != "" && about.Role != target.Name {
			continue
		}
		by := s.Member(about.Member)
		if by != nil && by.Role != target.Name {
			continue
		}
		if g.Gate = s.Gate(target, g.Gate.Gate, s.MembersOf(target.Name)); g.Gate.Open {
			g.Opened = maxTime(e.At, g.Since)
			r.closed--
			if by != nil {
				g.By = by.Name
			}
		}
	}
}

// opens tells whether a fact may open a gate.
func opens(f state.Fact) bool {
	switch f.(type) {
	case state.MemberReady, state.MemberUnready, state.MemberExited, state.RosterSeen, state.OperationDone, state.ProofEnded, state.NodeBack, state.MemberPlanned, state.RoleFounded:
		return true
	}
	return false
}

// cause finds what a member had waited for last as its turn came: the gate that opened, who of its role was done, or its node, whichever came last.
func (r *Recorder) cause(s *state.State, row *Row, at time.Time) *Cause {
	var c *Cause
	since := row.Segments[0].From
	later := func(x Cause) {
		if x.At.Before(since) || x.At.After(at) {
			return
		}
		if c == nil || cmp.Or(x.At.Compare(c.At), cmp.Compare(x.Member, c.Member)) > 0 { // the same one, whatever the order in which they are looked at
			c = &x
		}
	}
	if bound, ok := r.bound[row.Node]; ok {
		later(Cause{Kind: ANode, Node: row.Node, At: bound})
	}
	for _, g := range r.record.Gates {
		if g.Role == row.Role && g.Open() {
			later(Cause{Kind: AGate, Role: g.Gate.On, Member: g.By, At: g.Opened})
		}
	}
	for _, other := range r.done {
		comes := other.Action == Comes || other.Action == Starts
		if other != row && (other.Role == row.Role && comes || row.Action != Comes && row.Action != Starts) {
			later(Cause{Kind: APeer, Member: other.Member, Role: other.Role, At: other.Done})
		}
	}
	return c
}

func maxTime(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// Record gives what was recorded, at a moment. It shares nothing with the recorder. What is expected of one that goes on, Expect adds.
func (r *Recorder) Record(s *state.State, now time.Time) *Record {
	out := r.record
	out.Gates, out.Pauses = slices.Clone(r.record.Gates), slices.Clone(r.record.Pauses)
	if !r.Done() {
		out.At = maxTime(now, out.At)
	}
	out.Rows = make([]Row, 0, len(r.rows))
	for _, row := range r.rows {
		copied := *row
		copied.Segments = slices.Clone(row.Segments)
		out.Rows = append(out.Rows, copied)
	}
	slices.SortFunc(out.Rows, func(a, b Row) int {
		return cmp.Or(cmp.Compare(last(r.order[a.Role]), last(r.order[b.Role])), cmp.Compare(a.Role, b.Role), cmp.Compare(a.Number, b.Number))
	})
	total := r.total
	if !r.Done() {
		total = present(s)
	}
	out.Still = max(0, total-len(out.Rows))
	out.Chain = chain(&out)
	return &out
}

// last has roles that the draft has no more stand after all others.
func last(place int) int {
	if place == 0 {
		return 1 << 30
	}
	return place
}

// chain follows what was waited for from who is done last, or is expected to be, to the root.
func chain(r *Record) []Link {
	var end *Row
	when := func(row *Row) time.Time {
		if row.Expected != nil {
			return row.Expected.End
		}
		return row.Done
	}
	for i := range r.Rows {
		row := &r.Rows[i]
		if row.Action != Flaps && (end == nil || when(row).After(when(end))) {
			end = row
		}
	}
	var links []Link
	for seen := map[field.MemberName]bool{}; end != nil && !seen[end.Member]; {
		seen[end.Member] = true
		after := end.After
		if after == nil && end.Expected != nil {
			after = end.Expected.After
		}
		links = append(links, Link{end.Member, after})
		if end = nil; after != nil && after.Member != "" {
			end = r.Row(after.Member)
		}
	}
	slices.Reverse(links)
	return links
}
