package state

import (
	"cmp"
	"maps"
	"slices"

	"lanternfield/internal/core/field"
)

// MembersOf lists the members of a role that are not gone, oldest first.
func (s *State) MembersOf(role field.RoleName) []*Member {
	var members []*Member
	for _, m := range s.Members {
		if m.Role == role && m.Phase != Gone {
			members = append(members, m)
		}
	}
	slices.SortFunc(members, func(a, b *Member) int { return a.Number - b.Number })
	return members
}

// ByRole groups the members that are not gone, oldest first. One pass serves all roles.
func (s *State) ByRole() map[field.RoleName][]*Member {
	groups := map[field.RoleName][]*Member{}
	for _, m := range s.Members {
		if m.Phase != Gone {
			groups[m.Role] = append(groups[m.Role], m)
		}
	}
	for _, g := range groups {
		slices.SortFunc(g, func(a, b *Member) int { return a.Number - b.Number })
	}
	return groups
}

// Member finds a member, also one that is gone; nil where there never was one.
func (s *State) Member(name field.MemberName) *Member {
	if m := s.Members[name]; m != nil {
		return m
	}
	return s.Former[name]
}

// retireMember puts a member among the former ones once it is gone and nothing is kept of it.
func (s *State) retireMember(m *Member) {
	if m.Phase == Gone && !m.Kept && s.Members[m.Name] == m {
		delete(s.Members, m.Name)
		s.Former[m.Name] = m
		s.FormerCount++
		if len(s.Former) > mostFormer+mostFormer/4 {
			s.forgetFormer()
		}
	}
}

// mostFormer is how many former members are remembered beside those that others were told of; the log has all of them.
const mostFormer = 400

// forgetFormer forgets the former members that have been gone for longest. Founders, and those by whom present members were admitted, stay:
// templates see them.
func (s *State) forgetFormer() {
	needed := map[field.MemberName]bool{}
	for _, r := range s.Roles {
		for _, f := range r.Founders {
			needed[f] = true
		}
		if r.Op != nil {
			needed[r.Op.Asked], needed[r.Op.Member] = true, true
		}
	}
	for _, m := range s.Members {
		needed[m.Via], needed[m.LastAsked] = true, true
	}
	var oldest []*Member
	for name, m := range s.Former {
		if !needed[name] {
			oldest = append(oldest, m)
		}
	}
	slices.SortFunc(oldest, func(a, b *Member) int { return cmp.Or(a.Since.Compare(b.Since), cmp.Compare(a.Name, b.Name)) })
	for _, m := range oldest[:max(0, len(oldest)-mostFormer)] {
		delete(s.Former, m.Name)
	}
}

// EveryMember lists the members that are there, and the former ones that are remembered, by role and number.
func EveryMember(s *State) []*Member {
	members := slices.AppendSeq(slices.Collect(maps.Values(s.Members)), maps.Values(s.Former))
	slices.SortFunc(members, func(a, b *Member) int {
		return cmp.Or(cmp.Compare(a.Role, b.Role), cmp.Compare(a.Number, b.Number))
	})
	return members
}

// SortedMembers lists the members that are there, and those of whom data is kept, by role and number.
func SortedMembers(s *State) []*Member {
	members := slices.Collect(maps.Values(s.Members))
	slices.SortFunc(members, func(a, b *Member) int {
		return cmp.Or(cmp.Compare(a.Role, b.Role), cmp.Compare(a.Number, b.Number))
	})
	return members
}
