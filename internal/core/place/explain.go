package place

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"lanternfield/internal/core/field"
)

// WhyHere says why a member that stands on the site stands where it does: what keeps it off other nodes, and what makes
// this one the best of the rest. The site is left as it was.
func (s *Site) WhyHere(m Member, pinned bool) []string {
	r, node := s.roles[m.Role], s.byName[m.Node]
	if _, known := s.byName[m.Node]; r == nil || !known {
		return nil
	}
	if pinned {
		return []string{fmt.Sprintf("it is pinned to %s by hand", m.Node)}
	}
	ports := m.Ports
	s.give(r, node, m)
	defer func() { m.Ports = ports; s.take(r, node, m) }()
	var said []string
	refused := map[string]int{}
	var free []int
	for i := range s.nodes {
		b := s.refuses(r, i)
		if b == 0 {
			free = append(free, i)
			continue
		}
		reason, _ := s.word(r, b&-b, i)
		refused[reason]++
	}
	for _, reason := range slices.SortedFunc(maps.Keys(refused), func(a, b string) int {
		return cmp.Or(cmp.Compare(refused[b], refused[a]), cmp.Compare(a, b))
	}) {
		said = append(said, fmt.Sprintf("%d of %d nodes: %s", refused[reason], len(s.nodes), reason))
	}
	if !slices.Contains(free, node) {
		return append(said, fmt.Sprintf("%s itself may not hold it any more; it stays as long as it runs", m.Node))
	}
	if len(free) == 1 {
		return append(said, fmt.Sprintf("%s is the only one left", m.Node))
	}
	best := slices.MinFunc(free, func(a, b int) int {
		switch {
		case s.better(r, a, b):
			return -1
		case s.better(r, b, a):
			return 1
		}
		return 0
	})
	return append(said, s.bestOf(r, node, best, free)...)
}

// bestOf says what tells the node from the others that could hold the member.
func (s *Site) bestOf(r *roleSite, node, best int, free []int) []string {
	n := &s.nodes[node]
	zone := func(i int) int { return r.perZone[s.nodes[i].zone] }
	var said []string
	if r.role.Spread == field.SpreadZone && len(s.zones) > 1 {
		mine, least := zone(node), zone(best)
		if mine > least {
			return []string{fmt.Sprintf("%s holds %d others of %s, and %s only %d: %s would be better now; p proposes it", n.node.Zone, mine, r.role.Name,
				s.nodes[best].node.Zone, least, s.nodes[best].node.Name)}
		}
		if slices.ContainsFunc(free, func(i int) bool { return zone(i) > mine }) {
			said = append(said, fmt.Sprintf("no zone holds fewer others of %s than %s (%d)", r.role.Name, n.node.Zone, mine))
		}
		free = slices.DeleteFunc(slices.Clone(free), func(i int) bool { return zone(i) > mine })
	}
	if r.role.Spread != field.SpreadNone {
		mine := r.perNode[node]
		if r.perNode[best] < mine {
			return append(said, fmt.Sprintf("it holds %d others of %s, and %s holds %d", mine, r.role.Name, s.nodes[best].node.Name, r.perNode[best]))
		}
		if slices.ContainsFunc(free, func(i int) bool { return r.perNode[i] > mine }) {
			said = append(said, fmt.Sprintf("no node there holds fewer others of %s (%d)", r.role.Name, mine))
		}
		free = slices.DeleteFunc(slices.Clone(free), func(i int) bool { return r.perNode[i] > mine })
	}
	share := n.share()
	switch {
	case len(free) == 1:
		said = append(said, "no other node there is left")
	case slices.ContainsFunc(free, func(i int) bool { return s.nodes[i].share() < share }):
		said = append(said, fmt.Sprintf("others are less used by now than its %d %%; it stays where it is", share))
	case slices.ContainsFunc(free, func(i int) bool { return s.nodes[i].share() > share }):
		said = append(said, fmt.Sprintf("it is the least used of them (%d %%)", share))
	default:
		said = append(said, "of nodes that are alike, the first in the file")
	}
	return said
}

// Move is a member that would stand better elsewhere.
type Move struct {
	Member   field.MemberName
	Role     field.RoleName
	From, To field.NodeName // To is empty where it fits nowhere any more
	Why      string
}

// Propose looks for the few moves by which members that stand would stand better: off nodes that may not hold them any
// more, and out of zones and off nodes that hold more than their share. Pinned members stay. It changes the site.
func (s *Site) Propose(standing []Member, pinned map[field.MemberName]bool) []Move {
	f := &filling{Site: s}
	byRole := map[field.RoleName]*group{}
	for _, m := range standing {
		r := s.roles[m.Role]
		node, ok := s.byName[m.Node]
		if r == nil || !ok {
			continue
		}
		g := byRole[m.Role]
		if g == nil {
			g = &group{roleSite: r, order: len(f.groups)}
			byRole[m.Role] = g
			f.groups = append(f.groups, g)
		}
		g.names, g.at, g.given = append(g.names, m.Name), append(g.at, node), append(g.given, m.Ports)
		pin := field.NodeName("")
		if pinned[m.Name] {
			pin = m.Node
		}
		g.pins = append(g.pins, pin)
	}
	f.turn = f.inTurn(f.groups)
	before := f.save()
	why := map[field.MemberName]string{}
	for _, g := range slices.Backward(f.turn) { // off the nodes that may not hold them, dependants before whom they depend on
		for i, at := range g.at {
			if g.pin(i) != "" {
				continue
			}
			f.lift(g, i)
			if b := f.refuses(g.roleSite, at); b != 0 {
				reason, detail := f.word(g.roleSite, b&-b, at)
				why[g.names[i]] = fmt.Sprintf("%s may not hold it: %s%s", f.nodes[at].node.Name, reason, detail)
				continue
			}
			g.at[i] = at
			f.take(g.roleSite, at, Member{Name: g.names[i], Ports: g.given[i]})
		}
	}
	for _, g := range f.turn {
		f.spread(g)
	}
	if f.missing() > 0 {
		f.makeRoom()
	}
	f.improve()
	var moves []Move
	for k, g := range f.groups {
		for i, from := range before[k].at {
			to := g.at[i]
			if to == from {
				continue
			}
			m := Move{Member: g.names[i], Role: g.role.Name, From: f.nodes[from].node.Name, Why: why[g.names[i]]}
			if to != nowhere {
				m.To = f.nodes[to].node.Name
			}
			if m.Why == "" {
				m.Why = f.gain(g, before[k].at, from, to)
			}
			moves = append(moves, m)
		}
	}
	return moves
}

// gain says what is better about a node than about the one before.
func (f *filling) gain(g *group, before []int, from, to int) string {
	if to == nowhere {
		return "it fits nowhere any more"
	}
	count := func(is func(node int) bool) int {
		n := 0
		for _, at := range before {
			if is(at) {
				n++
			}
		}
		return n
	}
	a, b := &f.nodes[from], &f.nodes[to]
	if a.zone != b.zone && g.role.Spread == field.SpreadZone {
		return fmt.Sprintf("%s holds %d of %s, and %s %d", a.node.Zone, count(func(n int) bool { return f.nodes[n].zone == a.zone }), g.role.Name,
			b.node.Zone, count(func(n int) bool { return f.nodes[n].zone == b.zone }))
	}
	if x, y := count(func(n int) bool { return n == from }), count(func(n int) bool { return n == to }); x > y+1 {
		return fmt.Sprintf("%s holds %d of %s, and %s %d", a.node.Name, x, g.role.Name, b.node.Name, y)
	}
	return "makes room for another one"
}

// Sentence says a move for people.
func (m Move) Sentence() string {
	if m.To == "" {
		return fmt.Sprintf("%s leaves %s: %s, and there is no other", m.Member, m.From, m.Why)
	}
	return fmt.Sprintf("%s moves from %s to %s: %s", m.Member, m.From, m.To, strings.TrimSpace(m.Why))
}
