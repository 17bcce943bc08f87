package engine

import (
	"fmt"
	"slices"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/state"
)

// StopRollout ends what is carried out where it is: what has begun goes on, nothing new is begun.
type StopRollout struct{ By string }

func (in StopRollout) decide(s *state.State) ([]state.Fact, error) {
	switch {
	case s.Retiring:
		return nil, fmt.Errorf("%s is being retired, and that is not left half-way", s.Field.Name)
	case !s.Rollout.Active():
		return nil, fmt.Errorf("nothing is being carried out that could be stopped")
	}
	return []state.Fact{state.RolloutFailed{What: s.Rollout.What, Why: "stopped here by " + in.By}}, nil
}

// TryAgain has members that have not come to where they were to come tried again, at once: steps that came to nothing are taken up again, processes
// are started anew.
type TryAgain struct {
	Members []field.MemberName
	By      string
}

func (in TryAgain) decide(s *state.State) ([]state.Fact, error) {
	if !s.Deployed() {
		return nil, fmt.Errorf("the field is not deployed, so there is nothing to be tried again")
	}
	if s.Retiring {
		return nil, fmt.Errorf("%s is being retired", s.Field.Name)
	}
	var resumed, restarted []field.MemberName
	troubled := s.Troubled()
	for _, name := range in.Members {
		m := s.Members[name]
		switch {
		case m == nil || m.Halted || s.IsReady(m) && !m.RestartDue:
		case slices.Contains(troubled, name):
			resumed = append(resumed, name)
		case m.Ordered.Want != "" && !m.Leaving && (m.Phase == state.Failed || m.Phase == state.Starting || m.Phase == state.Unready || m.Phase == state.Ready && s.PhaseOf(m) == state.Joining):
			restarted = append(restarted, name)
		}
	}
	var facts []state.Fact
	if len(resumed) > 0 {
		facts = append(facts, state.ProceduresResumed{Members: resumed})
	}
	if len(restarted) > 0 {
		f := state.RestartAsked{Members: restarted, Why: "tried again", Part: true}
		if s.Stalled != "" || s.Rollout.Paused { // it is a person's word, and does not wait
			f = state.RestartAsked{Members: restarted, Why: state.AskedFor, By: in.By}
		}
		facts = append(facts, f)
	}
	if len(facts) == 0 {
		return nil, fmt.Errorf("there is nothing to be tried again: they work, wait for others, or are being placed")
	}
	return facts, nil
}

// LateDue looks whether members take longer than their role allows; then its policy acts.
type LateDue struct{ At time.Time }

// Late finds the first member of what is carried out that takes longer than its role allows, where the role then has something done about it.
func Late(s *state.State, now time.Time) (*state.Member, *field.Late) {
	if s.Field == nil || !s.Rollout.Active() || s.Rollout.Paused || s.Retiring || s.Listening() > 0 {
		return nil, nil
	}
	for i := range s.Field.Roles {
		r := &s.Field.Roles[i]
		if r.Late == nil || r.Late.Then == field.Wait {
			continue
		}
		for _, m := range s.MembersOf(r.Name) {
			if !m.ComesSince.IsZero() && !m.Halted && !m.Leaving && now.Sub(m.ComesSince) > time.Duration(r.Late.After) {
				return m, r.Late
			}
		}
	}
	return nil, nil
}

func (in LateDue) decide(s *state.State) ([]state.Fact, error) {
	m, late := Late(s, in.At)
	if m == nil {
		return nil, nil
	}
	why := fmt.Sprintf("%s is %s, and was to be ready within %s", m.Name, s.PhaseOf(m), field.Span(time.Duration(late.After)))
	failed := state.RolloutFailed{What: s.Rollout.What, Why: why}
	if late.Then != field.GoBack {
		return []state.Fact{failed}, nil
	}
	if s.Good == nil || s.Rollout.Back || state.Digest(s.Good) == s.Rollout.Target {
		failed.Why += "; there is nothing to go back to"
		return []state.Fact{failed}, nil
	}
	back, err := Deploy{Draft: s.Good, By: fmt.Sprintf("the field: %s is late, and %s goes back then", m.Name, m.Role)}.decide(s)
	if err != nil {
		failed.Why += fmt.Sprintf("; it cannot go back: %v", err)
		return []state.Fact{failed}, nil
	}
	for i := range back {
		if f, is := back[i].(state.Accepted); is {
			f.Back = true
			back[i] = f
		}
	}
	return append([]state.Fact{failed}, back...), nil
}
