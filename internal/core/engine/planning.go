package engine

import (
	"maps"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/order"
	"lanternfield/internal/core/resolve"
	"lanternfield/internal/core/state"
)

// planMembers plans members that are missing and sends away those that are too many.
func (w *pass) planMembers() []state.Fact {
	if w.Planned.Valid && w.Planned.Census == w.Census {
		return nil
	}
	var facts []state.Fact
	p := resolve.Carried(w.State).Plan
	defer func() {
		if len(facts) == 0 {
			w.Planned = state.PlanMemo{Census: w.Census, Valid: true, Unplaced: len(p.Unplaced) > 0}
		}
	}()
	next := map[field.RoleName]int{}
	for _, a := range p.Adds {
		role := w.Field.Role(a.Role)
		r := w.RoleOf(a.Role)
		if r.Founded && len(w.active(a.Role)) == 0 {
			continue // the old cluster ends first: there is nothing left of it to join
		}
		if before := w.Members[a.Name]; before != nil && before.Kept {
			facts = append(facts, state.MemberPlanned{Member: a, Number: before.Number, Returns: true})
			continue
		}
		next[a.Role] = max(next[a.Role], r.Highest) + 1
		facts = append(facts, state.MemberPlanned{Member: a, Number: next[a.Role],
			Founding: !r.Founded && role.Founds(len(w.active(a.Role))+next[a.Role]-r.Highest-1)})
	}
	for _, r := range p.Removes {
		if m := w.Members[r.Member]; m.Ordered.Revision == 0 && !w.tried(m) {
			facts = append(facts, state.MemberLeaving{Member: r.Member, Why: r.Why}, state.MemberGone{Member: r.Member, Kept: m.Kept, Bytes: m.Bytes})
			continue
		}
		facts = append(facts, state.MemberLeaving{Member: r.Member, Why: r.Why})
	}
	return facts
}

// tried tells whether a member's cluster may know it already.
func (w *pass) tried(m *state.Member) bool {
	op := w.RoleOf(m.Role).Op
	return m.Unsettled != "" || m.Admitted && !m.Founding || m.Steps[order.Join] > 0 || m.Listed || op != nil && op.Member == m.Name
}

// freezeFounders freezes the founders of a role whose gates have opened for the first time.
func (w *pass) freezeFounders() []state.Fact {
	for i := range w.Field.Roles {
		role := &w.Field.Roles[i]
		members := w.active(role.Name)
		if w.RoleOf(role.Name).Founded || len(members) == 0 || !w.open(role) || !w.allThere(role, members) {
			continue
		}
		var founders []field.MemberName
		back := false
		for _, m := range members {
			if m.Founding && !m.Halted && w.IsThere(m) {
				founders = append(founders, m.Name)
			}
			back = back || m.Joined // with data that was kept: there is nothing to found
		}
		if len(founders) == 0 && !back {
			continue
		}
		return []state.Fact{state.RoleFounded{Role: role.Name, Founders: founders, Steps: len(role.Program.Found)}}
	}
	return nil
}

// deleteKeptData has data deleted that was kept of members, where their role keeps none any more.
func (w *pass) deleteKeptData() []state.Fact {
	var due []*state.Member
	for _, m := range w.Members {
		if m.Phase == state.Gone && m.Kept && !m.Keeps && w.Field.Node(m.Node) != nil {
			due = append(due, m)
		}
	}
	slices.SortFunc(due, func(a, b *state.Member) int { return strings.Compare(string(a.Name), string(b.Name)) })
	var facts []state.Fact
	for _, m := range due {
		facts = append(facts, w.order(m, order.Gone, "its data is no longer kept"))
	}
	return facts
}

// dissolveClusters forgets clusters of which nothing is left.
func (w *pass) dissolveClusters() []state.Fact {
	var facts []state.Fact
	for _, name := range slices.Sorted(maps.Keys(w.Roles)) {
		if w.Roles[name].Founded && len(w.members[name]) == 0 {
			facts = append(facts, state.RoleDissolved{Role: name})
		}
	}
	return facts
}
