package state

import (
	"fmt"
	"time"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
)

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

// VersionSeen says of which version the program of a member is.
type VersionSeen struct {
	Member  field.MemberName
	Version string
}

func (f VersionSeen) apply(s *State, _ time.Time) { s.Member(f.Member).Version = f.Version }

// Sentence words the fact for the journal.
func (f VersionSeen) Sentence() string { return fmt.Sprintf("%s runs version %s", f.Member, f.Version) }

// MemberVisited says that somebody did something at a member: ran a command, opened a shell or a tunnel, copied files. What names the program
// or the port, and no arguments.
type MemberVisited struct {
	Member field.MemberName
	By     string
	What   string
}

func (f MemberVisited) apply(*State, time.Time) {}

// Sentence words the fact for the journal.
func (f MemberVisited) Sentence() string { return fmt.Sprintf("%s %s at %s", f.By, f.What, f.Member) }

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
		if m.Ordered.Revision > m.Taken {
			m.Ordered.Round = max(m.Ordered.Round, f.Round) // it was restarted on an order that this log has lost: it need not be again
		}
		switch m.Phase {
		case Ready, Unready, Draining:
			return
		case Stopping: // it may be the process that is about to be stopped
			if m.Ordered.Want != order.Run || f.Round < m.Ordered.Round {
				return
			}
		}
	}
	if m.Phase == Placing || m.Phase == Stopping {
		s.passed(m, at)
	}
	m.StartedAt, m.ReadyAt, m.JoinsSince = at, time.Time{}, time.Time{}
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
	first := m.Phase == Starting
	if first {
		s.passed(m, at)
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
	if first && s.Field != nil && s.PhaseOf(m) == Joining {
		m.JoinsSince = at
	} else {
		m.ComesSince = time.Time{}
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
	m.exited(at)
	m.fail(text, f.Attempt, f.RetryIn, at)
	s.dropLeader(m)
}

func (f MemberExited) Sentence() string {
	return fmt.Sprintf("%s went dark: process %d %s; it is started again in %s", f.Member, f.PID, ExitText(f.Exit), field.Span(f.RetryIn))
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
