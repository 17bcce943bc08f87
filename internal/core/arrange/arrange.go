// Package arrange finds the smallest edit of a draft by which its members come to stand as a person arranged them: how
// many there are, and which of them are pinned to a node.
package arrange

import (
	"fmt"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/plan"
)

// Change is what is to be written of one role: its number of members, and its pins. Both are the whole new value.
type Change struct {
	Role    field.RoleName
	Members int
	Pins    []field.NodeName
	Spread  field.Spread // another way of spreading; nothing when it stays
}

// Of gives the change that changes nothing.
func Of(f *field.Field, role field.RoleName) Change {
	c := Change{Role: role, Pins: slices.Clone(f.Place[role])}
	if r := f.Role(role); r != nil {
		c.Members = r.Members
	}
	return c
}

// On gives the draft with the change made. The draft itself is left as it is.
func (c Change) On(f *field.Field) *field.Field {
	out := *f
	out.Roles = slices.Clone(f.Roles)
	out.Place = map[field.RoleName][]field.NodeName{}
	for name, pins := range f.Place {
		if name != c.Role {
			out.Place[name] = pins
		}
	}
	if len(c.Pins) > 0 {
		out.Place[c.Role] = c.Pins
	}
	if r := out.Role(c.Role); r != nil {
		r.Members = c.Members
		if c.Spread != "" {
			r.Spread = c.Spread
		}
	}
	field.Resolve(&out)
	return &out
}

// Count gives the change by which the role has that many members; of more pins than that the last ones go.
func Count(f *field.Field, role field.RoleName, members int) (Change, error) {
	c, err := begin(f, role)
	if err != nil {
		return c, err
	}
	if members < 0 {
		return c, fmt.Errorf("%s has no members in the draft already", role)
	}
	c.Members = members
	c.Pins = c.Pins[:min(len(c.Pins), members)]
	return c, nil
}

// Standing is where a member of the draft stands: one that lives and stays, or one that would be added.
type Standing struct {
	Member field.MemberName
	Node   field.NodeName
}

// Standings lists the members that a role has in the draft, and why others could not be placed.
func Standings(f *field.Field, live plan.Live, role field.RoleName) (stand []Standing, unplaced string) {
	p := plan.Make(f, live)
	leaving := map[field.MemberName]bool{}
	for _, r := range p.Removes {
		leaving[r.Member] = true
	}
	for _, m := range live.Members {
		if m.Role == role && !leaving[m.Name] {
			stand = append(stand, Standing{m.Name, m.Node})
		}
	}
	for _, a := range p.Adds {
		if a.Role == role {
			stand = append(stand, Standing{a.Name, a.Node})
		}
	}
	for _, u := range p.Unplaced {
		if u.Role == role {
			unplaced = u.Why
		}
	}
	return stand, unplaced
}

// Add gives the change by which the role has one more member, on that node; on any when it is empty.
func Add(f *field.Field, live plan.Live, role field.RoleName, node field.NodeName) (Change, error) {
	c, err := begin(f, role)
	if err != nil {
		return c, err
	}
	c.Members++
	if node == "" {
		return c, nil
	}
	stand, _ := Standings(f, live, role)
	want := append(nodesOf(stand), node)
	return c.pinned(f, live, want, node, "")
}

// Remove gives the change by which that member is one of the draft no more, and everybody else stays.
func Remove(f *field.Field, live plan.Live, role field.RoleName, member field.MemberName) (Change, error) {
	c, err := begin(f, role)
	if err != nil {
		return c, err
	}
	stand, _ := Standings(f, live, role)
	i := slices.IndexFunc(stand, func(s Standing) bool { return s.Member == member })
	if i < 0 {
		return c, fmt.Errorf("the draft has no %s", member)
	}
	from := stand[i].Node
	c.Members--
	c.Pins = without(c.Pins, from, count(nodesOf(stand), from)-1)
	return c.pinned(f, live, nodesOf(slices.Delete(stand, i, i+1)), "", member)
}

// Move gives the change by which that member stands on another node. A member that lives is replaced: a new one joins
// there, then the old one leaves.
func Move(f *field.Field, live plan.Live, role field.RoleName, member field.MemberName, to field.NodeName) (Change, error) {
	c, err := begin(f, role)
	if err != nil {
		return c, err
	}
	stand, _ := Standings(f, live, role)
	i := slices.IndexFunc(stand, func(s Standing) bool { return s.Member == member })
	switch {
	case i < 0:
		return c, fmt.Errorf("the draft has no %s", member)
	case stand[i].Node == to:
		return c, fmt.Errorf("%s is on %s already", member, to)
	}
	from := stand[i].Node
	c.Pins = without(c.Pins, from, count(nodesOf(stand), from)-1)
	others := nodesOf(slices.Delete(stand, i, i+1))
	return c.pinned(f, live, append(others, to), to, member)
}

// Pin fixes a member to the node that it stands on, or, when it is fixed already, lets it go.
func Pin(f *field.Field, live plan.Live, role field.RoleName, member field.MemberName) (c Change, pinned bool, err error) {
	if c, err = begin(f, role); err != nil {
		return c, false, err
	}
	stand, _ := Standings(f, live, role)
	i := slices.IndexFunc(stand, func(s Standing) bool { return s.Member == member })
	if i < 0 {
		return c, false, fmt.Errorf("the draft has no %s", member)
	}
	at := stand[i].Node
	if n := count(c.Pins, at); n > 0 && n >= count(nodesOf(stand[:i+1]), at) {
		c.Pins = without(c.Pins, at, n-1)
		return c, false, nil
	}
	c.Pins = append(c.Pins, at)
	return c, true, nil
}

func begin(f *field.Field, role field.RoleName) (Change, error) {
	if f.Role(role) == nil {
		return Change{}, fmt.Errorf("the draft has no role %s", role)
	}
	if each := f.Role(role).Each; each != (field.Each{}) {
		return Change{}, fmt.Errorf("%s has %s, so that its members are not added, moved or pinned one by one; change what its members or its where say", role, each)
	}
	return Of(f, role), nil
}

// pinned finds the fewest pins by which the role stands on the wanted nodes: those that are there, one more, all. A
// member that must not be among them is named too.
func (c Change) pinned(f *field.Field, live plan.Live, want []field.NodeName, node field.NodeName, not field.MemberName) (Change, error) {
	candidates := [][]field.NodeName{c.Pins}
	if node != "" {
		more := slices.Clone(c.Pins)
		for count(more, node) < count(want, node) {
			more = append(more, node)
		}
		candidates = append(candidates, more)
	}
	candidates = append(candidates, c.needed(f, live, candidates[len(candidates)-1], want), want)
	why := ""
	for _, pins := range candidates {
		try := c
		try.Pins = pins
		stand, unplaced := Standings(try.On(f), live, c.Role)
		why = unplaced
		gone := !slices.ContainsFunc(stand, func(s Standing) bool { return s.Member == not && isLive(live, not) })
		if unplaced == "" && gone && same(nodesOf(stand), want) {
			return try, nil
		}
	}
	switch {
	case why != "" && node != "":
		return c, fmt.Errorf("%s cannot hold one more of %s: %s", node, c.Role, strings.TrimPrefix(why, "it is pinned to "+string(node)+": "))
	case why != "":
		return c, fmt.Errorf("%s cannot stand like that: %s", c.Role, why)
	}
	return c, fmt.Errorf("no edit of the draft makes %s stand like that; change its count or where in the file", c.Role)
}

// mostNeeded is how many pins are tried one after the other before all of a role are pinned.
const mostNeeded = 40

// needed adds pins as long as somebody stands elsewhere, or leaves, who should stay: for those only.
func (c Change) needed(f *field.Field, live plan.Live, pins, want []field.NodeName) []field.NodeName {
	for range mostNeeded {
		try := c
		try.Pins = pins
		stand, _ := Standings(try.On(f), live, c.Role)
		at, missing := nodesOf(stand), field.NodeName("")
		for _, n := range want {
			if count(at, n) < count(want, n) && count(pins, n) < count(want, n) {
				missing = n
				break
			}
		}
		if missing == "" {
			break
		}
		next := slices.Clone(pins)
		for count(next, missing) < count(want, missing) {
			next = append(next, missing)
		}
		pins = next
	}
	return pins
}

func isLive(live plan.Live, name field.MemberName) bool {
	return slices.ContainsFunc(live.Members, func(m plan.Member) bool { return m.Name == name })
}

func nodesOf(stand []Standing) []field.NodeName {
	nodes := make([]field.NodeName, len(stand))
	for i, s := range stand {
		nodes[i] = s.Node
	}
	return nodes
}

func count(nodes []field.NodeName, of field.NodeName) int {
	n := 0
	for _, x := range nodes {
		if x == of {
			n++
		}
	}
	return n
}

// without keeps at most that many mentions of a node, the first ones.
func without(nodes []field.NodeName, of field.NodeName, most int) []field.NodeName {
	var out []field.NodeName
	for _, n := range nodes {
		if n == of {
			if most <= 0 {
				continue
			}
			most--
		}
		out = append(out, n)
	}
	return out
}

func same(a, b []field.NodeName) bool {
	a, b = slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b))
	return slices.Equal(a, b)
}
