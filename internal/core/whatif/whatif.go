// Package whatif says what would go dark, and what would stop working for whom, if something failed: a member, a node, a
// zone, or any of them together.
package whatif

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
	"lanternfield/internal/core/quorum"
)

// Member is a member as far as it matters here.
type Member struct {
	Name  field.MemberName
	Role  field.RoleName
	Node  field.NodeName
	Zone  field.ZoneName
	Works bool // does its work now; in a draft, would
	Votes bool // casts a vote, where the members of its role vote
}

// Fault is what fails. What is left empty does not matter; all members that fit the rest fail.
type Fault struct {
	Member field.MemberName
	Role   field.RoleName
	Node   field.NodeName
	Zone   field.ZoneName
}

// Hits tells whether a member fails with it.
func (f Fault) Hits(m Member) bool {
	return (f.Member == "" || f.Member == m.Name) && (f.Role == "" || f.Role == m.Role) && (f.Node == "" || f.Node == m.Node) &&
		(f.Zone == "" || f.Zone == m.Zone)
}

// Loss is what comes of a fault.
type Loss struct {
	Dark  map[field.MemberName]bool // who fails
	Roles []RoleLoss                // whom it concerns, the worst first
}

// RoleLoss is what a fault costs one role.
type RoleLoss struct {
	Role    field.RoleName
	Votes   bool
	Left    int            // members, or votes, that are left
	Of      int            // members, or votes, that there are
	Needed  int            // votes that are needed, or 1
	Stopped bool           // it cannot do its work by itself
	Already bool           // nor could it before
	Through field.RoleName // that it calls and that has stopped, so that it cannot do its work either
}

// Losses is how many more of the role's members may be lost.
func (l RoleLoss) Losses() int { return l.Left - l.Needed }

// Fail finds what a fault leads to. What a role calls it needs to do its work, and so on along the calls; what it only
// knows, or only waits for at its start, it does not.
func Fail(f *field.Field, members []Member, faults ...Fault) Loss {
	loss := Loss{Dark: map[field.MemberName]bool{}}
	type count struct{ all, works, left int }
	counts := map[field.RoleName]*count{}
	for i := range f.Roles {
		counts[f.Roles[i].Name] = &count{}
	}
	for _, m := range members {
		c := counts[m.Role]
		if c == nil {
			continue
		}
		hit := slices.ContainsFunc(faults, func(f Fault) bool { return f.Hits(m) })
		if hit {
			loss.Dark[m.Name] = true
		}
		if r := f.Role(m.Role); r.Votes && !m.Votes {
			continue
		}
		c.all++
		if m.Works {
			c.works++
			if !hit {
				c.left++
			}
		}
	}
	stopped := map[field.RoleName]bool{}
	concerned := map[field.RoleName]*RoleLoss{}
	for _, r := range f.Roles {
		c := counts[r.Name]
		l := &RoleLoss{Role: r.Name, Votes: r.Votes, Left: c.left, Of: c.all, Needed: 1}
		if r.Votes {
			l.Needed = quorum.Needed(c.all)
		}
		if c.all > 0 && c.left < l.Needed {
			l.Stopped, stopped[r.Name] = true, true
			l.Already = c.works < l.Needed
		}
		if c.left < c.works || l.Stopped {
			concerned[r.Name] = l
		}
	}
	for grown := true; grown; { // along the calls
		grown = false
		for _, r := range f.Roles {
			if stopped[r.Name] || counts[r.Name].all == 0 {
				continue
			}
			for _, called := range slices.Sorted(maps.Values(r.Calls)) {
				if !stopped[called] {
					continue
				}
				if concerned[r.Name] == nil {
					c := counts[r.Name]
					concerned[r.Name] = &RoleLoss{Role: r.Name, Votes: r.Votes, Left: c.left, Of: c.all, Needed: 1}
				}
				concerned[r.Name].Through, stopped[r.Name], grown = called, true, true
				break
			}
		}
	}
	for _, r := range f.Roles {
		if l := concerned[r.Name]; l != nil {
			loss.Roles = append(loss.Roles, *l)
		}
	}
	slices.SortStableFunc(loss.Roles, func(a, b RoleLoss) int { return rank(a) - rank(b) })
	return loss
}

// rank orders what a fault costs: what stops by itself, what stops through others, what has no reserve left, the rest.
func rank(l RoleLoss) int {
	switch {
	case l.Stopped && l.Votes:
		return 0
	case l.Stopped:
		return 1
	case l.Through != "":
		return 2
	case l.Losses() == 0:
		return 3
	}
	return 4
}

// Sentence words the loss, the worst first.
func (l Loss) Sentence() string {
	if len(l.Dark) == 0 {
		return "Nothing stands here that could go dark."
	}
	parts := []string{counted(len(l.Dark), "lantern") + " would go dark"}
	harmless := true
	for _, r := range l.Roles {
		switch {
		case r.Already:
			parts = append(parts, fmt.Sprintf("%s does not work as it is", r.Role))
		case r.Stopped && r.Votes:
			parts = append(parts, fmt.Sprintf("%s would hold %d of %d votes and needs %d: writes stop", r.Role, r.Left, r.Of, r.Needed))
		case r.Stopped:
			parts = append(parts, fmt.Sprintf("%s would have nobody left to do its work", r.Role))
		case r.Through != "":
			parts = append(parts, fmt.Sprintf("%s could not do its work without %s", r.Role, r.Through))
		case r.Votes && r.Losses() == 0:
			parts = append(parts, fmt.Sprintf("%s would hold %d of %d votes, one more loss stops writes", r.Role, r.Left, r.Of))
		default:
			parts = append(parts, fmt.Sprintf("%s goes on with %d of %d", r.Role, r.Left, r.Of))
			continue
		}
		harmless = false
	}
	if harmless && len(l.Roles) == 0 {
		parts = append(parts, "nothing would be missed")
	}
	return strings.Join(parts, " · ")
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Case is a fault with what it leads to.
type Case struct {
	Faults []Fault
	Loss   Loss
}

// Hurts is how bad a loss is: what stops weighs most, then what has no reserve left.
func (l Loss) Hurts() int {
	weight := 0
	for _, r := range l.Roles {
		if !r.Already {
			weight += []int{1000, 300, 100, 10, 1}[rank(r)]
		}
	}
	return weight
}

// Stops names the roles that would stop, those that stop by themselves first.
func (l Loss) Stops() string {
	var names []string
	for _, r := range l.Roles {
		if rank(r) <= 2 && !r.Already {
			names = append(names, string(r.Role))
		}
	}
	return strings.Join(names, ", ")
}

// Singles lists every single failure of a node or a zone that would stop something, the worst first.
func Singles(f *field.Field, members []Member) []Case {
	var cases []Case
	try := func(fault Fault) {
		if l := Fail(f, members, fault); l.Hurts() >= 100 {
			cases = append(cases, Case{[]Fault{fault}, l})
		}
	}
	if zones := f.Zones(); len(zones) > 1 {
		for _, z := range zones {
			try(Fault{Zone: z})
		}
	}
	for _, n := range f.Nodes {
		try(Fault{Node: n.Name})
	}
	slices.SortStableFunc(cases, func(a, b Case) int { return b.Loss.Hurts() - a.Loss.Hurts() })
	return cases
}
