package state

import (
	"fmt"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/wording"
)

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

// RestartSpared says that members that were to be restarted run already with what is wanted.
type RestartSpared struct{ Members []field.MemberName }

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
		m.RestartDue, m.RestartWhy, m.RestartFit, m.Attempt = true, f.Why, s.IsReady(m), 0
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
