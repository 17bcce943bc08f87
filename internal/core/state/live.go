package state

import (
	"maps"
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
)

// Live is what package plan needs to know.
func (s *State) Live() plan.Live {
	l := plan.Live{Highest: map[field.RoleName]int{}}
	for _, name := range slices.Sorted(maps.Keys(s.Members)) {
		m := s.Members[name]
		at := m.Member
		if s.Field != nil {
			at.Ports = s.Ports(m)
		}
		switch {
		case m.Phase == Gone && m.Kept:
			l.Kept = append(l.Kept, plan.Kept{Member: at, Number: m.Number})
		case m.Phase == Gone:
		case m.Leaving:
			l.Leaving = append(l.Leaving, at)
		default:
			l.Members = append(l.Members, plan.Member{Member: at, Number: m.Number, Ready: s.IsReady(m),
				Leads: s.RoleOf(m.Role).Leader == m.Name})
		}
	}
	slices.SortStableFunc(l.Members, func(a, b plan.Member) int { return a.Number - b.Number })
	slices.SortStableFunc(l.Kept, func(a, b plan.Kept) int { return a.Number - b.Number })
	if s.Field != nil {
		l.Secured = s.Secured()
	}
	for name, r := range s.Roles {
		l.Highest[name] = r.Highest
	}
	for _, n := range SortedNodes(s) {
		if n.Releasing && !n.Released {
			l.Freeing = append(l.Freeing, n.Name)
		}
	}
	return l
}
