package state

import (
	"maps"
	"slices"
	"time"

	"lanternfield/internal/core/field"
)

// Took is how long the members of each role were in a phase before they had come through it, newest last. It is replaced as a whole.
type Took map[field.RoleName]map[Phase][]time.Duration

// mostTook is how many durations of a phase a role remembers.
const mostTook = 32

// took notes how long a member was in the phase that it leaves because it has come through it. Reports may come late, and clocks of nodes differ: what
// would have taken less than nothing is left out.
func (s *State) took(m *Member, phase Phase, since, at time.Time) {
	d := at.Sub(since)
	if d < 0 || since.IsZero() {
		return
	}
	all := append(slices.Clone(s.Took[m.Role][phase]), d)
	of, took := maps.Clone(s.Took[m.Role]), maps.Clone(s.Took) // states that were cloned share them
	if of == nil {
		of = map[Phase][]time.Duration{}
	}
	if took == nil {
		took = Took{}
	}
	of[phase] = all[max(0, len(all)-mostTook):]
	took[m.Role] = of
	s.Took = took
}

// passed notes that a member leaves the phase in which it is for the next one.
func (s *State) passed(m *Member, at time.Time) { s.took(m, m.Phase, m.Since, at) }

// joinedNow notes for how long members of a role were joining that are no longer: they were ready, and now their cluster lists them.
func (s *State) joinedNow(role *Role, at time.Time) {
	if s.Field == nil {
		return
	}
	for _, m := range s.Members {
		if m.Role == role.Name && !m.JoinsSince.IsZero() && s.PhaseOf(m) != Joining {
			if m.Phase == Ready && s.IsReady(m) {
				s.took(m, Joining, m.JoinsSince, at)
				m.ComesSince = time.Time{}
			}
			m.JoinsSince = time.Time{}
		}
	}
}
