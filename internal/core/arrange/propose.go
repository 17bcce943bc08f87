package arrange

import (
	"slices"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/plan"
)

// Proposal is how the members of a draft would stand better, and the edits by which they come to stand so.
type Proposal struct {
	Moves   []place.Move
	Changes []Change // to be made one after the other
}

// On gives the draft with the proposal taken.
func (p Proposal) On(f *field.Field) *field.Field {
	for _, c := range p.Changes {
		f = c.On(f)
	}
	return f
}

// everybody lists who stands in the draft: who lives and stays, and who would be added.
func everybody(f *field.Field, live plan.Live) (all []place.Member, pl plan.Plan) {
	pl = plan.Make(f, live)
	gone := map[field.MemberName]bool{}
	for _, r := range pl.Removes {
		gone[r.Member] = true
	}
	for _, m := range live.Members {
		if !gone[m.Name] {
			all = append(all, m.Member)
		}
	}
	return append(all, pl.Adds...), pl
}

// Propose finds the few moves by which the members of a draft would stand better, as far as pins allow, and the edits for
// them.
func Propose(f *field.Field, live plan.Live) Proposal {
	all, _ := everybody(f, live)
	pinned := map[field.MemberName]bool{}
	left := map[field.RoleName][]field.NodeName{}
	for role, pins := range f.Place {
		left[role] = slices.Clone(pins)
	}
	for _, m := range all {
		if i := slices.Index(left[m.Role], m.Node); i >= 0 {
			left[m.Role] = slices.Delete(left[m.Role], i, i+1)
			pinned[m.Name] = true
		}
	}
	p := Proposal{Moves: place.NewSite(f, all).Propose(all, pinned)}
	now := f
	for _, r := range f.Roles {
		var want []field.NodeName
		moved := false
		for _, m := range all {
			if m.Role != r.Name {
				continue
			}
			to := m.Node
			if i := slices.IndexFunc(p.Moves, func(x place.Move) bool { return x.Member == m.Name }); i >= 0 && p.Moves[i].To != "" {
				to, moved = p.Moves[i].To, true
			}
			want = append(want, to)
		}
		if !moved || r.Each != (field.Each{}) {
			continue
		}
		c := Of(now, r.Name)
		some := slices.Clone(c.Pins)
		for _, to := range want {
			if count(some, to) < count(want, to) && slices.ContainsFunc(p.Moves, func(x place.Move) bool { return x.Role == r.Name && x.To == to }) {
				some = append(some, to)
			}
		}
		for _, pins := range [][]field.NodeName{c.Pins, some, want} { // the fewest pins that do it
			c.Pins = pins
			if stand, unplaced := Standings(c.On(now), live, r.Name); unplaced == "" && same(nodesOf(stand), want) {
				break
			}
		}
		p.Changes = append(p.Changes, c)
		now = c.On(now)
	}
	p.name(plan.Make(now, live).Removes)
	return p
}

// name gives the moves to those members that will in fact leave: of several on one node the plan chooses.
func (p *Proposal) name(removes []plan.Remove) {
	left := slices.Clone(removes)
	for i := range p.Moves {
		m := &p.Moves[i]
		if j := slices.IndexFunc(left, func(r plan.Remove) bool { return r.Role == m.Role && r.Node == m.From }); j >= 0 {
			m.Member = left[j].Member
			left = slices.Delete(left, j, j+1)
		}
	}
}

// WhyHere says why a member of the draft stands where it does.
func WhyHere(f *field.Field, live plan.Live, member field.MemberName) []string {
	all, _ := everybody(f, live)
	i := slices.IndexFunc(all, func(m place.Member) bool { return m.Name == member })
	if i < 0 {
		return nil
	}
	m := all[i]
	pins := count(f.Place[m.Role], m.Node)
	earlier := 0
	for _, other := range all[:i] {
		if other.Role == m.Role && other.Node == m.Node {
			earlier++
		}
	}
	return place.NewSite(f, all).WhyHere(m, earlier < pins)
}
