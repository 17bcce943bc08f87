package place

import (
	"cmp"
	"slices"
)

// makeRoom seats members that have no node by having others move, who may have others move in turn. Members of one role
// on one node are alike, so that what is tried is roles on nodes, not members.
func (f *filling) makeRoom() {
	m := &mover{filling: f, left: mostLooks, on: make([][]seat, len(f.nodes)), locked: make([]int, len(f.nodes))}
	for _, g := range f.turn {
		for i, at := range g.at {
			if at != nowhere {
				m.on[at] = append(m.on[at], seat{g, i})
			}
		}
	}
	for depth := 1; depth <= mostChained; depth++ {
		for _, g := range f.turn {
			for i := range g.at {
				if g.at[i] != nowhere || g.pin(i) != "" {
					continue
				}
				m.unplaceable = map[*group]int{}
				if !m.settle(g, i, depth) {
					break // its like fit nowhere either
				}
			}
		}
	}
}

// mostChained is how many members move at the most, one after the other, to make room for one.
const mostChained = 5

// seat is a member of a group.
type seat struct {
	*group
	i int
}

type mover struct {
	*filling
	left        int
	on          [][]seat       // who stands on each node, of those that are being placed
	locked      []int          // nodes that are being cleared: who has left may have to come back
	unplaceable map[*group]int // down to which depth one of a role could not be settled, everybody else standing as they do
}

func (m *mover) assign(g *group, i, node int) {
	m.put(g, i, node)
	m.on[node] = append(m.on[node], seat{g, i})
}

func (m *mover) unassign(g *group, i int) {
	node := g.at[i]
	m.lift(g, i)
	k := slices.Index(m.on[node], seat{g, i})
	m.on[node] = slices.Delete(m.on[node], k, k+1)
}

// settle gives a member a node, having up to depth others move one after the other. Where it cannot, nobody has come to a
// locked node, so that those who left one can come back.
func (m *mover) settle(g *group, i, depth int) bool {
	best, hosts := nowhere, []int(nil)
	m.left -= len(m.nodes)
	for n := range m.nodes {
		if m.locked[n] > 0 {
			continue
		}
		switch b := m.refuses(g.roleSite, n); {
		case b == 0 && (best == nowhere || m.better(g.roleSite, n, best)):
			best = n
		case b != 0 && b&(badOut|badPlatform|badWhere) == 0:
			hosts = append(hosts, n)
		}
	}
	if best != nowhere {
		m.assign(g, i, best)
		return true
	}
	if depth <= 0 || m.left < 0 {
		return false
	}
	lack := make([]float64, len(m.nodes))
	for _, n := range hosts {
		lack[n] = m.lacks(g, n)
	}
	slices.SortStableFunc(hosts, func(a, b int) int { return cmp.Compare(lack[a], lack[b]) })
	for _, n := range hosts {
		if m.left < 0 {
			return false
		}
		if m.clearFor(g, i, n, depth) {
			return true
		}
	}
	return false
}

// lacks is how much of a node's share a member is short of there, over all dimensions.
func (m *mover) lacks(g *group, node int) float64 {
	n := &m.nodes[node]
	short := func(taken, used, offered float64) float64 {
		if offered == 0 {
			return 0
		}
		return max(0, taken+used-offered) / offered
	}
	return short(g.taken.CPU, n.used.CPU, n.offered.CPU) + short(float64(g.taken.Memory), float64(n.used.Memory), float64(n.offered.Memory)) +
		short(float64(g.taken.Disk), float64(n.used.Disk), float64(n.offered.Disk))
}

// clearFor seats a member on a node by having one or two of others leave it.
func (m *mover) clearFor(g *group, i, node, depth int) bool {
	first := m.kinds(g, node, nil)
	for k, a := range first {
		m.left--
		m.unassign(a.group, a.i)
		if !m.leans(a.group, node, 0) {
			if m.refuses(g.roleSite, node) == 0 {
				if m.inStead(g, i, node, depth, a) {
					return true
				}
			} else if depth > 1 {
				for _, b := range m.kinds(g, node, first[:k]) {
					m.left--
					m.unassign(b.group, b.i)
					done := !m.leans(b.group, node, 0) && m.refuses(g.roleSite, node) == 0 && m.inStead(g, i, node, depth, a, b)
					if done {
						return true
					}
					m.assign(b.group, b.i, node)
				}
			}
		}
		m.assign(a.group, a.i, node)
	}
	return depth > 2 && m.clearMany(g, i, node, depth)
}

// mostCleared is how many may leave a node together.
const mostCleared = 6

// clearMany has several leave a node together, the largest first, until the member fits.
func (m *mover) clearMany(g *group, i, node, depth int) bool {
	n := &m.nodes[node]
	share := func(s seat) float64 {
		part := func(taken, offered float64) float64 {
			if offered == 0 {
				return 0
			}
			return taken / offered
		}
		return part(s.taken.CPU, n.offered.CPU) + part(float64(s.taken.Memory), float64(n.offered.Memory)) + part(float64(s.taken.Disk), float64(n.offered.Disk))
	}
	movable := slices.DeleteFunc(slices.Clone(m.on[node]), func(s seat) bool { return m.stays(g, s) })
	slices.SortStableFunc(movable, func(a, b seat) int { return cmp.Compare(share(b), share(a)) })
	limit, up := share(seat{g, i}), []seat(nil)
	for _, s := range movable {
		if len(up) == mostCleared || m.refuses(g.roleSite, node) == 0 {
			break
		}
		if share(s) >= limit {
			continue // it would only change places with one as large
		}
		m.left--
		m.unassign(s.group, s.i)
		if up = append(up, s); m.leans(s.group, node, 0) {
			break
		}
	}
	if m.refuses(g.roleSite, node) == 0 && !slices.ContainsFunc(up, func(s seat) bool { return m.leans(s.group, node, 0) }) && m.inStead(g, i, node, depth, up...) {
		return true
	}
	for _, s := range up {
		m.assign(s.group, s.i, node)
	}
	return false
}

// stays tells that a member on a node cannot make room there for one of a group.
func (m *mover) stays(g *group, s seat) bool {
	return s.group == g || s.companion || s.host != nil || s.pin(s.i) != ""
}

// kinds gives one member of each role that may leave a node, without some roles that have been tried.
func (m *mover) kinds(g *group, node int, without []seat) []seat {
	var kinds []seat
	for _, s := range m.on[node] {
		if m.stays(g, s) || slices.ContainsFunc(kinds, func(k seat) bool { return k.group == s.group }) ||
			slices.ContainsFunc(without, func(k seat) bool { return k.group == s.group }) {
			continue
		}
		kinds = append(kinds, s)
	}
	return kinds
}

// inStead seats a member on a node that others have left, and those elsewhere. Where that cannot be, it undoes it all, but
// for the others, who are still off.
func (m *mover) inStead(g *group, i, node, depth int, others ...seat) bool {
	for _, o := range others {
		if failed, known := m.unplaceable[o.group]; known && failed >= depth-1 {
			return false
		}
	}
	m.assign(g, i, node)
	m.locked[node]++
	defer func() { m.locked[node]-- }()
	for k, o := range others {
		if m.settle(o.group, o.i, depth-1-k) {
			continue
		}
		if len(others) == 1 {
			m.unplaceable[o.group] = max(m.unplaceable[o.group], depth-1)
		}
		for _, back := range others[:k] {
			m.unassign(back.group, back.i)
		}
		m.unassign(g, i)
		return false
	}
	return true
}
