package state

import (
	"fmt"
	"time"

	"lanternfield/internal/core/field"
)

// ClockJumped says that the clock of who keeps the field was set, or stood still while the machine slept: by how much it went ahead of the time that passed, or back.
// What goes on has taken as long as before, so that nothing is late for it.
type ClockJumped struct{ By time.Duration }

func (f ClockJumped) apply(s *State, _ time.Time) {
	shift := func(times ...*time.Time) {
		for _, t := range times {
			if !t.IsZero() {
				*t = t.Add(f.By)
			}
		}
	}
	for _, m := range s.Members {
		shift(&m.Since, &m.StartedAt, &m.ReadyAt, &m.ComesSince, &m.JoinsSince, &m.RetryAt)
	}
	for _, n := range s.Nodes {
		shift(&n.Since)
	}
	if s.Rollout.Active() {
		shift(&s.Rollout.Began)
	}
	tasks := append([]Task(nil), s.Tasks...)
	for i := range tasks {
		if tasks[i].Active() {
			shift(&tasks[i].Began)
		}
	}
	s.Tasks = tasks
}

// Sentence words the fact for the journal.
func (f ClockJumped) Sentence() string {
	if f.By < 0 {
		return fmt.Sprintf("the clock of this machine was set back by %s", field.Span(-f.By))
	}
	return fmt.Sprintf("the clock of this machine went ahead by %s: it was set, or the machine slept", field.Span(f.By))
}
