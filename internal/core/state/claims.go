package state

import (
	"cmp"
	"slices"
	"time"

	"lanternfield/internal/core/field"
)

// Claim is a member saying that it leads its role.
type Claim struct {
	Member field.MemberName `json:",omitzero"`
	Term   uint64           `json:",omitzero"`
	Unsure string           `json:",omitzero"` // why that could not be asked again
	At     time.Time        `json:",omitzero"` // since when
}

// leads chooses whom the claims make the leader: the highest term; of equal ones whoever can be heard, then whoever said so
// first. A term that is over makes nobody a leader.
func (s *State) leads(r *Role) (Claim, bool) {
	best, any := Claim{}, false
	sure := func(c Claim) bool { return c.Unsure == "" && !s.OutOfReach(c.Member) }
	for _, c := range r.Claims {
		if c.Term >= r.LeaderTerm && (!any || c.Term > best.Term || c.Term == best.Term && sure(c) && !sure(best)) {
			best, any = c, true
		}
	}
	return best, any
}

// Rivals are the members that claim to lead beside the leader, where no term decides against them.
func (s *State) Rivals(r *Role) []field.MemberName {
	var out []field.MemberName
	for _, c := range r.Claims {
		if c.Member != r.Leader && r.Leader != "" && c.Term == r.LeaderTerm && c.Unsure == "" && !s.OutOfReach(c.Member) && !s.OutOfReach(r.Leader) {
			out = append(out, c.Member)
		}
	}
	return out
}

// claim notes what a member says of leading, and who leads by that.
func (s *State) claim(role field.RoleName, c Claim, leads bool, at time.Time) {
	r := s.ensureRole(role)
	claims := slices.Clone(r.Claims)
	i := slices.IndexFunc(claims, func(x Claim) bool { return x.Member == c.Member })
	switch {
	case !leads && i >= 0:
		claims = slices.Delete(claims, i, i+1)
	case leads && i >= 0:
		c.At = claims[i].At
		claims[i] = c
	case leads:
		c.At = at
		claims = append(claims, c)
		slices.SortFunc(claims, func(a, b Claim) int { return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.Member, b.Member)) })
	}
	r.Claims = claims
	s.judgeClaims(r, at)
}

// judgeClaims finds out who leads by what members say.
func (s *State) judgeClaims(r *Role, at time.Time) {
	before := r.Leader
	best, any := s.leads(r)
	if !any {
		r.Leader, r.HandedOver = "", ""
	} else {
		r.Leader, r.LeaderTerm = best.Member, best.Term
	}
	if r.Leader != before && any {
		r.LeaderSince, r.HandedOver = at, ""
		s.Shape++ // who was admitted by one that is gone follows the new one
	}
}
